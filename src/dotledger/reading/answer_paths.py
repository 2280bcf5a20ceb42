"""Addressing parts of an answer.

A path is names joined by dots; a name that is no plain word stands in double quotes. In ``each``,
``name[]`` goes through a list and ``name{}`` through an object's values. In a rule's other paths,
every leading ``^`` goes one level of ``each`` outward, ``@key`` is the key under which ``{}`` found
the part, ``name.@key`` are the keys of an object, and ``name[@index]`` is the part of a list that
stands where the part in hand stands in its own: for lists side by side. Anything else is taken as a
JMESPath expression (https://jmespath.org/specification.html).
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Any

from msgspec import Struct

from dotledger.errors import DescriptionError

__all__ = [
    "MISSING",
    "Getter",
    "Level",
    "check_paths",
    "compile_each",
    "compile_path",
    "listed_names",
    "names_of_path",
]

MISSING: Any = type(
    "_Missing", (), {"__repr__": lambda _: "<missing>", "__bool__": lambda _: False}
)()
"""What a path yields where there is nothing."""

_LONGEST = 500
_MOST_SEVERAL = 8
_SIMPLE = re.compile(r"\^*(?:@key|@index|@|[\w-]+(?:\.[\w-]+)*(?:\[@index\]|\.@key)?)?$")
_NAME = r'(?:[\w-]+|"(?:[^"\\]|\\.)*")'
_STEP = re.compile(rf"({_NAME}(?:\.{_NAME})*)?(\[\]|\{{\}})?(?:\.(?!$)|$|(?=\[\]|\{{\}}))")
_LISTED = re.compile(r"([^.\[\]{}]+)\[\]")
_ONE_NAME = re.compile(_NAME)


class Level(Struct, eq=False, gc=False):
    """One part of an answer on the way from the whole to a finding."""

    value: Any
    key: str
    index: int
    outer: Level | None


Getter = Callable[[Level], Any]


def _walk(value: Any, names: tuple[str, ...]) -> Any:
    for name in names:
        if type(value) is not dict:
            return MISSING
        value = value.get(name, MISSING)
    return value


def compile_path(path: str, *, place: str = "path") -> Getter:
    """Return a function from a level to what stands at `path`, or `MISSING`.

    Parameters
    ----------
    path : str
        Such as ``box.left`` or ``^width``.

    Returns
    -------
    callable
        From a level to a value.

    Raises
    ------
    DescriptionError
        If `path` is neither a simple path nor a JMESPath expression.
    """
    bare = path.lstrip("^")
    up = len(path) - len(bare)
    if not _SIMPLE.match(path):
        return _outward(_expression(bare, place), up)
    if bare.endswith("[@index]"):
        return _beside(tuple(bare.removesuffix("[@index]").split(".")), up)
    return _outward(_inner(bare), up)


def _outward(inner: Getter, up: int) -> Getter:
    if not up:
        return inner

    def get(level: Level) -> Any:
        for _ in range(up):
            if level.outer is None:
                return MISSING
            level = level.outer
        return inner(level)

    return get


def _inner(bare: str) -> Getter:
    if bare == "@key":
        return lambda level: level.key
    if bare == "@index":
        return lambda level: level.index
    if bare.endswith(".@key"):
        return _keys(tuple(bare.removesuffix(".@key").split(".")))
    if bare in ("", "@"):
        return lambda level: level.value
    names = tuple(bare.split("."))
    if len(names) > 1:
        return lambda level: _walk(level.value, names)
    [name] = names
    return lambda level: level.value.get(name, MISSING) if type(level.value) is dict else MISSING


def _keys(names: tuple[str, ...]) -> Getter:
    """Return the keys of the object at a path, as a list."""

    def get(level: Level) -> Any:
        found = _walk(level.value, names)
        return list(found) if type(found) is dict else MISSING

    return get


def _beside(names: tuple[str, ...], up: int) -> Getter:
    """Return what stands in another list where the part in hand stands in its own."""

    def get(level: Level) -> Any:
        place, outer = level.index, level
        for _ in range(up):
            if outer.outer is None:
                return MISSING
            outer = outer.outer
        listed = _walk(outer.value, names)
        inside = type(listed) is list and place < len(listed)
        return listed[place] if inside else MISSING

    return get


def _expression(path: str, place: str) -> Getter:
    import jmespath

    try:
        compiled = _compiled(path)
    except (jmespath.exceptions.JMESPathError, RecursionError, ValueError) as error:
        raise DescriptionError(f"not a path ({_reason(error)})", place=place, got=path) from error

    def get(level: Level) -> Any:
        try:
            found = compiled.search(level.value)
        except (jmespath.exceptions.JMESPathError, RecursionError, TypeError, ValueError):
            return MISSING
        return MISSING if found is None else found

    return get


def check_paths(*named: tuple[str, str]) -> None:
    """Refuse what is not a path, of pairs of a path and the key it is under; empty ones are fine.

    Raises
    ------
    DescriptionError
        Naming the key.
    """
    for path, place in named:
        compile_path(path, place=place)


def _compiled(path: str) -> Any:
    """Compile an expression that takes neither long to compile nor to search with."""
    import jmespath

    if len(path) > _LONGEST:
        raise ValueError(f"longer than {_LONGEST} characters")
    compiled = jmespath.compile(path)
    for name in _functions(compiled.parsed):
        if name not in jmespath.functions.Functions.FUNCTION_TABLE:
            raise ValueError(f"unknown function {name}()")
    if _many(compiled.parsed) > _MOST_SEVERAL:
        raise ValueError(f"more than {_MOST_SEVERAL} lists or objects are made in it")
    return compiled


def _nodes(node: Any) -> Iterator[dict[str, Any]]:
    waiting = [node]
    while waiting:
        part = waiting.pop()
        yield part
        waiting += [child for child in part.get("children", ()) if isinstance(child, dict)]


def _many(node: Any) -> int:
    """Return how many lists and objects an expression makes: each may double what it is given."""
    makers = ("multi_select_list", "multi_select_dict")
    return sum(part.get("type") in makers for part in _nodes(node))


def _functions(node: Any) -> list[str]:
    found = [part for part in _nodes(node) if part.get("type") == "function_expression"]
    return [str(part.get("value")) for part in found]


def _reason(error: Exception) -> str:
    return "nested too deeply" if isinstance(error, RecursionError) else str(error).split("\n")[0]


class _Step(Struct, frozen=True):
    names: tuple[str, ...]
    through: str


def compile_each(
    path: str, *, place: str = "each"
) -> Callable[[Level, list[str]], Iterable[Level]]:
    """Return a function that goes from a level through all parts at `path`.

    Its second argument is a list, to which names are appended that a part on the way lacks, or
    where it says null. A list or object that is null yields nothing, and so does one that is
    missing; one of another type raises TypeError, which the reader turns into a note.

    Parameters
    ----------
    path : str
        Such as ``report.faces[]``; empty for the level itself.

    Returns
    -------
    callable
        From a level and a list to levels.

    Raises
    ------
    DescriptionError
        If `path` is not a path of names, ``[]`` and ``{}``.
    """
    steps = _steps(path, place)
    if not steps:
        return lambda level, _: [level]
    first, *deeper = steps

    def each(level: Level, lacking: list[str]) -> Iterable[Level]:
        parts = _through(level, first, lacking)
        return _descend(parts, deeper, lacking) if deeper else parts

    return each


def names_of_path(path: str, *, place: str = "path") -> list[str]:
    """Return the names on a path of names, ``[]`` and ``{}``, each by itself.

    Parameters
    ----------
    path : str
        Such as ``parts[].body``.

    Returns
    -------
    list of str
        ``["parts", "[]", "body"]``; empty for an empty path.

    Raises
    ------
    DescriptionError
        If it is no such path.
    """
    steps = _steps(path, place)
    return [name for step in steps for name in (*step.names, step.through) if name]


def listed_names(paths: Iterable[str]) -> tuple[str, ...]:
    """Return the names that paths go through as lists.

    Parameters
    ----------
    paths : iterable of str
        As in ``each``.
    """
    found = (name for path in paths for name in _LISTED.findall(path))
    return tuple(dict.fromkeys(found))


def _steps(path: str, place: str) -> list[_Step]:
    if path in ("", "@"):
        return []
    steps, at = [], 0
    while at < len(path):
        match = _STEP.match(path, at)
        if match is None or match.end() == at:
            raise DescriptionError("not a path of names, [] and {}", place=place, got=path)
        names = tuple(map(_plain, _ONE_NAME.findall(match[1] or "")))
        steps.append(_Step(names, match[2] or ""))
        at = match.end()
    return steps


def _plain(name: str) -> str:
    """Return a name without the quotes that it may stand in."""
    return str(json.loads(name)) if name.startswith('"') else name


def _descend(parts: list[Level], steps: list[_Step], lacking: list[str]) -> Iterator[Level]:
    """Go on from each part in turn: what stands before one of the wrong type is not lost."""
    step, *deeper = steps
    for part in parts:
        inner = _through(part, step, lacking)
        yield from _descend(inner, deeper, lacking) if deeper else inner


def _through(level: Level, step: _Step, lacking: list[str]) -> list[Level]:
    value = _walk(level.value, step.names) if step.names else level.value
    if value is MISSING:
        lacking.append(".".join(step.names))
    elif value is None:
        lacking.append(f"null at {'.'.join(step.names)}")
    if value is MISSING or value is None:
        return []
    return _parts(value, step.through, level)


def _parts(value: Any, through: str, outer: Level) -> list[Level]:
    if through == "[]":
        if type(value) is dict:
            # Some writers of JSON give a list of one as the one itself. Where it is no such thing
            # its parts lack what the rule names, and nothing is read in silence.
            return [Level(value, "", 0, outer)]
        if type(value) is not list:
            raise TypeError(f"a list was expected, not {type(value).__name__}")
        return [Level(part, "", index, outer) for index, part in enumerate(value)]
    if through == "{}":
        if not isinstance(value, Mapping):
            raise TypeError(f"an object was expected, not {type(value).__name__}")
        return [Level(part, key, i, outer) for i, (key, part) in enumerate(value.items())]
    return [Level(value, "", 0, outer)]
