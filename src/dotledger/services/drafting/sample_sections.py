"""Taking sample answers apart: every place at which findings may stand, and the fields there.

Nothing is decided here. A list, an object used as a map, lists side by side, a table with the names
of its columns, and a single object each give a group; one part of an answer may be in several.
Which of them hold findings is decided in `whole_readings`, over all samples at once.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

from msgspec import Struct, field

__all__ = [
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

_DEEPEST = 8
_MOST_GROUPS = 60
"""An answer with more places is a dump of something else; the first ones are looked at."""
_MOST_KEYS = 400
_AMOUNT = re.compile(r"\s*[-+]?(?:\d+(?:[.,]\d+)?|[.,]\d+)(?:[eE][-+]?\d+)?\s*%?\s*$")
_PLAIN = re.compile(r"[\w-]+$", re.ASCII)


class Entry(Struct, eq=False):
    """One part of an answer that may be a finding: where it stands, and what is around it.

    `place` is where it stands in its sample, with the numbers of list entries; `also` where the
    rest of it stands, for lists side by side; `outer` is the entry of the group around it.
    """

    value: Any
    size: tuple[float, float]
    sample: int
    place: Path = ()
    key: str = ""
    outer: Entry | None = None
    also: tuple[Path, ...] = ()


class SectionGroup(Struct, eq=False):
    """All entries at one path, over all samples.

    Attributes
    ----------
    path : Path
        Ends in ``[]`` or ``{}``; in a name for a single object.
    entries : list of Entry
        In the order met.
    beside : dict of str to str
        For lists side by side: the path of each by its name.
    columns : str
        For a table: the path to the names of its columns.
    keep_if : str
        For entries of one sort: what tells them apart.
    sort : str
        The word that tells them apart.
    """

    path: Path
    entries: list[Entry] = field(default_factory=list)
    beside: dict[str, str] = field(default_factory=dict)
    columns: str = ""
    keep_if: str = ""
    sort: str = ""

    @property
    def values(self) -> list[Any]:
        """The entries' values."""
        return [entry.value for entry in self.entries]

    @property
    def names(self) -> list[str]:
        """The names on the way, in lower case."""
        return [str(step).lower() for step in self.path if step not in ("[]", "{}")]

    @property
    def through(self) -> str:
        """How its entries are reached: ``[]``, ``{}``, or empty for a single object."""
        last = self.path[-1] if self.path else ""
        return str(last) if last in ("[]", "{}") else ""


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
    return (
        isinstance(value, dict)
        and {plain_name(name) for name in value} == {"x", "y"}
        and all(map(is_amount, value.values()))
    )


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


def written(path: Iterable[str | int]) -> str:
    """Return a path as a description writes it; names that are no plain words in quotes."""
    text = ""
    for step in path:
        if step in ("[]", "{}"):
            text += f".{step}" if text.endswith(("]", "}")) else str(step)
        elif isinstance(step, int):
            text += f"[{step}]"
        else:
            name = step if _PLAIN.match(step) else json.dumps(step, ensure_ascii=False)
            text += f".{name}" if text else name
    return text or "@"


def is_leaf_list(value: Sequence[Any]) -> bool:
    """Tell whether a list is one value: numbers, points, or rings of points.

    Returns
    -------
    bool
        False for an empty list, which tells nothing.
    """
    if not value:
        return False
    if all(is_number(v) for v in value) or all(is_pair(v) for v in value):
        return True
    rings = all(isinstance(v, list) and len(v) > 2 and all(is_pair(p) for p in v) for v in value)
    texts = all(isinstance(v, str) and is_amount(v) for v in value)
    return rings or texts


def is_row(value: Any) -> bool:
    """Tell whether a value is a row: single values, and numbers among them, in one list."""
    return (
        isinstance(value, list)
        and len(value) > 1
        and not all(isinstance(v, (dict, list)) for v in value)
        and not (all(map(is_amount, value)) and len(value) < 5)
    )


Held = list[tuple[Entry, Path, Any]]
"""Values at one path: each with the entry that it lies in, and its own place in the sample."""


def groups_of(parts: Sequence[tuple[Any, tuple[float, float]]]) -> dict[Path, SectionGroup]:
    """Return every group of entries, in the order met: by its path, and by how it is seen there.

    Parameters
    ----------
    parts : sequence of (object, (width, height))
        An answer, or one image's part of it, and the size of the image.
    """
    groups: dict[Path, SectionGroup] = {}
    tops = [Entry(value, size, sample) for sample, (value, size) in enumerate(parts)]
    _descend((), [(top, (), top.value) for top in tops], groups)
    return groups


def _descend(path: Path, held: Held, groups: dict[Path, SectionGroup]) -> None:
    """Go through all values at one path."""
    if len(path) > _DEEPEST or len(groups) > _MOST_GROUPS:
        return
    _through_lists(path, [one for one in held if isinstance(one[2], list)], groups)
    objects = [one for one in held if isinstance(one[2], dict) and one[2]]
    if not objects:
        return
    if _may_be_map([value for _, _, value in objects]):
        inside = [(e, (*at, k), k, v) for e, at, value in objects for k, v in value.items()]
        _collect((*path, "{}"), inside, groups)
        if _are_keys([value for _, _, value in objects]):
            return
    if not any(is_xy(value) for _, _, value in objects):
        _single(path, objects, groups)
        _side_by_side(path, objects, groups)
        _tables(path, objects, groups)
        for name in dict.fromkeys(n for _, _, value in objects for n in value):
            inner = [(e, (*at, name), v[name]) for e, at, v in objects if name in v]
            _descend((*path, name), inner, groups)


