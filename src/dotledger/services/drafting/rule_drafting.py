"""From one chosen reading of a group to a rule: its attributes, points, parents, and its text."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from msgspec import Struct, field

from dotledger.core.spelling import counted
from dotledger.reading.strict_toml import NOT_ANSWERED
from dotledger.services.drafting.box_drafting import BoxGuess, toml_text
from dotledger.services.drafting.draft_evidence import ID_NAMES, PARENT_NAMES, POINT_NAMES
from dotledger.services.drafting.field_account import Used
from dotledger.services.drafting.role_guesses import Candidate
from dotledger.services.drafting.sample_sections import (
    Path,
    SectionGroup,
    fields_of,
    is_amount,
    is_number,
    is_pair,
    is_xy,
    plain_name,
    written,
)
from dotledger.services.drafting.section_shapes import language_list, languages_of
from dotledger.services.drafting.whole_readings import Chosen
from dotledger.text_display import shown

__all__ = ["Choice", "RuleGuess", "rule_from"]


NONE = "none"
"""What is shown, and answered, where the answers may have no such thing."""


class Choice(Struct, frozen=True, kw_only=True):
    """One answer to a question of a draft: what is written for it, and what it reads.

    `boxes` are what it reads, n by 4, as shares of the image, where the question is about boxes;
    `samples` the number of the sample of each, from 0.
    """

    value: str
    shown: str = ""
    boxes: tuple[tuple[float, ...], ...] = ()
    samples: tuple[int, ...] = ()


class RuleGuess(Struct, kw_only=True):
    """One drafted rule.

    Attributes
    ----------
    kind, each, label, always, split, lookup, keep_if, columns : str
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
    unclear : dict of str to list of Choice
        By key of the rule, the answers that the samples do not decide between, the likeliest first.
    order_of : list of str
        Words of a scale whose order no sample tells.
    reasons : list of str
        Why it was drafted so.
    questions : list of str
        What no sample can tell, and does not keep the rule from reading.
    used : Used
        The fields that it takes.
    """

    kind: str
    each: str
    label: str = ""
    always: str = ""
    split: str = ""
    lookup: str = ""
    columns: str = ""
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
    unclear: dict[str, list[Choice]] = field(default_factory=dict)
    order_of: list[str] = field(default_factory=list)
    reasons: list[str] = field(default_factory=list)
    questions: list[str] = field(default_factory=list)
    used: Used = field(default_factory=lambda: Used(path=()))

    def toml(self, *, assume: bool = False) -> str:
        """Return the rule as TOML, reasons as comments, and questions in the place of an answer.

        Parameters
        ----------
        assume : bool, default False
            Write the likeliest answer to each question, for trying the rule.
        """
        head = [f"# {reason}" for reason in self.reasons]
        body = self._body(assume)
        if self.open:
            head.append(f"# Left open: {self.open}")
            body = [line if line.startswith("#") else f"# {line}" for line in body]
        return "\n".join([*head, *body])

    def _body(self, assume: bool) -> list[str]:
        lines = ["[[read]]", f'kind = "{self.kind}"', f"each = {toml_text(self.each)}"]
        lines += [f"columns = {toml_text(self.columns)}"] if self.columns else []
        label = [] if self.always else [f"label = {toml_text(self.label)}"]
        lines += [f"always = {toml_text(self.always)}"] if self.always else []
        lines += self._or_question("label", label, assume)
        lines += ['case = "lower"  # every label starts with a capital'] if self.lower else []
        lines += [f"lookup = {self.lookup}"] if self.lookup else []
        lines += [f"split = {toml_text(self.split)}"] if self.split else []
        confidence = [f"confidence = {self.confidence}"] if self.confidence else []
        lines += self._or_question("confidence", confidence, assume)
        box = []
        if self.boxes:
            box = [f"# {self.boxes[0].reasons[0]}", f"box = {self.boxes[0].toml()}"]
        lines += self._or_question("box", box, assume)
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
        return lines

    def _or_question(self, key: str, answer: list[str], assume: bool) -> list[str]:
        """Return the line of a key; where it is not clear, the choices and no answer."""
        choices = self.unclear.get(key, [])
        if not choices:
            return answer
        if assume:
            return [f"# Assumed: the samples do not tell the {key}.", *answer]
        asked = "in which order these words rise" if self.order_of else "which of these is right"
        lines = [f'# The samples do not tell {asked}. Write it after "{key} =":']
        lines += [
            f"#   {choice.value}" + (f"   # {choice.shown}" if choice.shown else "")
            for choice in choices
        ]
        return [*lines, f'{key} = "{NOT_ANSWERED}"']


def rule_from(chosen: Chosen) -> RuleGuess:
    """Return the rule that a chosen reading calls for.

    Parameters
    ----------
    chosen : Chosen
        With its rivals, which become questions.
    """
    one = chosen.candidate
    group, fields = one.group, fields_of(one.group.values)
    each = written(group.path)
    made = RuleGuess(
        kind=one.kind,
        each=each,
        label=one.label.at,
        always=one.label.always,
        split=one.label.split,
        lookup=one.label.lookup,
        columns=group.columns,
        confidence=one.confidence.toml,
        keep_if=group.keep_if,
        boxes=[] if one.box is None else [one.box],
        count=len(group.entries),
        order_of=list(one.confidence.words),
        reasons=_reasons(one, each),
    )
    made.lower = _capitals(one)
    made.points, point_field = _points_of(group, made.questions)
    made.parents = _parents_of(group, made.label)
    made.attributes = _attributes_of(one, fields, made.parents, point_field)
    made.used = _used(one, made, point_field)
    _note_questions(made, chosen)
    in_words = 'scale = "words"' in made.confidence
    if in_words and len(re.findall(r", [\d.]+\]", made.confidence)) < _FEW_WORDS:
        made.questions.append(f"which further words the scale at {each} has")
    return made


_FEW_WORDS = 3
"""A scale of words has at least so many; with fewer, later answers have others."""


def _reasons(one: Candidate, each: str) -> list[str]:
    found = [f"{counted(len(one.group.entries), 'part')} at {each}"]
    if one.group.sort:
        found.append("one list of several kinds, told apart by a field")
    if one.label.reasons and one.label.at:
        found.append(f"label {one.label.at}: {'; '.join(one.label.reasons)}")
    if one.confidence.reasons:
        found.append(f"confidence {one.confidence.at}: {'; '.join(one.confidence.reasons)}")
    return found


def _note_questions(made: RuleGuess, chosen: Chosen) -> None:
    """Turn rivals into questions about the one key in which they differ first."""
    one = chosen.candidate
    if made.order_of:
        made.unclear["confidence"] = [Choice(value=one.confidence.toml)]
    rivals = [rival for rival in chosen.rivals if rival.group.path == one.group.path]
    for key, choice in (
        ("label", _label_choice),
        ("confidence", _sure_choice),
        ("box", _box_choice),
    ):
        found = {c.value: c for c in map(choice, (one, *rivals)) if c is not None}
        if len(found) > 1 and choice(one) is not None:
            made.unclear[key] = list(found.values())
    if "box" in made.unclear:
        made.boxes += [r.box for r in rivals if r.box is not None and r.box not in made.boxes]
    elsewhere = [r for r in chosen.rivals if r.group.path != one.group.path]
    if chosen.doubted or elsewhere:
        made.open = "it is not clear that findings stand here"
        if elsewhere:
            at = written(elsewhere[0].group.path)
            made.open += f", and not at {at}"


def _label_choice(one: Candidate) -> Choice | None:
    if one.kind == "face" or one.label.always:
        return None
    first = f"such as {shown(one.label.texts[0], 40)}" if one.label.texts else ""
    return Choice(value=toml_text(one.label.at), shown=first)


def _sure_choice(one: Candidate) -> Choice:
    if not one.confidence.toml:
        return Choice(value=NONE, shown="then take the line out")
    values = [value for value in one.confidence.values if value is not None]
    return Choice(
        value=one.confidence.toml, shown=f"such as {shown(values[0], 40)}" if values else ""
    )


def _box_choice(one: Candidate) -> Choice | None:
    """Return how a candidate writes its box, and what that makes of the first one."""
    if one.box is None:
        return None
    first = ""
    if one.box.corners:
        width, height = one.group.entries[0].size
        known = not math.isnan(width)
        sides = (width, height) * 2 if known else (1.0,) * 4
        numbers = [v * side for v, side in zip(one.box.corners[0], sides, strict=True)]
        x0, y0, x1, y1 = (f"{number:.0f}" if known else f"{number:.3f}" for number in numbers)
        first = f"the first box from {x0}, {y0} to {x1}, {y1}"
    samples = tuple(entry.sample for entry in one.group.entries)
    return Choice(value=one.box.toml(), shown=first, boxes=one.box.corners, samples=samples)


def _capitals(one: Candidate) -> bool:
    """Tell whether every label starts with a capital letter."""
    texts = [str(text) for text in one.label.texts]
    plain = one.kind not in ("caption", "text") and not one.label.split and bool(one.label.at)
    return plain and bool(texts) and all(text[:1].isupper() for text in texts)


# --- parents and points -------------------------------------------------------------------------


def _parents_of(group: SectionGroup, label: str) -> str:
    """Return where the broader terms of a label stand; of the entry around, if the label is its."""
    own = _parent_list(group.values, label)
    if own or not label.startswith("^"):
        return own
    outer = [entry.outer.value for entry in group.entries if entry.outer]
    found = _parent_list(outer, label)
    return f"^{found}" if found else ""


def _parent_list(values: Sequence[Any], label: str) -> str:
    objects = [value for value in values if isinstance(value, dict)]
    for name in objects[0] if objects else ():
        if plain_name(name) not in PARENT_NAMES:
            continue
        parts = [part for value in objects for part in _listed(value.get(name))]
        if parts and all(isinstance(part, str) for part in parts):
            return written([name])
        inner = list(parts[0]) if parts and isinstance(parts[0], dict) else []
        texts = [key for key in inner if all(_is_text(part, key) for part in parts)]
        if texts:
            key = next((key for key in texts if key == label.lstrip("^")), texts[0])
            return f"{written([name])}[].{written([key])}"
    return ""


def _listed(value: Any) -> list[Any]:
    return value if isinstance(value, list) else []


def _is_text(part: Any, key: str) -> bool:
    return isinstance(part, dict) and isinstance(part.get(key), str)


def _points_of(group: SectionGroup, questions: list[str]) -> tuple[str, str]:
    """Return where landmark points stand, as an inline table, and the field's name."""
    objects = [v for v in group.values if isinstance(v, dict)]
    for own in objects[0] if objects else ():
        if plain_name(own) not in POINT_NAMES:
            continue
        value = next((o[own] for o in objects if o.get(own)), None)
        at = toml_text(written([own]))
        if isinstance(value, dict) and value and all(is_pair(v) for v in value.values()):
            return f"{{ at = {at} }}", own
        if table := _flat_points(value, at, questions):
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


