"""Where the label may stand: in a field, a key, further out, or in a table of names."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from msgspec import Struct

from dotledger.services.drafting.box_drafting import toml_text
from dotledger.services.drafting.draft_evidence import (
    BASE,
    COLOUR_NAMES,
    FIELD_NAMES,
    LABEL_NAMES,
    Seen,
    evidence_for,
    is_colour,
)
from dotledger.services.drafting.group_fields import GroupFields, scalars_of
from dotledger.services.drafting.sample_sections import (
    Entry,
    Path,
    SectionGroup,
    fields_of,
    is_amount,
    plain_name,
    written,
)
from dotledger.services.drafting.section_shapes import language_list, languages_of

__all__ = ["LabelGuess", "label_guesses"]

_MOST = 3


class LabelGuess(Struct, frozen=True, kw_only=True):
    """Where the label may stand; `field` is what it takes of the entry's own fields."""

    at: str = ""
    always: str = ""
    split: str = ""
    lookup: str = ""
    field: Path | None = None
    texts: tuple[str, ...] = ()
    score: float = 0.0
    reasons: tuple[str, ...] = ()
    table: Path | None = None


def label_guesses(own: GroupFields) -> list[LabelGuess]:
    """Return where the label may stand, the likeliest first."""
    found = [*_own_labels(own), *_key_labels(own), *_outer_labels(own), *_table_labels(own)]
    good = sorted((one for one in found if one.score > -1), key=lambda one: -one.score)
    names = own.group.names
    word = names[-1] if names else "finding"
    always = LabelGuess(always=word.removesuffix("s") or word, score=BASE["always"])
    return [*good[:_MOST], always]


def _own_labels(own: GroupFields) -> Iterator[LabelGuess]:
    named = languages_of(own.fields)
    listed = language_list(own.fields)
    if named or listed:
        at = own.at(next(iter(named.values()))) if named else next(iter(listed.values()))
        yield LabelGuess(at=at, score=5.0, reasons=("its name in several languages",))
    for path in own.fields:
        if path in named.values() or (listed and path == ()):
            continue
        seen = own.seen(path)
        colour = _about_colours(own.group) and all(map(is_colour, seen.values))
        if colour or seen.texts:
            score, reasons = evidence_for("label", seen) if not colour else (4.0, ["colours"])
            score += _parent_is_label(path) + (BASE["bare words"] if path == () else 0.0)
            yield LabelGuess(
                at=own.at(path), split=_split_of(seen.texts), field=path, texts=tuple(seen.values),
                score=score, reasons=tuple(reasons),
            )  # fmt: skip


def _parent_is_label(path: Path) -> float:
    """Return what the name around a field says: ``category.name``, ``props.sort``."""
    above = plain_name(path[-2]) if len(path) > 1 else ""
    return 1.0 if above in LABEL_NAMES else -0.2 * max(len(path) - 1, 0)


def _key_labels(own: GroupFields) -> Iterator[LabelGuess]:
    if own.group.through == "{}":
        keys = tuple(entry.key for entry in own.group.entries)
        yield LabelGuess(
            at="@key", texts=keys, score=_key_score(keys) + 1.5, reasons=("the keys of an object",)
        )


def _key_score(keys: Sequence[str]) -> float:
    score, _ = evidence_for("label", Seen("", keys))
    fields = sum(plain_name(key) in FIELD_NAMES for key in keys) / max(len(keys), 1)
    return score - 6.0 * fields - (5.0 if all(k.isdigit() for k in keys) else 0.0)


def _outer_labels(own: GroupFields) -> Iterator[LabelGuess]:
    outer, up = [entry.outer for entry in own.group.entries], 1
    through = [step for step in own.group.path[:-1] if step in ("[]", "{}")]
    for step in reversed(through):
        above = [entry for entry in outer if entry is not None]
        if len(above) < len(outer):
            return
        if step == "{}":
            keys = tuple(entry.key for entry in above)
            score = _key_score(keys) + 1.5 + BASE["outer"] * up
            yield LabelGuess(
                at="^" * up + "@key", texts=keys, score=score, reasons=("a key above",)
            )
        yield from _named_above(above, up)
        outer, up = [entry.outer for entry in above], up + 1


