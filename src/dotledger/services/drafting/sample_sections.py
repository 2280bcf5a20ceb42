"""Taking sample answers apart: where things stand, and the fields of each.

What is a list of things is found from the data of all samples together, not by names: a list of
objects, a list of rows, an object whose keys are labels, or lists that run side by side.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

from msgspec import Struct, field

__all__ = [
    "CONFIDENCE_NAMES",
    "LABEL_NAMES",
    "Entry",
    "Path",
    "SectionGroup",
    "amount_of",
    "fields_of",
    "groups_of",
    "is_amount",
    "is_number",
    "is_pair",
    "is_xy",
    "plain_name",
    "written",
]

Path = tuple[str | int, ...]
"""Steps into an answer: names, places in a row, ``[]`` through a list, ``{}`` through values."""

LABEL_NAMES = (
    *("label", "name", "tag", "what", "class", "title", "category", "concept", "about", "object"),
    *("description", "kind", "type", "word", "term", "sort", "text", "n"),
)
CONFIDENCE_NAMES = (
    *("confidence", "score", "sure", "percent", "probability", "likelihood", "level", "trust"),
    *("certainty", "prob", "weight", "rating", "value", "strength", "conf", "pct", "p", "s"),
)
_OTHER_NAMES = ("broader", "parents", "parent", "ancestors", "hypernyms", "id", "status", "version")
_DEEPEST = 8
_AMOUNT = re.compile(r"\s*-?\d+(?:[.,]\d+)?\s*%?\s*$")
_PLAIN = re.compile(r"[\w-]+$")


class Entry(Struct, eq=False):
    """One part of an answer that may be a thing: where it came from, and what is around it."""

    value: Any
    size: tuple[float, float]
    sample: int
    key: str = ""
    outer: Entry | None = None


class SectionGroup(Struct, eq=False):
    """All entries at one path, over all samples.

    Attributes
    ----------
    path : Path
        Ends in ``[]`` or ``{}``.
    entries : list of Entry
        In the order met.
    beside : dict of str to str
        For lists that run side by side: the path of each by its name.
    """

    path: Path
    entries: list[Entry] = field(default_factory=list)
    beside: dict[str, str] = field(default_factory=dict)

    @property
    def values(self) -> list[Any]:
        """The entries' values."""
        return [entry.value for entry in self.entries]

    @property
    def names(self) -> list[str]:
        """The names on the way, in lower case."""
        return [str(step).lower() for step in self.path if step not in ("[]", "{}")]


def is_number(value: Any) -> bool:
    """Tell whether a value is a number, and no yes or no."""
    return isinstance(value, (int, float)) and not isinstance(value, bool)


def is_amount(value: Any) -> bool:
    """Tell whether a value is a number or text that holds one, such as ``87,5 %``.

    Returns
    -------
    bool
        True for a number in text.
    """
    return is_number(value) or (isinstance(value, str) and _AMOUNT.match(value) is not None)


def amount_of(value: Any) -> float:
    """Return the number that an amount holds.

    Parameters
    ----------
    value : object
        For which `is_amount` is true.

    Returns
    -------
    float
        Percent signs are taken off; commas count as points.
    """
    return float(str(value).strip().rstrip("%").strip().replace(",", "."))


def is_xy(value: Any) -> bool:
    """Tell whether a value is a point written as an object.

    Returns
    -------
    bool
        True for an object of x and y and nothing else.
    """
    return isinstance(value, dict) and set(value) == {"x", "y"}


def is_pair(value: Any) -> bool:
    """Tell whether a value is a point, as an object or as two numbers.

    Returns
    -------
    bool
        True for an object of x and y, and for a list of two numbers.
    """
    two = isinstance(value, list) and len(value) == 2 and all(is_number(v) for v in value)
    return is_xy(value) or two


def plain_name(name: object) -> str:
    """Return a name in lower case without signs around it: ``@Score`` becomes ``score``."""
    return re.sub(r"^[\W_]+|[\W_]+$", "", str(name)).lower()