# --- attributes, and what is left ---------------------------------------------------------------


def _taken(one: Candidate) -> set[str]:
    """Return the names of the entry's own fields that label, confidence and box take."""
    paths = [one.label.field, one.confidence.field, *one.confidence.more]
    paths += list(one.box.used) if one.box else []
    return {str(path[0]) for path in paths if path}


def _attributes_of(
    one: Candidate, fields: Mapping[Path, Sequence[Any]], parents: str, points: str
) -> dict[str, tuple[str, str]]:
    """Return what is neither label, confidence nor place: flags, numbers, ranges, shares."""
    group = one.group
    objects = [v for v in group.values if isinstance(v, dict)]
    if not objects or len(objects) < len(group.values) or group.beside:
        return {}
    taken = _taken(one)
    found: dict[str, tuple[str, str]] = {}
    for name in dict.fromkeys(key for value in objects for key in value):
        values = [o.get(name) for o in objects if o.get(name) is not None]
        skip = plain_name(name) in (PARENT_NAMES | ID_NAMES) or name == parents.partition("[")[0]
        if name == points or skip or not values:
            continue
        if name not in taken:
            found |= _attribute(name, values)
    languages = languages_of(fields)
    named = {n: written(p) for n, p in languages.items()} or language_list(fields)
    for language, at in list(named.items())[1:]:
        found[f"name in {language}"] = (at, "text")
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
        (_is_list, at, "list"),
    )
    for test, where, kind in tests:
        if all(map(test, values)):
            return {name: (where, kind)}
    if all(isinstance(v, dict) for v in values):
        inner = [key for key in values[0] if all(is_number(v.get(key)) for v in values)]
        return {key: (written([name, key]), "number") for key in inner}
    return {}


