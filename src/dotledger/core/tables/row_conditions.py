"""Conditions on findings, such as ``age < 18 and mood = 'happy'``: parsed, never evaluated.

A value that a finding lacks satisfies nothing, and neither does its opposite: what is not known is
not known to be otherwise. That is the logic of three values of SQL (ISO/IEC 9075-2).
"""

from __future__ import annotations

import ast
import math
import operator
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dotledger.core.spelling import nearest
from dotledger.core.tables.finding_details import Details, attribute_cells, attribute_list
from dotledger.core.tables.threshold_values import Cuttable
from dotledger.errors import ArgumentError

__all__ = ["condition_row", "met_by", "rows_where"]

_LONGEST = 500
_QUOTED = re.compile(r"('[^']*'|\"[^\"]*\")")
_EQUALS = re.compile(r"(?<![<>=!])=(?!=)")
_WORDS = re.compile(r"\b(AND|OR|NOT|IN)\b")
_ALLOWED = "field < 18, =, !=, <=, >=, in ('a', 'b'), and, or, not, brackets"
_OPERATORS: Mapping[type[ast.cmpop], Callable[[Any, Any], bool]] = {
    ast.Lt: operator.lt,
    ast.LtE: operator.le,
    ast.Gt: operator.gt,
    ast.GtE: operator.ge,
    ast.Eq: operator.eq,
    ast.NotEq: operator.ne,
}
Row = Mapping[str, Any]
Test = Callable[[Row], bool | None]


def rows_where(findings: Cuttable, condition: str) -> NDArray[np.bool_]:
    """Return which rows of findings satisfy a condition; blank rows never do.

    Parameters
    ----------
    condition : str
        Comparisons of ``label``, ``kind``, ``confidence``, ``person``, ``similarity`` and
        attributes (a space in a name is written ``_``) with numbers and quoted text, joined by
        ``and``, ``or``, ``not``. Letter case of text does not matter. A flag may stand alone. A
        list equals each of its entries, and is unequal to what is none of them. A
        range is below a number if its higher end is, and above it if its lower end is.

    Returns
    -------
    array of bool
        Of shape (rows,).

    Raises
    ------
    ArgumentError
        If it is no such condition, names a field that no finding has, or compares a field with
        what it never is, such as text with a number.
    """
    met = met_by(list(_rows(findings)), condition)
    return np.array(met, dtype=bool) & ~findings.blank


def met_by(rows: Sequence[Row], condition: str) -> list[bool]:
    """Return which rows satisfy a condition; each is made by `condition_row`.

    Raises
    ------
    ArgumentError
        As `rows_where` does: a field must be one that a row has.
    """
    test = _Condition(condition, rows).test
    return [test(row) is True for row in rows]


def condition_row(
    kind: str, label: str, confidence: float | None, details: Details | None
) -> dict[str, Any]:
    """Return a finding as conditions see it: its attributes by names without spaces."""
    return {**_told(details), "kind": kind, "label": label, "confidence": confidence}


def _rows(findings: Cuttable) -> Iterable[Row]:
    details = findings.details or [None] * len(findings.confidence)
    columns = (findings.kind.values(), findings.label.values(), findings.confidence.tolist())
    for one, kind, label, confidence in zip(details, *columns, strict=True):
        yield condition_row(kind, label, None if math.isnan(confidence) else confidence, one)


def _told(details: Details | None) -> dict[str, Any]:
    """Return the attributes of a finding by names without spaces; a range as both its ends."""
    told: dict[str, Any] = dict(attribute_cells(details))
    for name, value in (details.attributes if details is not None else {}).items():
        if isinstance(value, Mapping) and {"low", "high"} <= value.keys():
            told[name] = (float(value["low"]), float(value["high"]))
        elif (entries := attribute_list(value)) is not None:
            told[name] = [entry.casefold() for entry in entries]
    return {name.replace(" ", "_"): value for name, value in told.items()}


