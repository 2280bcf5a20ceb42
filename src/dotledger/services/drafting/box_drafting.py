"""Guessing how boxes are written, from their values, the fields' names and the images' sizes."""

from __future__ import annotations

import json
import math
import re
from collections.abc import Mapping, Sequence
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from dotledger.core.boxes.box_forms import BOX_FORMS
from dotledger.services.drafting.sample_sections import (
    Path,
    amount_of,
    is_amount,
    is_number,
    is_pair,
    is_xy,
    plain_name,
    written,
)

__all__ = ["BoxGuess", "box_guesses", "reported_size", "toml_text"]

Size = tuple[float, float]

_ROLES: Mapping[str, str] = {
    name: role
    for role, names in {
        "x0": "x0 left xmin x_min minx l",
        "y0": "y0 top ymin y_min miny t upper",
        "x1": "right xmax x_max maxx r x2",
        "y1": "bottom ymax y_max maxy b y2 lower",
        "width": "width w wide",
        "height": "height h high tall",
        "cx": "cx center_x centre_x xc x_center midx mid_x",
        "cy": "cy center_y centre_y yc y_center midy mid_y",
    }.items()
    for name in names.split()
}
_MIDDLE = ("mid", "cent")
_LAST = ("max", "end", "lower_right", "bottom_right", "to")
_EXTENT = ("ext", "size", "span", "dim")
_FULL = {"fraction": 1.0, "percent": 100.0, "thousandths": 1000.0}
_ORDERS: tuple[tuple[str, tuple[str, ...], float], ...] = (
    ("corners", ("x0", "y0", "x1", "y1"), 0.08),
    ("corners", ("y0", "x0", "y1", "x1"), 0.03),
    ("corner+size", ("x0", "y0", "width", "height"), 0.02),
    ("centre+size", ("cx", "cy", "width", "height"), 0.01),
)


_GRIDS = (1024, 4096, 10_000, 32_767, 65_535)
_UNUSUAL = 0.15
"""Taken off the score of a unit that numbers merely do not exceed."""


class BoxGuess(Struct, frozen=True, kw_only=True):
    """One way in which a box may be written, with what speaks for it.

    `fits` is the share of the boxes that lie in their image and have an area; `clear` how surely
    x comes before y, or y before x, told by the boxes' shapes (Student's t over the boxes).
    """

    at: str
    form: str
    order: tuple[str, ...] = ()
    fields: Mapping[str, str] = field(default_factory=dict)
    split: str = ""
    unit: str = "pixels"
    grid: int = 0
    angle: str = ""
    angle_in: str = "degrees"
    of: str = "sent"
    score: float = 0.0
    fits: float = 1.0
    clear: float = math.inf
    reasons: tuple[str, ...] = ()
    used: tuple[Path, ...] = ()

    def toml(self) -> str:
        """Return the guess as an inline table."""
        parts = [f"at = {toml_text(self.at)}"]
        if self.form != "corners":
            parts.append(f'form = "{self.form}"')
        if self.order:
            parts.append("order = [" + ", ".join(f'"{name}"' for name in self.order) + "]")
        if self.fields:
            inner = ", ".join(f"{role} = {toml_text(at)}" for role, at in self.fields.items())
            parts.append(f"fields = {{ {inner} }}")
        parts += [f"split = {toml_text(self.split)}"] if self.split else []
        parts += [f'unit = "{self.unit}"'] if self.unit != "pixels" else []
        parts += [f"grid = {self.grid}"] if self.grid else []
        parts += [f"angle = {toml_text(self.angle)}"] if self.angle else []
        parts += ['angle_in = "radians"'] if self.angle_in != "degrees" else []
        parts += [f'of = "{self.of}"'] if self.of != "sent" else []
        return "{ " + ", ".join(parts) + " }"


def toml_text(text: str) -> str:
    """Return text as TOML writes it, without escapes where that can be."""
    return (
        f"'{text}'" if '"' in text and "'" not in text and text.isprintable() else json.dumps(text)
    )


