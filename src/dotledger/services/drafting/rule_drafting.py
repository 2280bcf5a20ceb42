"""From one group of entries to a reading rule: what is the label, the confidence, the rest."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from dotledger.core.spelling import counted
from dotledger.services.drafting.box_drafting import BoxGuess, Size, box_guesses, toml_text
from dotledger.services.drafting.label_drafting import (
    COLOUR_NAMES,
    ID_NAMES,
    Fields,
    Guess,
    capitals,
    label_of,
    rank_of,
)
from dotledger.services.drafting.sample_sections import (
    CONFIDENCE_NAMES,
    Path,
    SectionGroup,
    amount_of,
    fields_of,
    is_amount,
    is_number,
    is_pair,
    is_xy,
    plain_name,
    written,
)
from dotledger.services.drafting.section_shapes import kinds_in

__all__ = ["RuleGuess", "amounts_of", "rule_of", "rules_of"]

_PARENT_NAMES = ("broader", "parents", "parent", "ancestors", "hypernyms")
_POINT_NAMES = ("marks", "landmarks", "points", "keypoints", "features", "spots")
_FACE_WORDS = ("face", "head", "visage", "portrait")
_PERSON_WORDS = ("people", "person", "human")
_FACE_HINTS = ("age", "years", "smile", "smiling", "mood", "emotion", "glasses", "beard", "eye")
_UNSAFE_WORDS = (
    *("unsafe", "safety", "hazard", "flag", "moderation", "risk", "danger", "adult"),
    *("violence", "harm"),
)
_CARRIED = {
    "colour": COLOUR_NAMES,
    "caption": ("caption", "sentence", "summary", "narration", "alt_text", "alttext"),
    "fact": ("quality", "facts", "technical", "imagetype", "image_type"),
}
"""Names of sections that are carried along and never judged as labels."""
_SENTENCE = 4
"""Words from which on a label is a sentence about the image, and no label."""
_TEXT_WORDS = ("text", "line", "ocr", "writing")
_NOT_THERE = ("absent", "none", "no", "not there", "not present", "nothing", "negative")
"""Words that can only mean that something is not there."""


class RuleGuess(Struct, kw_only=True):
    """One drafted rule.

    Attributes
    ----------
    kind, each, label, always, split, lookup, keep_if : str
        As in a description; `lookup` as an inline table.
    confidence : str
        Where it stands and on what scale, as an inline table; empty for none.
    boxes : list of BoxGuess
        Ranked, the most likely first; empty for kinds without boxes.
    optional : bool
        Whether the section may be missing: some sample lacks it.
    count : int
        Entries met in the samples.
    open : str
        Why the rule is left open: what it reads out of the samples is not what stands there.
    reasons : list of str
        Why it was drafted so.
    questions : list of str
        What no sample can tell.
    left : list of str
        Fields that it does not use.
    """

    kind: str
    each: str
    label: str = ""
    always: str = ""
    split: str = ""
    lookup: str = ""
    confidence: str = ""
    lower: bool = False
    parents: str = ""
    points: str = ""
    keep_if: str = ""
    attributes: dict[str, tuple[str, str]] = field(default_factory=dict)
    boxes: list[BoxGuess] = field(default_factory=list)
    optional: bool = False
    count: int = 0
    open: str = ""
    reasons: list[str] = field(default_factory=list)
    questions: list[str] = field(default_factory=list)
    left: list[str] = field(default_factory=list)

    def toml(self) -> str:
        """Return the rule as TOML, reasons and other candidates as comments."""
        head = [f"# {reason}" for reason in self.reasons]
        body = self._body()
        if self.open:
            head.append(f"# Left open: {self.open}")
            body = [f"# {line}" for line in body]
        return "\n".join([*head, *body])

    def _body(self) -> list[str]:
        lines = ["[[read]]", f'kind = "{self.kind}"', f"each = {toml_text(self.each)}"]
        if self.always:
            lines.append(f"always = {toml_text(self.always)}")
        else:
            lines.append(f"label = {toml_text(self.label)}")
            lines += ['case = "lower"  # every label starts with a capital'] if self.lower else []
        lines += [f"lookup = {self.lookup}"] if self.lookup else []
        lines += [f"split = {toml_text(self.split)}"] if self.split else []
        lines += [f"confidence = {self.confidence}"] if self.confidence else []
        if self.boxes:
            lines += [f"# {reason}" for reason in self.boxes[0].reasons]
            lines.append(f"box = {self.boxes[0].toml()}")
            lines += [
                f"# or: box = {guess.toml()}  # {guess.reasons[0]}" for guess in self.boxes[1:3]
            ]
        lines += [f"parents = {toml_text(self.parents)}"] if self.parents else []
        lines += [f"points = {self.points}"] if self.points else []
        if self.attributes:
            inner = ", ".join(
                f'{toml_text(name)} = {{ at = {toml_text(at)}, type = "{kind}" }}'
                for name, (at, kind) in self.attributes.items()
            )
            lines.append(f"attributes = {{ {inner} }}")
        lines += [f"keep_if = {toml_text(self.keep_if)}"] if self.keep_if else []
        lines += ["optional = true  # some sample has no such section"] if self.optional else []
        lines += [f"# not used: {', '.join(self.left)}"] if self.left else []
        return lines


def amounts_of(groups: Mapping[Path, SectionGroup]) -> dict[str, list[float]]:
    """Return all values of each field that may hold a confidence, wherever it stands.

    A service writes one field on one scale; a few small values alone would look like fractions.
    """
    found: dict[str, list[float]] = {}
    for group in groups.values():
        for path, values in fields_of(group.values).items():
            name = plain_name(path[-1]) if path else ""
            if name in CONFIDENCE_NAMES:
                found.setdefault(name, []).extend(amount_of(v) for v in values if is_amount(v))
    return found


def rules_of(
    group: SectionGroup,
    groups: Mapping[Path, SectionGroup],
    working: Mapping[int, Size],
    words: Sequence[str],
    amounts: Mapping[str, Sequence[float]],
) -> list[RuleGuess]:
    """Return the rules that a group's entries call for: one for each kind that it holds.

    Parameters
    ----------
    group, groups, working, words, amounts
        See `rule_of`.

    Returns
    -------
    list of RuleGuess
        Empty if they are no findings.
    """
    sorts = kinds_in(group)
    if sorts is None:
        made = rule_of(group, groups, working, words, amounts)
        return [] if made is None else [made]
    found = []
    for keep_if, (kind, own) in sorts.items():
        made = rule_of(own, groups, working, words, amounts, kind=kind)
        if made is not None:
            made.keep_if = keep_if
            made.reasons.append(f"one list of {len(sorts)} kinds, told apart by a field")
            found.append(made)
    return found


def rule_of(
    group: SectionGroup,
    groups: Mapping[Path, SectionGroup],
    working: Mapping[int, Size],
    words: Sequence[str],
    amounts: Mapping[str, Sequence[float]],
    *,
    kind: str = "",
) -> RuleGuess | None:
    """Return the rule that a group's entries of one kind call for; None if they are no findings.

    Parameters
    ----------
    working : mapping of int to (float, float)
        By sample, the size that the answer reports.
    words : sequence of str
        Those on the way to the group, for its kind.
    amounts : mapping of str to sequence of float
        See `amounts_of`.
    kind : str, optional
        Where the answer itself says what they are.
    """
    if not group.entries or _is_landmarks(group):
        return None
    values = group.values
    if group.path[-1] == "{}" and all(is_number(v) or isinstance(v, str) for v in values):
        return _of_keys(group, groups, words)
    guess = Guess(group, groups, working)
    if not guess.fields or () in guess.fields:
        return None
    label, always, split, lookup = label_of(guess)
    confidence = _confidence_of(guess, words, amounts)
    boxes = guess.boxes
    if not (label or (always and boxes)) or not (confidence or boxes) or _is_only_a_branch(guess):
        return None
    kind = kind or _kind_of(guess, label)
    if kind == "label" and _are_sentences(guess, label):
        kind = "caption"
    if kind == "face":
        label, always, split, lookup = "", "face", "", ""
    if not boxes and (kind in ("object", "face") or _inside_a_thing(guess)):
        return None
    points, point_field = _points_of(guess)
    parents = _parents_of(guess, label)
    attributes = _attributes_of(guess, label, point_field)
    for language, at in list(guess.languages.items())[1:]:
        attributes[f"name in {language}"] = (at, "text")
    return RuleGuess(
        kind=kind,
        each=written(group.path, each=True),
        label=label,
        always=always,
        split=split,
        lookup=lookup,
        lower=kind != "caption" and bool(label) and not split and capitals(guess, label),
        confidence=confidence,
        parents=parents,
        points=points,
        attributes=attributes,
        boxes=[_beside(guess, one) for one in boxes] if kind in ("object", "face", "text") else [],
        count=len(group.entries),
        reasons=[f"{counted(len(group.entries), 'part')} at {written(group.path, each=True)}"],
        questions=guess.questions,
        left=_left_of(guess, label, parents, point_field, attributes),
    )


def _beside(guess: Guess, box: BoxGuess) -> BoxGuess:
    return replace(box, at=f"^{box.at}[@index]") if guess.group.beside else box


def _of_keys(
    group: SectionGroup, groups: Mapping[Path, SectionGroup], words: Sequence[str]
) -> RuleGuess | None:
    """Return a rule for an object whose keys are labels and whose values are confidences."""
    keys = [entry.key for entry in group.entries]
    if all(key.isdigit() for key in keys) or _has_things_above(group, groups):
        return None  # a side table of names, or amounts of one thing
    questions: list[str] = []
    if all(is_number(v) for v in group.values):
        confidence = _scale([float(v) for v in group.values], "@")
    else:
        confidence = _words(sorted(map(str, set(group.values))), "@", words, questions)
    return RuleGuess(
        kind=_kind_by_path(group.names, boxed=False),
        each=written(group.path, each=True),
        label="@key",
        confidence=confidence,
        count=len(group.entries),
        reasons=[f"keys such as {keys[0]!r} with a value each"],
        questions=questions,
    )


def _has_things_above(group: SectionGroup, groups: Mapping[Path, SectionGroup]) -> bool:
    """Tell whether a group lies inside the entries of another one."""
    return any(group.path[: len(p)] == p and len(p) < len(group.path) for p in groups)


def _is_landmarks(group: SectionGroup) -> bool:
    names = group.names
    inside = sum(step in ("[]", "{}") for step in group.path) > 1
    return bool(names) and inside and plain_name(names[-1]) in _POINT_NAMES


def _is_only_a_branch(guess: Guess) -> bool:
    """Tell whether keyed entries only hold others: a tree is read at its leaves."""
    path = guess.group.path
    deeper = any(len(p) > len(path) and p[: len(path)] == path for p in guess.groups)
    return path[-1] == "{}" and not guess.boxes and deeper


def _inside_a_thing(guess: Guess) -> bool:
    """Tell whether the entries lie inside things that have a box of their own."""
    path = guess.group.path
    for other, group in guess.groups.items():
        if len(other) < len(path) and path[: len(other)] == other:
            sizes = [entry.size for entry in group.entries]
            if any(box.fits > 0.5 for box in box_guesses(fields_of(group.values), sizes, [])):
                return True
    return False


def _kind_of(guess: Guess, label: str) -> str:
    names = guess.group.names
    kind = _kind_by_path(names, boxed=bool(guess.boxes))
    if kind != "object":
        return kind
    people = any(word in name for name in names for word in _PERSON_WORDS)
    hints = {guess.name(path) for path in guess.fields} | {
        plain_name(step) for path in guess.fields for step in path
    }
    own = bool(label) and not label.startswith("^")
    return "face" if people and not own and hints & set(_FACE_HINTS) else kind


def _are_sentences(guess: Guess, label: str) -> bool:
    """Tell whether labels are sentences: most of them of several words."""
    chosen = next((path for path in guess.fields if guess.at(path) == label), None)
    texts = [str(value).split() for value in guess.fields[chosen]] if chosen is not None else []
    return bool(texts) and sum(len(words) >= _SENTENCE for words in texts) > len(texts) / 2


def _kind_by_path(names: Sequence[str], *, boxed: bool) -> str:
    text = " ".join(names)
    if any(word in text for word in _UNSAFE_WORDS):
        return "unsafe"
    if any(word in text for word in _FACE_WORDS):
        return "face"
    if boxed and any(word in text for word in _TEXT_WORDS):
        return "text"
    last = names[-1] if names else ""
    carried = (kind for kind, words in _CARRIED.items() if any(word in last for word in words))
    if not boxed and (kind := next(carried, "")):
        return kind
    return "object" if boxed else "label"


def _parents_of(guess: Guess, label: str) -> str:
    def listed(value: Any) -> bool:
        return isinstance(value, list) and all(isinstance(v, str) for v in value)

    def among(values: Sequence[Any]) -> str:
        first = values[0] if values and isinstance(values[0], dict) else {}
        return next(
            (
                own
                for own in first
                if own.lower() in _PARENT_NAMES
                and all(isinstance(v, dict) and listed(v.get(own)) for v in values)
            ),
            "",
        )

    if own := among(guess.group.values):
        return written([own])
    if label.startswith("^"):
        outer = [entry.outer.value for entry in guess.group.entries if entry.outer]
        if own := among(outer):
            return f"^{written([own])}"
    return ""


def _confidence_of(
    guess: Guess, words: Sequence[str], amounts: Mapping[str, Sequence[float]]
) -> str:
    free = {p: v for p, v in guess.fields.items() if p not in guess.used}
    numbers = {p: v for p, v in free.items() if all(map(is_amount, v))}
    named = [p for p in numbers if guess.name(p) in CONFIDENCE_NAMES]
    if named:
        path = min(named, key=lambda p: (len(p), rank_of(p, CONFIDENCE_NAMES)))
        guess.used.add(path)
        seen = amounts.get(guess.name(path)) or [amount_of(v) for v in numbers[path]]
        if _are_bytes(seen):
            guess.questions.append(f"whether {guess.at(path)} counts to {_BYTE} or to 1000")
        return _scale(seen, guess.at(path), values=numbers[path])
    texts = [
        p
        for p, v in free.items()
        if guess.name(p) in CONFIDENCE_NAMES and all(isinstance(x, str) for x in v)
    ]
    if texts:
        path = min(texts, key=lambda p: rank_of(p, CONFIDENCE_NAMES))
        guess.used.add(path)
        return _words(sorted(set(free[path])), guess.at(path), words, guess.questions)
    return _unnamed_confidence(guess, numbers)


def _unnamed_confidence(guess: Guess, numbers: Fields) -> str:
    """Take the number that looks most like a share for the confidence, and ask."""
    likely = {
        path: _likeness(values)
        for path, values in numbers.items()
        if len(path) == 1 and guess.name(path) not in (*ID_NAMES, *_FACE_HINTS)
    }
    best = max(likely.values(), default=0)
    chosen = [path for path, value in likely.items() if value == best]
    where = written(guess.group.path, each=True)
    if best == 0 or len(chosen) != 1:
        named = [guess.at(path) for path in (chosen if best else likely)]
        among = f" among {', '.join(named)}" if named else ""
        guess.questions.append(f"which field at {where} is the confidence{among}, if there is one")
        return ""
    path = chosen[0]
    guess.used.add(path)
    if best < _SURE and not guess.group.beside:
        guess.questions.append(f"whether {guess.at(path)} at {where} is the confidence")
    values = numbers[path]
    return _scale([amount_of(v) for v in values], guess.at(path), values=values)


_SURE = 4


def _likeness(values: Sequence[Any]) -> int:
    """Return how much values look like confidences: 4 with a percent sign, 0 not at all."""
    amounts = [amount_of(v) for v in values]
    if any(isinstance(v, str) and "%" in v for v in values):
        return 4
    if min(amounts) < 0 or len(set(amounts)) == 1:
        return 0
    whole = all(amount.is_integer() for amount in amounts)
    if max(amounts) <= 1 and not whole:
        return 3
    if max(amounts) <= 100 and not whole:
        return 2
    return 1 if max(amounts) <= 1000 and min(amounts) > 100 and whole else 0


_BYTE = 255
"""Whole numbers above 100 that never exceed this are shares of it, and not thousandths."""


def _scale(amounts: Sequence[float], at: str, *, values: Sequence[Any] = ()) -> str:
    """Return the scale on which the amounts fit, the narrowest first."""
    least, most = min(amounts), max(amounts)
    texts = [v for v in values if isinstance(v, str)]
    if any("%" in text for text in texts) or "percent" in at.lower():
        scale = "percent"
    elif least < 0:
        scale = "log-odds"
    elif most <= 1:
        scale = "fraction"
    elif most <= 100:
        scale = "percent"
    elif _are_bytes(amounts):
        return f'{{ at = {toml_text(at)}, scale = "range", range = [0, {_BYTE}] }}'
    else:
        scale = "thousandths"
    more = f', scale = "{scale}"' if scale != "fraction" else ""
    more += ', decimal = ","' if any("," in text for text in texts) else ""
    return f"{{ at = {toml_text(at)}{more} }}"


def _are_bytes(amounts: Sequence[float]) -> bool:
    whole = all(float(a).is_integer() for a in amounts)
    return whole and min(amounts) >= 0 and 100 < max(amounts) <= _BYTE


# Evenly spread, as in the shipped descriptions: only their order is known.
def _words(seen: Sequence[str], at: str, words: Sequence[str], questions: list[str]) -> str:
    """Return ordered words with evenly spread numbers; their order cannot be seen."""
    ordered = list(words) if words and set(seen) <= set(words) else list(seen)
    if ordered != list(words):
        questions.append(f"the order of the words {', '.join(ordered)}, from low to high")
    steps = [
        f"[{toml_text(word)}, {(2 * place + 1) / (2 * len(ordered)):.3g}]"
        for place, word in enumerate(ordered)
    ]
    absent = [toml_text(word) for word in ordered if word.casefold() in _NOT_THERE]
    more = f", absent = [{', '.join(absent)}]" if absent else ""
    return f'{{ at = {toml_text(at)}, scale = "words", words = [{", ".join(steps)}]{more} }}'


def _points_of(guess: Guess) -> tuple[str, str]:
    """Return where landmark points stand, as an inline table, and the field's name."""
    objects = [v for v in guess.group.values if isinstance(v, dict)]
    for own in objects[0] if objects else ():
        if plain_name(own) not in _POINT_NAMES:
            continue
        value = next((o[own] for o in objects if o.get(own)), None)
        at = toml_text(written([own]))
        if isinstance(value, dict) and value and all(is_pair(v) for v in value.values()):
            return f"{{ at = {at} }}", own
        if table := _flat_points(value, at, guess.questions):
            return table, own
        named = isinstance(value, list) and value and isinstance(value[0], dict)
        if named and value and (table := _named_points(value[0], at)):
            return table, own
    return "", ""


