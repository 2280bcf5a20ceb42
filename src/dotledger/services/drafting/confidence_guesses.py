"""Where the confidence may stand, and on which scale."""

from __future__ import annotations

import math
from collections.abc import Collection, Iterator, Sequence
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from dotledger.services.drafting.box_drafting import toml_text
from dotledger.services.drafting.draft_evidence import (
    ATTRIBUTE_NAMES,
    BASE,
    UNSAFE_WORDS,
    Seen,
    evidence_for,
    meaning_of,
    name_words,
)
from dotledger.services.drafting.group_fields import GroupFields, Pooled, scalars_of
from dotledger.services.drafting.sample_sections import Path, fields_of, is_number, written

__all__ = ["ConfidenceGuess", "confidence_guesses", "words_toml"]

_MOST = 4
_NOT_THERE = ("absent", "none", "no", "not there", "not present", "nothing", "negative")
"""Words that can only mean that something is not there."""


class ConfidenceGuess(Struct, frozen=True, kw_only=True):
    """Where the confidence may stand, and on which scale, as an inline table of TOML."""

    toml: str = ""
    at: str = ""
    field: Path | None = None
    score: float = 0.0
    reasons: tuple[str, ...] = ()
    words: tuple[str, ...] = ()
    more: tuple[Path, ...] = ()
    values: tuple[Any, ...] = ()

    @property
    def reads(self) -> tuple[Any, ...]:
        """What it reads: the values, and how, wherever they stand."""
        return self.values, self.toml.partition(", ")[2]


_SCALES: Sequence[tuple[str, float, float]] = (
    ("fraction", 1.0, -0.2), ("percent", 100.0, -0.7), ("thousandths", 1000.0, -3.0),
    ("range", 10.0, -4.5), ("range", 5.0, -5.5), ("range", 255.0, -4.0), ("range", 10_000.0, -6.0),
    ("range", 65_535.0, -7.0),
)  # fmt: skip
"""Scales by their full value, with the logarithm of how usual they are."""
_ENOUGH = 3.0
"""A field of its own that is so likely the confidence leaves no room for one further out."""
_POSSIBLE = -2.0
"""A field that is less likely the confidence is not even asked about."""
_CAP = 30
"""Numbers of one service resemble each other: more than so many tell no more."""


def confidence_guesses(
    own: GroupFields, sides: Collection[Path], *, about_faces: bool
) -> list[ConfidenceGuess]:
    """Return where the confidence may stand and how it is written, the likeliest first.

    `sides` are the fields that the likeliest box takes.
    """
    free = [path for path in own.fields if path not in sides]
    found = [guess for path in free for guess in _confidence_at(own, path)]
    numeric = {one.field for one in found if one.score > -0.5}
    if len(numeric) == 1 and not about_faces:
        found = [
            _scored(one, BASE["only one candidate"]) if one.field in numeric else one
            for one in found
        ]
    if not any(one.score > _ENOUGH for one in found):
        found += _outer_confidences(own)
    good = sorted((one for one in found if one.score > _POSSIBLE), key=lambda one: -one.score)
    likely = any(one.score > -0.5 for one in good)
    return [*good[:_MOST], ConfidenceGuess(score=BASE["no confidence"] if likely else 0.0)]


def _scored(guess: ConfidenceGuess, more: float) -> ConfidenceGuess:
    return replace(guess, score=guess.score + more)


def _confidence_at(own: GroupFields, path: Path) -> Iterator[ConfidenceGuess]:
    seen = own.seen(path)
    if not seen.values:
        return
    named_above = path[-2] if len(path) > 1 else ""
    pooled = own.pooled.get(seen.plain, Pooled()) if path else Pooled()
    score, reasons = evidence_for("confidence", seen)
    score += BASE["in several sections"] if len(pooled.sections) > 1 else 0.0
    score += 2.0 if seen.plain in ("value", "amount") and _for_confidence(named_above) else 0.0
    score -= 0.3 * max(len(path) - 1, 0)
    if any(name_words(step) & ATTRIBUTE_NAMES for step in path[:-1]):
        score += BASE["of a trait"]
    if seen.all_amounts:
        top = _out_of(own, path)
        for toml, prior in _scales_of(seen, own.at(path), pooled.amounts, top):
            more = (top[0],) if top and "range" in toml else ()
            yield ConfidenceGuess(
                toml=toml, at=own.at(path), field=path, score=score + prior,
                reasons=tuple(reasons), more=more, values=tuple(own.fields[path]),
            )  # fmt: skip
    elif all(isinstance(v, bool) for v in seen.values):
        toml = f'{{ at = {toml_text(own.at(path))}, scale = "yes-no" }}'
        yield ConfidenceGuess(
            toml=toml, at=own.at(path), field=path, score=score, reasons=tuple(reasons),
            values=tuple(own.fields[path]),
        )  # fmt: skip
    elif seen.texts:
        yield from _in_words(own, path, seen, score, reasons)


def _for_confidence(name: object) -> bool:
    """Tell whether a name is one for confidences, or may be one."""
    score, _ = evidence_for("confidence", Seen(str(name), ()))
    return score > 0.5