def box_guesses(
    fields: Mapping[Path, Sequence[Any]], sizes: Sequence[Size], working: Sequence[Size]
) -> list[BoxGuess]:
    """Return the ways in which entries may hold a box, the most likely first.

    Parameters
    ----------
    fields : mapping of Path to sequence
        As `fields_of` gives them, n values each.
    sizes : sequence of (width, height)
        Of each entry's image; NaN where not known.
    working : sequence of (width, height)
        The size that the answer reports for each entry's image; empty if it reports none.
    """
    guesses: list[BoxGuess] = []
    for path, values in fields.items():
        if any(value is None for value in values):
            continue
        guesses += _of_list(path, values, sizes, working)
    guesses += _of_roles(fields, sizes, working)
    guesses += _of_pairs(fields, sizes, working)
    guesses += _of_rows(fields, sizes, working)
    guesses = [_with_grid(guess) for guess in guesses]
    # Sides by their names are a box even where none fits: the reader then says what is wrong.
    kept = [g for g in guesses if g.fits > 0] or [g for g in guesses if g.fields and g.at != "@"]
    ranked = sorted(kept, key=lambda g: -g.score)
    return ranked[:3]


def _with_grid(guess: BoxGuess) -> BoxGuess:
    unit, _, grid = guess.unit.partition(" ")
    return replace(guess, unit=unit, grid=int(grid or 0))


def reported_size(part: Any) -> tuple[tuple[str, float], tuple[str, float]] | None:
    """Return where an answer reports a width and a height and nothing of a box, and both.

    Returns
    -------
    tuple of (str, float), or None
        Name and value of the width, then of the height.
    """
    if not isinstance(part, dict):
        return None
    for name, value in [("", part), *part.items()]:
        if not isinstance(value, dict):
            continue
        roles = {_ROLES.get(plain_name(k), ""): k for k, v in value.items() if is_number(v)}
        if {"width", "height"} <= roles.keys() and not {"x0", "cx"} & roles.keys():
            path = [name] if name else []
            across, down = roles["width"], roles["height"]
            return (
                (written([*path, across]), value[across]),
                (written([*path, down]), value[down]),
            )
    return None


def _of_list(
    path: Path, values: Sequence[Any], sizes: Sequence[Size], working: Sequence[Size]
) -> list[BoxGuess]:
    if all(isinstance(v, list) and len(v) > 2 and all(is_pair(p) for p in v) for v in values):
        return [_polygon(path, written(path), values, sizes, working)]
    if all(isinstance(v, list) and len(v) == 2 and all(is_pair(p) for p in v) for v in values):
        corners = _polygon(path, written(path), values, sizes, working)
        return [
            replace(
                corners, reasons=(corners.reasons[0].replace("a list of points", "two corners"),)
            )
        ]
    if all(isinstance(v, list) and v and _is_ring(v[0]) for v in values):
        first = [v[0] for v in values]
        return [_polygon(path, f"{written(path)}[0]", first, sizes, working)]
    if all(isinstance(v, list) and len(v) == 4 and all(map(is_amount, v)) for v in values):
        rows = [[amount_of(x) for x in v] for v in values]
        return _ordered(path, written(path), rows, sizes, working)
    if all(isinstance(v, str) for v in values):
        return _of_text(path, values, sizes, working)
    return []


def _is_ring(value: Any) -> bool:
    return isinstance(value, list) and len(value) > 2 and all(is_pair(p) for p in value)


def _of_text(
    path: Path, values: Sequence[str], sizes: Sequence[Size], working: Sequence[Size]
) -> list[BoxGuess]:
    """Recognise four numbers in one text, divided by a sign or spaces."""
    for sign in (",", ";", " ", "|", "x"):
        parts = [[part.strip() for part in value.split(sign)] for value in values]
        if all(len(row) == 4 and all(map(is_amount, row)) for row in parts):
            rows = [[amount_of(x) for x in row] for row in parts]
            return _ordered(path, written(path), rows, sizes, working, split=sign)
    return []