def _named_above(above: Sequence[Entry], up: int) -> Iterator[LabelGuess]:
    around = fields_of([scalars_of(entry.value) for entry in above])
    for path, values in around.items():
        seen = Seen(str(path[-1]) if path else "", values)
        if all(v is not None for v in values) and seen.texts:
            score, reasons = evidence_for("label", seen)
            yield LabelGuess(
                at="^" * up + written(path), split=_split_of(seen.texts), texts=tuple(seen.texts),
                score=score + BASE["outer"] * up, reasons=tuple(reasons),
            )  # fmt: skip


def _table_labels(own: GroupFields) -> Iterator[LabelGuess]:
    """Yield labels that stand by their id in a table of names of the same answer."""
    for path in own.fields:
        values = [v for v in own.fields[path] if v is not None]
        ids = [v for v in values if isinstance(v, (int, str)) and not isinstance(v, bool)]
        if not ids or len(ids) < len(own.fields[path]):
            continue
        for other in own.groups.values():
            if _is_table_for(own.group, other) and (table := _names_in(other, own, path, ids)):
                yield table


def _is_table_for(group: SectionGroup, other: SectionGroup) -> bool:
    """Tell whether another group may be a table of names: by itself, and not around this one."""
    if not other.entries or other.beside or not other.through:
        return False
    depth = len(other.entries[0].place)
    inside = {entry.place[:depth] for entry in group.entries}
    apart = inside.isdisjoint(entry.place for entry in other.entries)
    single = len(other.path) == len(other.names) + 1
    return single and apart and other.path[: len(group.path)] != group.path


def _names_in(
    other: SectionGroup, own: GroupFields, path: Path, ids: Sequence[Any]
) -> LabelGuess | None:
    """Return the label that a table gives to ids, if every id of every sample is in it."""
    each = toml_text(written(other.path))
    inline = ""
    if other.through == "{}" and all(isinstance(v, str) for v in other.values):
        if _covers(other, own, path, lambda e: e.key):
            inline = f'{{ table = {each}, id = "@key", name = "@" }}'
    elif all(isinstance(v, str) for v in other.values):
        if all(isinstance(v, int) for v in ids) and _covers(
            other, own, path, lambda e: e.place[-1]
        ):
            inline = f'{{ table = {each}, id = "@index", name = "@" }}'
    else:
        inline = _rows_of_names(other, own, path, each)
    if not inline:
        return None
    return LabelGuess(
        at=own.at(path), lookup=inline, field=path, score=BASE["table"], table=other.path,
        reasons=(f"its ids are in the table at {written(other.path)}",),
    )  # fmt: skip


def _rows_of_names(other: SectionGroup, own: GroupFields, path: Path, each: str) -> str:
    fields = fields_of(other.values)
    named = {
        p: evidence_for("label", Seen(str(p[-1]), v))[0]
        for p, v in fields.items()
        if p and all(isinstance(x, str) and not is_amount(x) for x in v)
    }
    name = max(named, key=lambda p: named[p], default=None)
    for at, values in fields.items():
        if at and at != name and name and all(isinstance(v, (int, str)) for v in values):
            by_id = {id(e): v for e, v in zip(other.entries, values, strict=True)}
            if _covers(other, own, path, lambda e, known=by_id: known[id(e)]):
                ids, names = toml_text(written(at)), toml_text(written(name))
                return f"{{ table = {each}, id = {ids}, name = {names} }}"
    return ""


def _covers(other: SectionGroup, own: GroupFields, path: Path, key: Any) -> bool:
    """Tell whether every id of a sample is in the table of the same sample."""
    known = {(entry.sample, str(key(entry))) for entry in other.entries}
    wanted = {
        (entry.sample, str(value))
        for entry, value in zip(own.group.entries, own.fields[path], strict=True)
    }
    return bool(wanted) and wanted <= known


def _split_of(values: Sequence[str]) -> str:
    """Return the sign that divides category paths, if every label is one."""
    for sign in ("/", ">", "|", "::"):
        if values and all(sign in value.strip(sign) for value in values):
            return sign
    return ""


def _about_colours(group: SectionGroup) -> bool:
    last = group.names[-1] if group.names else ""
    return any(word in last for word in COLOUR_NAMES)
