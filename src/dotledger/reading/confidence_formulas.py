"""Confidences by a formula: a monotone function of the service's number, parsed, never evaluated.

A formula is arithmetic with ``x``, numbers, ``pi``, ``e`` and the functions of `FUNCTIONS`.
"""

from __future__ import annotations

import ast
import itertools
import math
import operator
from collections.abc import Callable, Mapping, Sequence

__all__ = ["FUNCTIONS", "formula"]

FUNCTIONS: Mapping[str, Callable[..., float]] = {
    "exp": math.exp,
    "log": math.log,
    "log2": math.log2,
    "log10": math.log10,
    "sqrt": math.sqrt,
    "tanh": math.tanh,
    "atan": math.atan,
    "abs": abs,
    "min": min,
    "max": max,
}
"""Functions that a formula may call; `log` is the natural logarithm."""

_OPERATORS: Mapping[type[ast.operator], Callable[[float, float], float]] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.Div: operator.truediv,
    ast.Pow: operator.pow,
}
_CONSTANTS = {"pi": math.pi, "e": math.e}
_LONGEST = 200
_SEVERAL = ("min", "max")
Part = Callable[[float], float]


def formula(text: str, between: tuple[float, float] | None = None) -> Callable[[float], float]:
    """Return the function that a formula is.

    Parameters
    ----------
    text : str
        Such as ``1 / (1 + exp(-x))``, or ``1 - x / 2`` for a distance.
    between : (float, float), optional
        The service's lowest and highest number; by default any.

    Returns
    -------
    callable
        From the service's number to a confidence. It gives NaN where the formula has no value, and
        outside of `between`.

    Raises
    ------
    ValueError
        If it is no such formula, reaches no confidence from 0 to 1, or both rises and falls: two
        numbers of the service, of which one is the surer, would then be the same.
    """
    if len(text) > _LONGEST:
        raise ValueError(f"a formula has at most {_LONGEST} characters")
    try:
        whole = ast.parse(text.strip(), mode="eval").body
        part = _part(whole)
    except (SyntaxError, RecursionError, MemoryError, OverflowError):
        raise ValueError(f"{text!r} is no formula; write arithmetic with x") from None
    low, high = between or (-math.inf, math.inf)

    def convert(value: float) -> float:
        return _value(part, value) if low <= value <= high else math.nan

    _check_monotone(text, [convert(value) for value in _numbers(between)])
    return convert


def _value(part: Part, value: float) -> float:
    try:
        found = part(value)
    except (ArithmeticError, ValueError, TypeError):
        return math.nan
    return found if isinstance(found, float | int) else math.nan


def _part(node: ast.AST) -> Part:
    if (
        isinstance(node, ast.Constant)
        and isinstance(node.value, int | float)
        and (not isinstance(node.value, bool))
    ):
        number = float(node.value)
        return lambda _: number
    if isinstance(node, ast.Name):
        return _name(node.id)
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub | ast.UAdd):
        inner, sign = _part(node.operand), -1.0 if isinstance(node.op, ast.USub) else 1.0
        return lambda x: sign * inner(x)
    if isinstance(node, ast.BinOp) and type(node.op) in _OPERATORS:
        left, right, both = _part(node.left), _part(node.right), _OPERATORS[type(node.op)]
        return lambda x: both(left(x), right(x))
    if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and not node.keywords:
        return _call(node.func.id, [_part(one) for one in node.args])
    raise ValueError(f"{ast.unparse(node)!r} is no part of a formula; {_ALLOWED}")


def _name(name: str) -> Part:
    if name == "x":
        return lambda x: x
    if name not in _CONSTANTS:
        raise ValueError(f"{name!r} is no part of a formula; {_ALLOWED}")
    constant = _CONSTANTS[name]
    return lambda _: constant


def _call(name: str, given: Sequence[Part]) -> Part:
    if name not in FUNCTIONS:
        raise ValueError(f"{name}() is no part of a formula; {_ALLOWED}")
    if len(given) != 1 and (name not in _SEVERAL or not given):
        raise ValueError(f"{name}() takes one number in a formula")
    function = FUNCTIONS[name]
    if len(given) == 1:
        [only] = given
        return only if name in _SEVERAL else (lambda x: function(only(x)))
    return lambda x: function(*(one(x) for one in given))


_ALLOWED = f"it may hold x, numbers, pi, e, + - * / ** and {', '.join(FUNCTIONS)}"
_STEPS = 2000
_ALMOST = 1e-12


def _numbers(between: tuple[float, float] | None) -> list[float]:
    """Return numbers at which a formula is looked at: even, or dense near 0 and up to a million."""
    shares = [step / _STEPS for step in range(_STEPS + 1)]
    if between is not None:
        return [between[0] + share * (between[1] - between[0]) for share in shares]
    return [math.sinh(15 * (2 * share - 1)) for share in shares]


def _check_monotone(text: str, values: Sequence[float]) -> None:
    kept = [value for value in values if 0 <= value <= 1]
    if len(set(kept)) < 2:
        raise ValueError(f"{text!r} gives no confidences from 0 to 1 for the numbers it is for")
    steps = [later - value for value, later in itertools.pairwise(kept)]
    if min(steps) < -_ALMOST and max(steps) > _ALMOST:
        raise ValueError(
            f"{text!r} rises and falls, so that it is no scale; if the service's numbers lie where "
            "it does not, say range = [low, high]"
        )