def _ordered(
    path: Path,
    at: str,
    rows: Sequence[Sequence[float]],
    sizes: Sequence[Size],
    working: Sequence[Size],
    *,
    split: str = "",
) -> list[BoxGuess]:
    """Judge each order of four numbers by whether boxes lie in the image and have an area."""
    found = []
    for form, order, prior in _ORDERS:
        numbers = [[row[order.index(role)] for role in BOX_FORMS[form]] for row in rows]
        unit, of, fits, why = _unit(numbers, form, sizes, working)
        shapes = _shapes(numbers, form, unit, sizes)
        shape = 0.3 / (1 + sum(shapes) / len(shapes)) if shapes else 0.0
        shape += _halves(numbers, form) - _crowded(numbers, form, unit, of, sizes)
        shape -= _UNUSUAL if unit in ("percent", "thousandths") and of == "sent" else 0.0
        turned = [[row[i] for i in (1, 0, 3, 2)] for row in numbers]
        clear = (
            _clear(shapes, _shapes(turned, form, unit, sizes)) if form == "corners" else math.inf
        )
        reason = f"{fits:.0%} of the boxes fit {', '.join(order)}; {why}"
        guess = BoxGuess(
            at=at, form=form, order=order, split=split, unit=unit, of=of, fits=fits, clear=clear,
            score=fits + prior + shape, reasons=(reason,), used=(path,),
        )  # fmt: skip
        found.append(guess)
    return found


def _polygon(
    path: Path, at: str, values: Sequence[Any], sizes: Sequence[Size], working: Sequence[Size]
) -> BoxGuess:
    rows = []
    for value in values:
        points = [(p["x"], p["y"]) if is_xy(p) else (p[0], p[1]) for p in value]
        xs, ys = [float(x) for x, _ in points], [float(y) for _, y in points]
        rows.append([min(xs), min(ys), max(xs), max(ys)])
    unit, of, fits, why = _unit(rows, "corners", sizes, working)
    return BoxGuess(
        at=at, form="points", unit=unit, of=of, fits=fits, score=1.5 + fits,
        reasons=(f"a list of points, {why}",), used=(path,),
    )  # fmt: skip


def _of_roles(
    fields: Mapping[Path, Sequence[Any]], sizes: Sequence[Size], working: Sequence[Size]
) -> list[BoxGuess]:
    """Recognise sides by their names, in one object or in several next to each other."""
    numbers = {p: v for p, v in fields.items() if p and all(map(is_amount, v))}
    homes: dict[Path, list[Path]] = {}
    for path in numbers:
        homes.setdefault(path[:-1], []).append(path)
        if len(path) > 1:
            homes.setdefault(path[:-2], []).append(path)
    found = []
    for home, paths in homes.items():
        if (chosen := _roles(paths)) is None:
            continue
        form, where = chosen
        rows = [[amount_of(numbers[where[role]][i]) for role in BOX_FORMS[form]] for i in
                range(len(sizes))]  # fmt: skip
        unit, of, fits, why = _unit(rows, form, sizes, working)
        inner = {role: written(path[len(home) :]) for role, path in where.items()}
        reason = f"an object with {', '.join(inner.values())}: {form}, {why}"
        guess = BoxGuess(
            at=written(home), form=form, fields=inner, unit=unit, of=of, fits=fits,
            score=1.4 + fits - 0.01 * len(home), reasons=(reason,), used=tuple(where.values()),
        )  # fmt: skip
        found.append(guess)
    return found


def _roles(paths: Sequence[Path]) -> tuple[str, dict[str, Path]] | None:
    """Return the form that some fields make by their names, and which field plays which part."""
    roles: dict[str, Path] = {}
    names = {plain_name(path[-1]) for path in paths}
    for path in paths:
        for role in _role(path, names):
            roles.setdefault(role, path)
    for form in ("centre+size", "corners", "corner+size"):
        if set(BOX_FORMS[form]) <= roles.keys():
            return form, {role: roles[role] for role in BOX_FORMS[form]}
    return None


def _role(path: Path, names: set[str]) -> list[str]:
    name, home = plain_name(path[-1]), plain_name(path[-2]) if len(path) > 1 else ""
    if name in ("x", "y"):
        if any(word in home for word in _MIDDLE):
            return [f"c{name}"]
        return [f"{name}1"] if home in _LAST else [f"{name}0"]
    if name in ("x1", "y1"):  # beside x2 it is the first corner, else the second
        return [f"{name[0]}0"] if f"{name[0]}2" in names else [name]
    return [_ROLES[name]] if name in _ROLES else []


def _of_pairs(
    fields: Mapping[Path, Sequence[Any]], sizes: Sequence[Size], working: Sequence[Size]
) -> list[BoxGuess]:
    """Recognise two points, or a point and an extent, that stand as pairs next to each other."""
    pairs = {p: v for p, v in fields.items() if p and all(map(is_pair, v))}
    found = []
    for first in pairs:
        for second in pairs:
            if first != second and first[:-1] == second[:-1]:
                found += _pair_guess(pairs, first, second, sizes, working)
    return found