def _through_lists(path: Path, lists: Held, groups: dict[Path, SectionGroup]) -> None:
    open_lists = [one for one in lists if not is_leaf_list(one[2])]
    if any(value for _, _, value in open_lists):
        inside = [
            (e, (*at, place), "", part)
            for e, at, value in open_lists
            for place, part in enumerate(value)
        ]
        _collect((*path, "[]"), inside, groups)


def _collect(
    path: Path, inside: Sequence[tuple[Entry, Path, str, Any]], groups: dict[Path, SectionGroup]
) -> None:
    group = groups.setdefault(path, SectionGroup(path))
    made = [Entry(part, e.size, e.sample, at, key, e) for e, at, key, part in inside]
    group.entries += made
    deeper = [entry for entry in made if not is_row(entry.value)]
    _descend(path, [(entry, entry.place, entry.value) for entry in deeper], groups)


def _single(path: Path, objects: Held, groups: dict[Path, SectionGroup]) -> None:
    """Note an object that may be one finding itself: it has single values and is in no list."""
    in_list = bool(path) and path[-1] in ("[]", "{}")
    single = any(not isinstance(v, (dict, list)) for _, _, value in objects for v in value.values())
    if in_list or not single:
        return
    group = groups.setdefault(path, SectionGroup(path))
    group.entries += [Entry(value, e.size, e.sample, at, "", e) for e, at, value in objects]


def _side_by_side(path: Path, objects: Held, groups: dict[Path, SectionGroup]) -> None:
    """Note lists of equal length next to each other: names, numbers, boxes."""
    first = objects[0][2]
    lists = [n for n in first if all(isinstance(value.get(n), list) for _, _, value in objects)]
    lists = [n for n in lists if any(value[n] for _, _, value in objects)]
    while len(lists) > 1:
        label, *rest = lists
        others = [n for n in rest if _same_length(objects, n, label)]
        lists = [n for n in rest if n not in others]
        if not others:
            continue
        inner = (*path, label, "[]")
        made = [
            Entry(
                {name: value[name][place] for name in (label, *others)},
                entry.size,
                entry.sample,
                (*at, label, place),
                "",
                entry,
                tuple((*at, name, place) for name in others),
            )
            for entry, at, value in objects
            for place in range(len(value[label]))
        ]
        way = [*_since_list(path)]
        beside = {name: written([*way, name]) for name in (label, *others)}
        groups["beside", *inner] = SectionGroup(inner, made, beside)


def _since_list(path: Path) -> Path:
    """Return the names of a path since it last went through a list or a map."""
    through = [i for i, step in enumerate(path) if step in ("[]", "{}")]
    return path[through[-1] + 1 :] if through else path


def _same_length(objects: Held, one: str, other: str) -> bool:
    return all(len(value[one]) == len(value[other]) for _, _, value in objects)


def _tables(path: Path, objects: Held, groups: dict[Path, SectionGroup]) -> None:
    """Note rows next to a list of as many names: the names of their columns."""
    if any(step in ("[]", "{}") for step in path):
        return
    first = objects[0][2]
    headers = [n for n in first if all(_is_header(value.get(n)) for _, _, value in objects)]
    for header in headers:
        for name in first:
            if name == header or not all(
                _are_rows(value.get(name), len(value[header])) for _, _, value in objects
            ):
                continue
            inner = (*path, name, "[]")
            made = [
                Entry(
                    dict(zip(value[header], row, strict=True)),
                    entry.size,
                    entry.sample,
                    (*at, name, place),
                    "",
                    entry,
                )
                for entry, at, value in objects
                for place, row in enumerate(value[name])
                if row != value[header]
            ]
            groups["table", *inner] = SectionGroup(inner, made, columns=written((*path, header)))


def _is_header(value: Any) -> bool:
    texts = isinstance(value, list) and len(value) > 1 and all(isinstance(v, str) for v in value)
    return texts and len(set(value)) == len(value)


def _are_rows(value: Any, count: int) -> bool:
    return isinstance(value, list) and all(isinstance(r, list) and len(r) == count for r in value)


def _may_be_map(objects: Sequence[Mapping[str, Any]]) -> bool:
    """Tell whether objects may be maps: several names, and values that are all of one sort."""
    values = [inner for value in objects for inner in value.values()]
    names = {name for value in objects for name in value}
    if not 1 < len(names) < _MOST_KEYS or any(is_xy(value) for value in objects):
        return False
    if all(isinstance(v, dict) for v in values):
        return _share_a_field(values)
    if all(isinstance(v, list) for v in values):
        leaf = [is_leaf_list(v) for v in values if v]
        parts = [part for v in values for part in v if isinstance(part, dict)]
        return all(leaf) or (not any(leaf) and _share_a_field(parts))
    return any(
        all(test(v) for v in values)
        for test in (
            is_amount,
            lambda v: isinstance(v, bool),
            lambda v: isinstance(v, str) and not is_amount(v),
        )
    )


def _share_a_field(objects: Sequence[Mapping[str, Any]]) -> bool:
    """Tell whether all objects that have any field have one in common: they are of one sort."""
    filled = [set(value) for value in objects if value]
    return not filled or bool(set.intersection(*filled))


def _are_keys(objects: Sequence[Mapping[str, Any]]) -> bool:
    """Tell whether the names in objects of one sort are keys for certain: most are in one only."""
    names = {name for value in objects for name in value}
    mean = sum(map(len, objects)) / len(objects)
    return len(objects) > 1 and len(names) > 1.5 * mean


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
    if isinstance(value, dict) and len(path) < 3 and not (is_xy(value) and path):
        for name, inner in value.items():
            yield from _leaves(inner, (*path, name))
    elif is_row(value) and not path:
        for place, inner in enumerate(value):
            yield from _leaves(inner, (place,))
    else:
        yield path, value