def _is_list(value: Any) -> bool:
    """Tell whether a value is a list of words, or of a word with a number each."""
    if not isinstance(value, list):
        return False
    return all(isinstance(v, str) for v in value) or all(
        isinstance(v, dict)
        and len(v) == 2
        and sum(isinstance(part, str) for part in v.values()) == 1
        and sum(map(is_number, v.values())) == 1
        for v in value
    )


def _is_shares(value: Any) -> bool:
    if not isinstance(value, dict) or len(value) < 2 or not all(map(is_number, value.values())):
        return False
    total = sum(value.values())
    return min(value.values()) >= 0 and (abs(total - 1) < 0.03 or abs(total - 100) < 3)


def _used(one: Candidate, made: RuleGuess, points: str) -> Used:
    """Return the fields that a rule takes, as paths from the top of the answer."""
    group = one.group
    own = [one.label.field, one.confidence.field, *one.confidence.more]
    own += list(one.box.used) if one.box else []
    own += [(points,)] if points else []
    around = [one.box.at] if one.box and one.box.at.startswith("^") and not group.beside else []
    told = [made.keep_if.lstrip("!").partition(" ")[0]] if made.keep_if else []
    outer = [at for at in (made.label, one.confidence.at, made.parents, *told, *around) if at]
    found = Used(path=group.path)
    found.read = [_from_top(group, path) for path in own if path is not None]
    found.read += [_up(group.path, at) for at in outer if "@" not in at]
    found.read += [tuple(made.columns.split("."))] if made.columns else []
    found.read += [one.label.table] if one.label.table else []
    found.read += [group.path] if not found.read else []
    found.attributes = [_up(group.path, at) for at, _ in made.attributes.values()]
    return found


def _from_top(group: SectionGroup, path: Path) -> Path:
    """Return a field's path from the top; one of lists side by side stands in a list of its own."""
    if group.beside and path:
        return (*group.path[:-2], path[0], "[]", *path[1:])
    return (*group.path, *path)


def _up(path: Path, at: str) -> Path:
    """Return the path from the top of what a rule writes as ``^name`` or ``name.other``."""
    up, inner = len(at) - len(at.lstrip("^")), at.lstrip("^").partition("[")[0]
    for _ in range(up):
        through = [i for i, step in enumerate(path[:-1]) if step in ("[]", "{}")]
        path = path[: through[-1] + 1] if through else ()
    return (*path, *(name.strip('"') for name in inner.split(".") if name))