def written(path: Iterable[str | int], *, each: bool = False) -> str:
    """Return a path as a description writes it; names that are no plain words in quotes.

    In ``each`` a name in quotes may be followed by ``[]`` or ``{}``; elsewhere the path is one of
    JMESPath where plain names do not do.

    Parameters
    ----------
    each : bool, default False
        It is the path of a rule, its ``each``.
    """
    text = ""
    for step in path:
        if step in ("[]", "{}"):
            text += str(step)
        elif isinstance(step, int):
            text += f"[{step}]"
        else:
            name = step if _PLAIN.match(step) else json.dumps(step, ensure_ascii=False)
            text += f".{name}" if text else name
    return text or ("" if each else "@")


def _is_leaf_list(value: Sequence[Any]) -> bool:
    """Tell whether a list is one value: numbers, points, rings of points, or words."""
    if not value:
        return False
    if all(is_number(v) for v in value) or all(isinstance(v, str) for v in value):
        return True
    if all(is_pair(v) for v in value):
        return True
    return all(isinstance(v, list) and len(v) > 2 and all(is_pair(p) for p in v) for v in value)


def is_row(value: Any) -> bool:
    """Tell whether a value is a row: a label and numbers in one list."""
    return (
        isinstance(value, list)
        and len(value) > 2
        and any(isinstance(v, str) and not is_amount(v) for v in value)
        and sum(is_amount(v) for v in value) >= len(value) - 2
    )


def groups_of(parts: Sequence[tuple[Any, tuple[float, float]]]) -> dict[Path, SectionGroup]:
    """Return every group of entries by its path, in the order met."""
    groups: dict[Path, SectionGroup] = {}
    tops = [Entry(value, size, sample) for sample, (value, size) in enumerate(parts)]
    _descend((), [(top, top.value) for top in tops], groups)
    return groups


Held = list[tuple[Entry, Any]]


def _descend(path: Path, held: Held, groups: dict[Path, SectionGroup]) -> None:
    """Go through all values at one path: `held` has each with the entry that it lies in."""
    if len(path) > _DEEPEST:
        return
    objects = [(entry, value) for entry, value in held if isinstance(value, dict)]
    lists = [(entry, value) for entry, value in held if isinstance(value, list)]
    _through_lists(path, lists, groups)
    if not objects:
        return
    if _is_keyed(path, [value for _, value in objects]):
        inside = [(e, k, v) for e, value in objects for k, v in value.items()]
        _collect((*path, "{}"), inside, groups)
        return
    _side_by_side(path, objects, groups)
    for name in dict.fromkeys(n for _, value in objects for n in value):
        _descend((*path, name), [(e, v[name]) for e, v in objects if name in v], groups)


def _through_lists(path: Path, lists: Held, groups: dict[Path, SectionGroup]) -> None:
    open_lists = [(e, v) for e, v in lists if not _is_leaf_list(v)]
    if any(v for _, v in open_lists):
        inside = [(e, "", part) for e, value in open_lists for part in value]
        _collect((*path, "[]"), inside, groups)


def _collect(
    path: Path, inside: Sequence[tuple[Entry, str, Any]], groups: dict[Path, SectionGroup]
) -> None:
    group = groups.setdefault(path, SectionGroup(path))
    made = [Entry(part, e.size, e.sample, key, e) for e, key, part in inside]
    group.entries += made
    rows = [entry for entry in made if is_row(entry.value)]
    if len(rows) < len(made):
        _descend(path, [(entry, entry.value) for entry in made], groups)