class _Condition:
    """A condition, compiled to a function of a row."""

    def __init__(self, text: str, rows: Sequence[Row]) -> None:
        self._text, self._rows = text, rows
        self._known = dict.fromkeys(
            ("label", "kind", "confidence", "person", "similarity", *(n for r in rows for n in r))
        )
        if len(text) > _LONGEST:
            raise self._refused(f"longer than {_LONGEST} characters")
        try:
            parsed = ast.parse(_as_python(text), mode="eval").body
        except (SyntaxError, ValueError, RecursionError, MemoryError):
            raise self._refused("it cannot be parsed") from None
        self.test = self._compiled(parsed)

    def _refused(self, why: str, next_step: str = "") -> ArgumentError:
        return ArgumentError(
            f"not a condition: {why}",
            place="where",
            got=self._text,
            allowed=[_ALLOWED],
            next_step=next_step,
        )

    def _compiled(self, node: ast.AST) -> Test:
        if isinstance(node, ast.BoolOp):
            tests = [self._compiled(one) for one in node.values]
            return _all(tests) if isinstance(node.op, ast.And) else _any(tests)
        if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
            inner = self._compiled(node.operand)
            return lambda row: None if (met := inner(row)) is None else not met
        if isinstance(node, ast.Compare) and len(node.ops) == 1:
            return self._compared(node.left, node.ops[0], node.comparators[0])
        if isinstance(node, ast.Name):
            return self._flag(self._field(node))
        raise self._refused(f"{ast.unparse(node)!r} is none")

    def _field(self, node: ast.AST) -> str:
        if not isinstance(node, ast.Name):
            raise self._refused(f"{ast.unparse(node)!r} stands where a field should")
        if node.id not in self._known:
            close = nearest(node.id, self._known)
            raise self._refused(
                f"no finding has {node.id!r}; there are {', '.join(self._known)}",
                f"Did you mean {close[0]}?" if close else "",
            )
        return node.id

    def _flag(self, name: str) -> Test:
        self._check(name, bool)
        return lambda row: row.get(name) if isinstance(row.get(name), bool) else None

    def _compared(self, left: ast.AST, op: ast.cmpop, right: ast.AST) -> Test:
        name = self._field(left)
        if isinstance(op, ast.In | ast.NotIn) and isinstance(right, ast.Tuple | ast.List):
            wanted = [self._constant(one) for one in right.elts]
            tests = [self._pair(name, ast.Eq(), one) for one in wanted]
            met = _any(tests)
            if isinstance(op, ast.In):
                return met
            return lambda row: None if (found := met(row)) is None else not found
        if type(op) not in _OPERATORS:
            raise self._refused("one of its comparisons is none")
        return self._pair(name, op, self._constant(right))

    def _constant(self, node: ast.AST) -> float | str | bool:
        negative = isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub)
        value = node.operand if negative else node  # type: ignore[attr-defined]
        if not isinstance(value, ast.Constant) or not isinstance(value.value, int | float | str):
            raise self._refused(f"{ast.unparse(node)!r} is neither a number nor text in quotes")
        if negative and isinstance(value.value, int | float):
            return -value.value
        return value.value

    def _pair(self, name: str, op: ast.cmpop, wanted: float | str | bool) -> Test:
        compare = _OPERATORS[type(op)]
        sort = bool if isinstance(wanted, bool) else str if isinstance(wanted, str) else float
        if sort is str and not isinstance(op, ast.Eq | ast.NotEq):
            raise self._refused("text is compared by = and != only")
        self._check(name, sort)
        goal = wanted.casefold() if isinstance(wanted, str) else wanted

        def test(row: Row) -> bool | None:
            value = row.get(name)
            if isinstance(value, list):
                return _of_list(value, op, goal) if sort is str else None
            if isinstance(value, tuple):
                return _of_range(value, op, float(goal)) if sort is float else None
            if value is None or _sort_of(value) is not sort:
                return None
            return compare(value.casefold() if isinstance(value, str) else value, goal)

        return test

    def _check(self, name: str, sort: type) -> None:
        """Refuse a comparison that no finding can satisfy: an empty table would be an answer."""
        there = [row[name] for row in self._rows if row.get(name) is not None]
        if there and not any(_sort_of(value) is sort for value in there):
            what = {float: "a number", str: "text", bool: "yes or no"}[sort]
            raise self._refused(f"{name} is never {what}; its values are like {there[0]!r}")


def _sort_of(value: Any) -> type:
    if isinstance(value, bool):
        return bool
    return str if isinstance(value, str | list) else float


def _of_list(value: list[str], op: ast.cmpop, goal: Any) -> bool:
    """Return whether a list holds an entry, or does not."""
    return (goal in value) == isinstance(op, ast.Eq)


def _of_range(value: tuple[float, float], op: ast.cmpop, goal: float) -> bool | None:
    """Return whether a whole range lies as a condition says; None where only a part of it does."""
    low, high = value
    compare = _OPERATORS[type(op)]
    ends = {compare(low, goal), compare(high, goal)}
    if isinstance(op, ast.Eq | ast.NotEq):
        outside = not low <= goal <= high
        return outside == isinstance(op, ast.NotEq) if outside or low == high else None
    return ends.pop() if len(ends) == 1 else None


def _as_python(text: str) -> str:
    """Return a condition as an expression: a single ``=`` compares, words may be capital."""
    parts = _QUOTED.split(text.strip())
    plain = (
        _WORDS.sub(lambda m: m[0].lower(), _EQUALS.sub("==", part)) if place % 2 == 0 else part
        for place, part in enumerate(parts)
    )
    return "".join(plain)


def _all(tests: list[Test]) -> Test:
    def test(row: Row) -> bool | None:
        met = [one(row) for one in tests]
        return False if False in met else None if None in met else True

    return test


def _any(tests: list[Test]) -> Test:
    def test(row: Row) -> bool | None:
        met = [one(row) for one in tests]
        return True if True in met else None if None in met else False

    return test