def _pair_guess(
    pairs: Mapping[Path, Sequence[Any]],
    first: Path,
    second: Path,
    sizes: Sequence[Size],
    working: Sequence[Size],
) -> list[BoxGuess]:
    names = plain_name(first[-1]), plain_name(second[-1])
    middle = any(word in names[0] for word in _MIDDLE)
    extent = any(word in names[1] for word in _EXTENT)
    if not (middle or extent or names[1] in _LAST):
        return []
    form = "centre+size" if middle else "corner+size" if extent else "corners"
    rows = [[*_two(a), *_two(b)] for a, b in zip(pairs[first], pairs[second], strict=True)]
    unit, of, fits, why = _unit(rows, form, sizes, working)
    home = first[:-1]
    steps = [(path[-1], axis) for path in (first, second) for axis in (0, 1)]
    where = {
        role: written([name, axis]) if not is_xy(pairs[(*home, name)][0])
        else written([name, "xy"[axis]])
        for role, (name, axis) in zip(BOX_FORMS[form], steps, strict=True)
    }  # fmt: skip
    reason = f"{written(first)} and {written(second)}: {form}, {why}"
    guess = BoxGuess(
        at=written(home), form=form, fields=where, unit=unit, of=of, fits=fits,
        score=1.3 + fits, reasons=(reason,), used=(first, second),
    )  # fmt: skip
    return [guess]


def _two(value: Any) -> tuple[float, float]:
    return (value["x"], value["y"]) if is_xy(value) else (value[0], value[1])


def _of_rows(
    fields: Mapping[Path, Sequence[Any]], sizes: Sequence[Size], working: Sequence[Size]
) -> list[BoxGuess]:
    """Recognise four numbers that follow each other in a row."""
    places = sorted(p[0] for p, v in fields.items() if p and isinstance(p[0], int) and
                    all(map(is_amount, v)))  # fmt: skip
    found = []
    for start in places:
        run = [start + step for step in range(4)]
        if not set(run) <= set(places):
            continue
        rows = [[amount_of(fields[(place,)][i]) for place in run] for i in range(len(sizes))]
        for guess in _ordered((start,), "@", rows, sizes, working):
            where = {
                role: written([run[guess.order.index(role)]]) for role in BOX_FORMS[guess.form]
            }
            plain = re.sub(r"fit .*?;", f"fit {', '.join(guess.order)};", guess.reasons[0])
            found.append(
                BoxGuess(
                    at="@", form=guess.form, fields=where, unit=guess.unit, of=guess.of,
                    fits=guess.fits, score=guess.score, reasons=(plain,),
                    used=tuple((place,) for place in run),
                )
            )  # fmt: skip
    return found


def _corners(row: Sequence[float], form: str) -> tuple[float, float, float, float]:
    a, b, c, d = row
    if form == "corners":
        return a, b, c, d
    if form == "corner+size":
        return a, b, a + c, b + d
    return a - c / 2, b - d / 2, a + c / 2, b + d / 2


def _plausible(row: Sequence[float], size: Size, form: str) -> bool:
    """Tell whether a box has an area and lies in its image, but for a rounding."""
    x0, y0, x1, y1 = _corners(row, form)
    width, height = size
    inside = True
    if not math.isnan(width):
        slack = 0.002
        inside = x0 >= -slack * width - 0.5 * (width > 10)
        inside = inside and y0 >= -slack * height - 0.5 * (height > 10)
        inside = inside and x1 <= (1 + slack) * width + 0.5 * (width > 10)
        inside = inside and y1 <= (1 + slack) * height + 0.5 * (height > 10)
    return x0 < x1 and y0 < y1 and inside


def _share(rows: Sequence[Sequence[float]], form: str, sizes: Sequence[Size]) -> float:
    good = [_plausible(row, size, form) for row, size in zip(rows, sizes, strict=True)]
    return sum(good) / len(good) if good else 0.0