def _side_by_side(path: Path, objects: Held, groups: dict[Path, SectionGroup]) -> None:
    """Recognise lists of equal length next to each other: names, numbers, boxes."""
    first = objects[0][1]
    lists = [
        name
        for name in first
        if all(isinstance(value.get(name), list) for _, value in objects)
        and all(len(value[name]) == len(objects[i][1][first_of]) for i, (_, value) in
                enumerate(objects) for first_of in [name])
    ]  # fmt: skip
    named = [n for n in lists if _all_in(objects, n, lambda v: isinstance(v, str))]
    for label in named[:1]:
        others = [n for n in lists if n != label and _same_length(objects, n, label)]
        if not others or not any(value[label] for _, value in objects):
            continue
        inner = (*path, label, "[]")
        group = groups.setdefault(inner, SectionGroup(inner))
        for entry, value in objects:
            for place, text in enumerate(value[label]):
                more = {name: value[name][place] for name in others}
                made = Entry({"": text, **more}, entry.size, entry.sample, "", entry)
                group.entries.append(made)
        group.beside = {name: written([name]) for name in others}


def _all_in(objects: Held, name: str, test: Any) -> bool:
    return all(test(part) for _, value in objects for part in value[name])


def _same_length(objects: Held, one: str, other: str) -> bool:
    return all(len(value[one]) == len(value[other]) for _, value in objects)


def _is_keyed(path: Path, objects: Sequence[Mapping[str, Any]]) -> bool:
    """Tell whether the keys of objects are labels, or ids, and no names of fields."""
    names = {name for value in objects for name in value}
    known = {*LABEL_NAMES, *CONFIDENCE_NAMES, *_OTHER_NAMES, *_SIDES}
    if not names or any(is_xy(value) for value in objects):
        return False
    if {plain_name(name) for name in names} & known and not all(n.isdigit() for n in names):
        return False
    values = [inner for value in objects for inner in value.values()]
    if all(is_number(v) for v in values):
        return len(names) > 1
    if all(isinstance(v, str) for v in values):
        repeated = len(values) > 3 and len(set(values)) <= len(values) // 2
        return bool(path) and (repeated or _is_word_scale(path, names) or _are_ids(names))
    return bool(path) and _are_things(objects, values)


_SIDES = ("x", "y", "w", "h", "width", "height", "left", "top", "right", "bottom", "x0", "x1")


def _is_word_scale(path: Path, names: set[str]) -> bool:
    """Tell whether words stand for labels: ``safety: {smoke: plain}``."""
    words = ("safe", "hazard", "flag", "moderation", "risk")
    return len(names) > 1 and any(w in str(step).lower() for step in path for w in words)


def _are_ids(names: set[str]) -> bool:
    return all(name.isdigit() for name in names)


def _are_things(objects: Sequence[Mapping[str, Any]], values: Sequence[Any]) -> bool:
    """Tell whether the values are alike, each with a confidence, a yes or no, or parts."""
    if not all(isinstance(v, dict) for v in values):
        return False
    alike = len({tuple(sorted(v)) for v in values}) == 1
    vary = len({tuple(sorted(value)) for value in objects}) > 1
    names = {plain_name(name) for v in values for name in v}
    telling = bool(names & {*CONFIDENCE_NAMES, "parts"}) or any(
        isinstance(inner, bool) for v in values for inner in v.values()
    )
    return telling and (alike or vary)


def fields_of(values: Sequence[Any]) -> dict[Path, list[Any]]:
    """Return the fields of entries: by relative path the value of each entry, None if it lacks it.

    Objects inside are taken apart, three deep; rows by place.

    Returns
    -------
    dict of tuple to list
        Each list as long as the entries.
    """
    found: dict[Path, list[Any]] = {}
    for row, value in enumerate(values):
        for path, leaf in _leaves(value, ()):
            found.setdefault(path, [None] * len(values))[row] = leaf
    return found


def _leaves(value: Any, path: Path) -> Iterator[tuple[Path, Any]]:
    if isinstance(value, dict) and len(path) < 3:
        for name, inner in value.items():
            yield from _leaves(inner, (*path, name))
    elif is_row(value) and not path:
        yield from (((place,), inner) for place, inner in enumerate(value))
    else:
        yield path, value
