"""Guessing how boxes are written, from their values and the images' sizes."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

from msgspec import Struct, field

from dotledger.core.geometry import BOX_FORMS

__all__ = ["BoxGuess", "box_guesses", "is_number", "is_xy", "roles_of"]

_ROLES: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("x0", ("x0", "left", "xmin", "x_min", "minx", "l", "x1")),
    ("y0", ("y0", "top", "ymin", "y_min", "miny", "t")),
    ("x1", ("x1", "right", "xmax", "x_max", "maxx", "r", "x2")),
    ("y1", ("y1", "bottom", "ymax", "y_max", "maxy", "b", "y2")),
    ("width", ("width", "w", "wide")),
    ("height", ("height", "h", "high", "tall")),
    ("cx", ("cx", "center_x", "centre_x", "xc", "x_center", "midx", "mid_x")),
    ("cy", ("cy", "center_y", "centre_y", "yc", "y_center", "midy", "mid_y")),
)


class BoxGuess(Struct, frozen=True, kw_only=True):
    """One way in which a box may be written, with what speaks for it."""

    at: str
    form: str
    order: tuple[str, ...] = ()
    fields: Mapping[str, str] = field(default_factory=dict)
    unit: str = "pixels"
    of: str = "sent"
    score: float = 0.0
    reasons: tuple[str, ...] = ()

    def toml(self) -> str:
        """Return the guess as an inline table."""
        parts = [f'at = "{self.at}"']
        if self.form != "corners":
            parts.append(f'form = "{self.form}"')
        if self.order:
            parts.append("order = [" + ", ".join(f'"{name}"' for name in self.order) + "]")
        if self.fields:
            inner = ", ".join(f'{role} = "{where}"' for role, where in self.fields.items())
            parts.append(f"fields = {{ {inner} }}")
        if self.unit != "pixels":
            parts.append(f'unit = "{self.unit}"')
        if self.of != "sent":
            parts.append(f'of = "{self.of}"')
        return "{ " + ", ".join(parts) + " }"


def is_number(value: Any) -> bool:
    """Tell whether a value is a number, and no yes or no."""
    return isinstance(value, (int, float)) and not isinstance(value, bool)


def is_xy(value: Any) -> bool:
    """Tell whether a value is a point written as an object."""
    return isinstance(value, dict) and set(value) == {"x", "y"}


def roles_of(value: Mapping[str, Any], prefix: str = "") -> dict[str, str]:
    """Return which key plays which part of a box."""
    roles: dict[str, str] = {}
    for key, inner in value.items():
        if not is_number(inner):
            continue
        for role, names in _ROLES:
            if key.lower() in names and role not in roles:
                roles[role] = prefix + key
    return roles


def box_guesses(
    entries: Sequence[tuple[Any, tuple[float, float]]], working: Sequence[tuple[float, float]]
) -> list[BoxGuess]:
    """Return the ways in which the entries may hold a box, the most likely first."""
    first = entries[0][0]
    guesses: list[BoxGuess] = []
    for name, value in [("@", first), *first.items()]:
        values = [(e if name == "@" else e.get(name), size) for e, size in entries]
        if isinstance(value, dict):
            guesses += _object_guesses(name, values)
        elif isinstance(value, list):
            guesses += _list_guesses(name, values, bool(working))
    ranked = sorted((g for g in guesses if g.score > 0), key=lambda g: -g.score)
    return ranked[:3]


def _object_guesses(name: str, values: Sequence[tuple[Any, Any]]) -> list[BoxGuess]:
    if not all(isinstance(v, dict) for v, _ in values):
        return []
    fields = _box_fields(values[0][0])
    if fields is None:
        return []
    form, where = fields
    rows = [([_at(v, where[role]) for role in BOX_FORMS[form]], size) for v, size in values]
    unit, why = _unit(rows)
    reason = f"an object with {', '.join(where.values())}: {form}, {why}"
    return [BoxGuess(at=name, form=form, fields=where, unit=unit, score=2.0, reasons=(reason,))]


def _box_fields(value: Mapping[str, Any]) -> tuple[str, dict[str, str]] | None:
    """Return the form and where each of its numbers stands, one level deep at most."""
    roles = roles_of(value)
    for key, inner in value.items():
        if isinstance(inner, dict):
            nested = roles_of(inner, f"{key}.")
            if {"x", "y"} <= inner.keys():
                middle = any(word in key.lower() for word in ("mid", "cent"))
                across, down = ("cx", "cy") if middle else ("x0", "y0")
                if key.lower() in ("max", "end", "lower_right", "bottom_right", "to"):
                    across, down = "x1", "y1"
                nested = {across: f"{key}.x", down: f"{key}.y"}
            roles |= nested
    if "x" in value and "y" in value and "x0" not in roles and "cx" not in roles:
        roles |= {"x0": "x", "y0": "y"}
    for form in ("centre+size", "corners", "corner+size"):
        if set(BOX_FORMS[form]) <= roles.keys():
            return form, {role: roles[role] for role in BOX_FORMS[form]}
    return None


def _at(value: Any, path: str) -> float:
    for name in path.split("."):
        value = value.get(name) if isinstance(value, dict) else None
    return float(value) if is_number(value) else math.nan


def _list_guesses(name: str, values: Sequence[tuple[Any, Any]], working: bool) -> list[BoxGuess]:
    lists = [(v, size) for v, size in values if isinstance(v, list)]
    if len(lists) < len(values):
        return []
    if all(len(v) >= 3 and all(_is_pair(p) for p in v) for v, _ in lists):
        return [_polygon(name, lists, working)]
    if not all(len(v) == 4 and all(is_number(x) for x in v) for v, _ in lists):
        return []
    return [
        guess for guess in (_ordered(name, lists, form, order) for form, order in _ORDERS) if guess
    ]


def _is_pair(value: Any) -> bool:
    return is_xy(value) or (
        isinstance(value, list) and len(value) == 2 and all(is_number(x) for x in value)
    )


def _polygon(name: str, lists: Sequence[tuple[Any, Any]], working: bool) -> BoxGuess:
    rows = [
        ([float(x) for p in v for x in (p.values() if isinstance(p, dict) else p)], size)
        for v, size in lists
    ]
    unit, why = _unit(rows)
    of = "working" if working and unit == "pixels" else "sent"
    note = ", in the working size that the answer reports" if of == "working" else ""
    return BoxGuess(
        at=name,
        form="points",
        unit=unit,
        of=of,
        score=2.0,
        reasons=(f"a list of points, {why}{note}",),
    )


_ORDERS: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("corners", ("x0", "y0", "x1", "y1")),
    ("corners", ("y0", "x0", "y1", "x1")),
    ("corner+size", ("x0", "y0", "width", "height")),
    ("centre+size", ("cx", "cy", "width", "height")),
)


def _ordered(
    name: str, lists: Sequence[tuple[Any, Any]], form: str, order: tuple[str, ...]
) -> BoxGuess | None:
    """Judge one order of four numbers by whether boxes lie in the image and have an area."""
    rows = [([float(v[order.index(role)]) for role in BOX_FORMS[form]], size) for v, size in lists]
    unit, why = _unit(rows)
    good = [_plausible(row, size, form, unit) for row, size in rows]
    share = sum(good) / len(good)
    if share == 0:
        return None
    prior = {0: 0.04, 1: 0.03, 2: 0.02, 3: 0.01}[_ORDERS.index((form, order))]
    shape = _roundness(rows, form, unit)
    reason = f"{share:.0%} of the boxes fit {', '.join(order)}; {why}"
    return BoxGuess(
        at=name, form=form, order=order, unit=unit, score=share + prior + shape, reasons=(reason,)
    )


_FULL = {"fraction": 1.0, "percent": 100.0, "thousandths": 1000.0}


def _sizes(unit: str, size: tuple[float, float]) -> tuple[float, float]:
    return (_FULL[unit],) * 2 if unit in _FULL else size


def _corners(row: Sequence[float], form: str) -> tuple[float, float, float, float]:
    a, b, c, d = row
    if form == "corners":
        return a, b, c, d
    if form == "corner+size":
        return a, b, a + c, b + d
    return a - c / 2, b - d / 2, a + c / 2, b + d / 2


def _plausible(row: Sequence[float], size: tuple[float, float], form: str, unit: str) -> bool:
    x0, y0, x1, y1 = _corners(row, form)
    width, height = _sizes(unit, size)
    slack = 0.02
    inside = True
    if not math.isnan(width):
        inside = x0 >= -slack * width and y0 >= -slack * height
        inside = inside and x1 <= (1 + slack) * width and y1 <= (1 + slack) * height
    return x0 < x1 and y0 < y1 and inside


def _roundness(rows: Sequence[tuple[Sequence[float], Any]], form: str, unit: str) -> float:
    """Return a small bonus for boxes of moderate shape: things are seldom thin strips."""
    ratios = []
    for row, size in rows:
        x0, y0, x1, y1 = _corners(row, form)
        width, height = _sizes(unit, size)
        if unit in _FULL and not math.isnan(size[0]):
            width, height = size
            x0, x1, y0, y1 = x0 * width, x1 * width, y0 * height, y1 * height
        if x1 > x0 and y1 > y0:
            ratios.append(abs(math.log((x1 - x0) / (y1 - y0))))
    return 0.3 / (1 + sum(ratios) / len(ratios)) if ratios else 0.0


def _unit(rows: Sequence[tuple[Sequence[float], tuple[float, float]]]) -> tuple[str, str]:
    """Return what the numbers count, and why."""
    most = max(abs(x) for row, _ in rows for x in row)
    whole = all(float(x).is_integer() for row, _ in rows for x in row)
    if most <= 1.5:
        return "fraction", f"no number above {most:.2f}: fractions"
    sides = [side for _, size in rows for side in size if not math.isnan(side)]
    if most <= 100 and sides and min(sides) > 200 and not whole:
        return "percent", f"no number above {most:.0f} in images of {max(sides):.0f}: percent"
    if most <= 1000 and sides and min(sides) > 1500:
        return (
            "thousandths",
            f"no number above {most:.0f} in images of {max(sides):.0f}: thousandths",
        )
    return "pixels", f"numbers up to {most:.0f}: pixels"