def _unit(
    rows: Sequence[Sequence[float]], form: str, sizes: Sequence[Size], working: Sequence[Size]
) -> tuple[str, str, float, str]:
    """Return what the numbers count, of which image, the share that fits, and why."""
    corners = [_corners(row, form) for row in rows]
    most = max(abs(x) for row in corners for x in row)
    if most <= 1.5:
        fits = _share(rows, form, [(1.0, 1.0)] * len(rows))
        return "fraction", "sent", fits, f"no number above {most:.2f}: fractions"
    if working:
        fits = _share(rows, form, working)
        if fits:
            why = f"numbers up to {most:.0f}: pixels, in the working size that the answer reports"
            return "pixels", "working", fits, why
    sides = [side for size in sizes for side in size if not math.isnan(side)]
    whole = all(float(x).is_integer() for row in rows for x in row)
    fits = _share(rows, form, sizes)
    for unit, top, far in (("percent", 100.0, 200), ("thousandths", 1000.0, 1500)):
        other = _share(rows, form, [(top, top)] * len(rows))
        small = most <= 1.002 * top and sides and min(sides) > far and not (whole and top == 100)
        if other > fits or (small and other >= fits):
            return unit, "sent", other, f"no number above {most:.0f}: {unit}"
    if (grid := _grid_of(corners, sides)) is not None:
        other = _share(rows, form, [(float(grid), float(grid))] * len(rows))
        if other > fits:
            return f"grid {grid}", "sent", other, f"no number above {most:.0f}: parts of {grid}"
    return "pixels", "sent", fits, f"numbers up to {most:.0f}: pixels"


def _grid_of(rows: Sequence[Sequence[float]], sides: Sequence[float]) -> int | None:
    """Return the number that a full side reads as, where numbers go beyond image and thousandths.

    None where pixels may be meant.
    """
    numbers = [abs(x) for row in rows for x in row]
    most = max(numbers, default=0.0)
    whole = all(float(x).is_integer() for x in numbers)
    few = len(rows) < _ENOUGH  # one box outside its image is an error, and no grid
    if few or not whole or not sides or most <= 1.1 * max(sides) or most <= 1000:
        return None
    return next((grid for grid in _GRIDS if 0.6 * grid <= most <= grid), None)


def _halves(rows: Sequence[Sequence[float]], form: str) -> float:
    """Return a bonus where only as centres the first numbers make whole corners: 143.5 and 123."""
    if form != "centre+size" or all(x.is_integer() for row in rows for x in row):
        return 0.0
    ends = [x for row in rows for x in _corners(row, form)]
    return 0.4 if all(x.is_integer() for x in ends) else 0.0


def _shapes(
    rows: Sequence[Sequence[float]], form: str, unit: str, sizes: Sequence[Size]
) -> list[float]:
    """Return how far each box is from a square: things are seldom thin strips."""
    found = []
    for row, (width, height) in zip(rows, sizes, strict=True):
        x0, y0, x1, y1 = _corners(row, form)
        if (unit in _FULL or unit.startswith("grid")) and not math.isnan(width):
            x0, x1, y0, y1 = x0 * width, x1 * width, y0 * height, y1 * height
        if x1 > x0 and y1 > y0:
            found.append(abs(math.log((x1 - x0) / (y1 - y0))))
    return found


def _clear(mine: Sequence[float], turned: Sequence[float]) -> float:
    """Return Student's t of the difference in shape between an order and the turned one."""
    if len(mine) != len(turned) or len(mine) < 2:
        return 0.0 if len(mine) == len(turned) else math.inf
    gaps = [b - a for a, b in zip(mine, turned, strict=True)]
    mean = sum(gaps) / len(gaps)
    variance = sum((gap - mean) ** 2 for gap in gaps) / (len(gaps) - 1)
    return abs(mean) / math.sqrt(variance / len(gaps)) if variance > 0 else 0.0


def _crowded(
    rows: Sequence[Sequence[float]], form: str, unit: str, of: str, sizes: Sequence[Size]
) -> float:
    """Return a malus where all boxes lie in one corner: percent read as pixels look like that."""
    if unit in _FULL or unit[:4] == "grid" or of == "working" or len(rows) < _ENOUGH:
        return 0.0
    far = [
        max(x1 / width, y1 / height)
        for (_, _, x1, y1), (width, height) in zip(
            (_corners(row, form) for row in rows), sizes, strict=True
        )
    ]
    return 0.5 if max(far) < (_CORNER if len(rows) < _MANY else 0.5) else 0.0


_ENOUGH, _MANY = 3, 8
_CORNER = 0.35