def _flat_points(value: Any, at: str, questions: list[str]) -> str:
    """Return numbers in one list as points: three for each where every third is a small one."""
    if not isinstance(value, list) or len(value) < 4 or not all(map(is_number, value)):
        return ""
    thirds = len(value) % 3 == 0 and all(v in (0, 1, 2) for v in value[2::3])
    step = 3 if thirds else 2
    if len(value) % step:
        return ""
    names = ", ".join(f'"point {n}"' for n in range(1, len(value) // step + 1))
    questions.append(f"what the points at {at} are, in their order")
    return f"{{ at = {at}, order = [{names}], step = {step} }}"


def _named_points(part: Mapping[str, Any], at: str) -> str:
    names = [k for k, v in part.items() if isinstance(v, str)]
    if not names:
        return ""
    name = toml_text(names[0])
    if {"x", "y"} <= part.keys():
        return f"{{ at = {at}, name = {name} }}"
    for key, value in part.items():
        if is_pair(value):
            ends = [f"{written([key])}.{a}" for a in "xy"] if is_xy(value) else [
                f"{written([key])}[{i}]" for i in (0, 1)
            ]  # fmt: skip
            x, y = map(toml_text, ends)
            return f"{{ at = {at}, name = {name}, x = {x}, y = {y} }}"
    return ""


def _attributes_of(guess: Guess, label: str, points: str) -> dict[str, tuple[str, str]]:
    """Return what is neither label, confidence nor place: flags, numbers, ranges, shares."""
    objects = [v for v in guess.group.values if isinstance(v, dict)]
    if len(objects) < len(guess.group.values) or guess.group.beside:
        return {}
    taken = {str(path[0]) for path in guess.used if path}
    found: dict[str, tuple[str, str]] = {}
    for name in objects[0]:
        values = [o.get(name) for o in objects if o.get(name) is not None]
        skip = plain_name(name) in (*_PARENT_NAMES, *ID_NAMES) or written([name]) == label
        if name in taken or name == points or skip or not values:
            continue
        found |= _attribute(name, values)
    return found


def _attribute(name: str, values: Sequence[Any]) -> dict[str, tuple[str, str]]:
    at = written([name])
    tests: Sequence[tuple[Callable[[Any], bool], str, str]] = (
        (lambda v: isinstance(v, bool), at, "flag"),
        (lambda v: isinstance(v, dict) and isinstance(v.get("value"), bool), f"{at}.value", "flag"),
        (is_amount, at, "number"),
        (lambda v: isinstance(v, dict) and set(v) == {"low", "high"}, at, "range"),
        (_is_shares, at, "shares"),
        (lambda v: isinstance(v, str), at, "choice"),
    )
    for test, where, kind in tests:
        if all(map(test, values)):
            return {name: (where, kind)}
    if all(isinstance(v, dict) for v in values):
        inner = [key for key in values[0] if all(is_number(v.get(key)) for v in values)]
        return {key: (written([name, key]), "number") for key in inner}
    return {}


def _is_shares(value: Any) -> bool:
    if not isinstance(value, dict) or len(value) < 2 or not all(map(is_number, value.values())):
        return False
    total = sum(value.values())
    return min(value.values()) >= 0 and (abs(total - 1) < 0.03 or abs(total - 100) < 3)


def _left_of(
    guess: Guess,
    label: str,
    parents: str,
    points: str,
    attributes: Mapping[str, tuple[str, str]],
) -> list[str]:
    """Return the fields of the entries that the rule does not read."""
    objects = [v for v in guess.group.values if isinstance(v, dict)]
    if not objects or guess.group.beside:
        return []
    used = {str(path[0]) for path in guess.used if path}
    used |= {at.split(".")[0].strip('"') for at, _ in attributes.values()}
    inside = {
        str(p[len(guess.group.path)])
        for p in guess.groups
        if len(p) > len(guess.group.path) and p[: len(guess.group.path)] == guess.group.path
    }
    names = dict.fromkeys(name for value in objects for name in value)
    kept = used | inside | {label, parents, points}
    return [name for name in names if name not in kept]