def _out_of(own: GroupFields, path: Path) -> tuple[Path, float] | None:
    """Return the field that says what a full value is: ``{"value": 59, "out_of": 100}``."""
    for other, values in own.fields.items():
        names = name_words(other[-1]) if other else frozenset()
        beside = other[:-1] == path[:-1] and other != path
        tops = {v for v in values if is_number(v)}
        if beside and len(tops) == 1 and names & {"out", "max", "full", "scale", "total", "top"}:
            return other, float(next(iter(tops)))
    return None


def _scales_of(
    seen: Seen, at: str, pooled: Sequence[float], top: tuple[Path, float] | None
) -> Iterator[tuple[str, float]]:
    """Yield the scales on which numbers may be, with what speaks for each, against the best."""
    amounts = list(pooled) or seen.amounts
    texts = [v for v in seen.values if isinstance(v, str)]
    comma = ', decimal = ","' if any("," in text for text in texts) else ""
    low, high = min(amounts), max(amounts)
    place = toml_text(at)
    if top and top[1] >= high and low >= 0:
        yield f'{{ at = {place}, scale = "range", range = [0, {top[1]:g}]{comma} }}', 1.0
        return
    if low < 0:
        yield f'{{ at = {place}, scale = "log-odds"{comma} }}', 0.0
        return
    signs = any("%" in text for text in texts)
    count = min(len(amounts), _CAP)
    whole = all(a.is_integer() for a in amounts)
    fits = {}
    for scale, full, prior in _SCALES:
        if high > full or (signs and scale != "percent") or (whole and full == 1 and high > 1):
            continue
        if scale == "range" and full > 100 and not whole:
            continue
        named = (
            4.0 if scale == "percent" and ("percent" in seen.plain or seen.plain == "pct") else 0.0
        )
        fits[scale, full] = prior + named - count * math.log(full)
    best = max(fits.values(), default=0.0)
    for (scale, full), value in fits.items():
        if value > best - 8:
            more = f", range = [0, {full:g}]" if scale == "range" else ""
            said = f', scale = "{scale}"' if scale != "fraction" else ""
            yield f"{{ at = {place}{said}{more}{comma} }}", value - best


def _in_words(
    own: GroupFields, path: Path, seen: Seen, score: float, reasons: list[str]
) -> Iterator[ConfidenceGuess]:
    """Yield a scale of words: in the order a person says, or by what English words mean."""
    words = sorted(set(seen.texts))
    told = bool(own.words) and set(words) <= set(own.words)
    known = all(meaning_of(word) is not None for word in words)
    unsafe = any(w in " ".join(own.group.names) for w in UNSAFE_WORDS)
    few = len(words) <= 6 and (len(words) < len(seen.texts) or len(words) > 1)
    in_map = unsafe and own.group.through == "{}" and path == ()
    if not (told or known or (few and (in_map or _for_confidence(seen.name)))):
        return
    if told or not known:
        score += 4.0
    rising = sorted(words, key=lambda w: (meaning_of(w) or 0.0, w))
    ordered = list(own.words) if told else rising
    yield ConfidenceGuess(
        toml=words_toml(ordered, own.at(path)), at=own.at(path), field=path, score=score,
        reasons=tuple(reasons), words=() if told or known else tuple(words),
        values=tuple(own.fields[path]),
    )  # fmt: skip


def words_toml(ordered: Sequence[str], at: str) -> str:
    """Return ordered words with evenly spread numbers: only their order is known.

    Parameters
    ----------
    ordered : sequence of str
        From low to high.
    at : str
        Where the word stands.
    """
    steps = [
        f"[{toml_text(word)}, {(2 * place + 1) / (2 * len(ordered)):.3g}]"
        for place, word in enumerate(ordered)
    ]
    absent = [toml_text(word) for word in ordered if word.casefold() in _NOT_THERE]
    more = f", absent = [{', '.join(absent)}]" if absent else ""
    return f'{{ at = {toml_text(at)}, scale = "words", words = [{", ".join(steps)}]{more} }}'


def _outer_confidences(own: GroupFields) -> Iterator[ConfidenceGuess]:
    """Yield confidences of the entry around, for things that are listed under one label."""
    above = [entry.outer for entry in own.group.entries if entry.outer is not None]
    inside = any(step in ("[]", "{}") for step in own.group.path[:-1])
    if not inside or len(above) < len(own.group.entries):
        return
    around = fields_of([scalars_of(entry.value) for entry in above])
    for path, values in around.items():
        seen = Seen(str(path[-1]) if path else "", [v for v in values if v is not None])
        if path and seen.all_amounts and len(seen.values) == len(values):
            score, reasons = evidence_for("confidence", seen)
            at = f"^{written(path)}"
            for toml, prior in _scales_of(seen, at, (), None):
                yield ConfidenceGuess(
                    toml=toml, at=at, score=score + prior + 3 * BASE["outer"],
                    reasons=tuple(reasons), values=tuple(values),
                )  # fmt: skip
