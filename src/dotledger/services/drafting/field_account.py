"""What a draft does with every field of the samples: read, carried as an attribute, or not used."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from msgspec import Struct, field

from dotledger.services.drafting.sample_sections import Path, is_leaf_list, is_row, written

__all__ = ["FieldAccount", "Used", "account_of"]


class FieldAccount(Struct, kw_only=True):
    """Every field of the samples, in exactly one of three lists, as paths from the top.

    Attributes
    ----------
    read : list of str
        Label, confidence, box, what tells kinds apart, tables of names, the envelope.
    attributes : list of str
        Carried along with a finding.
    unused : list of str
        The rest; where nothing of a section is used, or it is empty in every sample, the section
        alone.
    """

    read: list[str] = field(default_factory=list)
    attributes: list[str] = field(default_factory=list)
    unused: list[str] = field(default_factory=list)


class Used(Struct, kw_only=True):
    """What one rule takes, as paths from the top: a path stands for all that is below it."""

    path: Path
    read: list[Path] = field(default_factory=list)
    attributes: list[Path] = field(default_factory=list)


def account_of(
    parts: Sequence[Any], used: Sequence[Used], around: Sequence[Path] = ()
) -> FieldAccount:
    """Return what is done with every field of the samples.

    Parameters
    ----------
    parts : sequence
        The samples.
    used : sequence of Used
        Of each rule.
    around : sequence of Path
        What the envelope reads.
    """
    paths = [path for one in used for path in (one.path, *one.read)]
    maps = {path[:at] for path in paths for at, step in enumerate(path) if step == "{}"}
    leaves = dict.fromkeys(leaf for part in parts for leaf in _leaves(part, (), maps))
    read = [path for one in used for path in one.read] + list(around)
    carried = [path for one in used for path in one.attributes]
    made, rest = FieldAccount(), []
    for leaf in leaves:
        if any(_meet(leaf, path) for path in read):
            made.read.append(written(leaf))
        elif any(_meet(leaf, path) for path in carried):
            made.attributes.append(written(leaf))
        else:
            rest.append(leaf)
    empty = dict.fromkeys(path for part in parts for path in _empties(part, (), maps))
    rest += [path for path in empty if not any(leaf[: len(path)] == path for leaf in leaves)]
    kept = [leaf for leaf in leaves if leaf not in rest]
    made.unused = list(dict.fromkeys(written(_shortest(leaf, kept)) for leaf in rest))
    return made


def _leaves(value: Any, path: Path, maps: set[Path]) -> Iterator[Path]:
    """Yield the path of every single value; what is a list of numbers or points is one."""
    if isinstance(value, dict) and value:
        for name, inner in value.items():
            yield from _leaves(inner, (*path, "{}" if path in maps else name), maps)
    elif isinstance(value, list) and value and not is_leaf_list(value):
        if path and path[-1] == "[]" and is_row(value):
            for place, inner in enumerate(value):
                yield from _leaves(inner, (*path, place), maps)
            return
        for inner in value:
            yield from _leaves(inner, (*path, "[]"), maps)
    elif path and value not in ([], {}):  # what is empty here is told by another sample
        yield path


def _empties(value: Any, path: Path, maps: set[Path]) -> Iterator[Path]:
    """Yield the paths of lists and objects without anything in them."""
    if value in ([], {}) and path:
        yield path
    for name, inner in value.items() if isinstance(value, dict) else ():
        yield from _empties(inner, (*path, "{}" if path in maps else name), maps)
    for inner in value if isinstance(value, list) else ():
        yield from _empties(inner, (*path, "[]"), maps)


def _meet(leaf: Path, path: Path) -> bool:
    """Tell whether a leaf lies below a path, or a path goes on inside of a leaf."""
    shorter = min(len(leaf), len(path))
    return leaf[:shorter] == path[:shorter]


def _shortest(leaf: Path, kept: Sequence[Path]) -> Path:
    """Return the longest way down to a leaf on which nothing is used: one name for a section."""
    for length in range(1, len(leaf)):
        if leaf[length - 1] in ("[]", "{}"):
            continue
        if not any(other[:length] == leaf[:length] for other in kept):
            return leaf[:length]
    return leaf
