"""Where a box may stand among the fields of an entry, and how likely each way of reading it is."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np
from msgspec import Struct, field
from msgspec.structs import replace

from dotledger.core.boxes.box_forms import BOX_FORMS
from dotledger.services.drafting.box_likelihood import Frames, Way, likelihood_of, ways_of
from dotledger.services.drafting.draft_evidence import POINT_NAMES, name_words
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

__all__ = ["BoxGuess", "Size", "box_guesses", "frames_of", "reported_size", "toml_text"]

Size = tuple[float, float]
Fields = Mapping[Path, Sequence[Any]]

_NAMED, _SHAPED = 4.0, 3.0
"""Evidence in nats that numbers are a box at all: sides by their names, points in a list."""
_ORDER_IN_NAME = 6.0
_CENTRE_BY_NAME = -2.7
"""Of x, y, width and height: that the point is the middle, against that it is a corner."""
_BARELY = 1.0
_MOST = 12


class BoxGuess(Struct, frozen=True, kw_only=True):
    """One way in which a box may be written, with what speaks for it.

    `score` is a log-likelihood in nats, against numbers that are no box, and `prior` the part of it
    that no number adds; `corners` are the boxes it reads, n by 4, as shares of the image.
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
    prior: float = 0.0
    reasons: tuple[str, ...] = ()
    used: tuple[Path, ...] = ()
    corners: tuple[tuple[float, ...], ...] = ()

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

    def reads_as(self, other: BoxGuess) -> bool:
        """Tell whether both read the same boxes, but for a rounding."""
        mine, its = np.asarray(self.corners), np.asarray(other.corners)
        return mine.shape == its.shape and bool(np.allclose(mine, its, atol=0.003))


def toml_text(text: str) -> str:
    """Return text as TOML writes it, without escapes where that can be."""
    return (
        f"'{text}'" if '"' in text and "'" not in text and text.isprintable() else json.dumps(text)
    )


def frames_of(sizes: Sequence[Size], working: Sequence[Size]) -> Frames:
    """Return the sizes that numbers may count in.

    Parameters
    ----------
    sizes : sequence of (width, height)
        Of each entry's image; NaN where not known.
    working : sequence of (width, height)
        The size that the answer reports for each entry's image; empty if it reports none.
    """
    sent = np.asarray(sizes, dtype=np.float64).reshape(-1, 2)
    reported = np.asarray(working, dtype=np.float64).reshape(-1, 2)
    other = len(reported) == len(sent) and not np.allclose(sent, reported, atol=1.0)
    return Frames(sent, reported if other else None)


def box_guesses(fields: Fields, frames: Frames) -> list[BoxGuess]:
    """Return the ways in which entries may hold a box, the most likely first.

    Parameters
    ----------
    fields : mapping of Path to sequence
        As `fields_of` gives them, n values each; those without a value are left out.
    frames : Frames
        Of each entry.
    """
    full = {p: v for p, v in fields.items() if all(value is not None for value in v)}
    guesses = [guess for p, v in full.items() for guess in _of_value(p, v, frames)]
    guesses += _of_names(full, frames)
    guesses += _of_rows(full, frames)
    # Sides by their names are a box even where none fits: the reader then says what is wrong.
    named = [replace(g, score=_BARELY) if g.fields and g.score < _BARELY else g for g in guesses]
    good = [guess for guess in named if guess.score > 0]
    return sorted(good, key=lambda guess: -guess.score)[:_MOST]


Reported = tuple[tuple[str, float], tuple[str, float]]
"""Path and value of a width, then of a height."""


def reported_size(part: Any) -> Reported | None:
    """Return where an answer reports a width and a height and nothing of a box, and both.

    Returns
    -------
    tuple of (str, float), or None
        Path and value of the width, then of the height.
    """
    return next(_sizes_in(part, (), 0), None)


def _sizes_in(
    value: Any, path: Path, depth: int
) -> Iterator[tuple[tuple[str, float], tuple[str, float]]]:
    """Yield sizes, outermost first: objects of width and height, and pairs that are called so."""
    if isinstance(value, list) and len(value) == 1:  # an answer about one image, in a list
        yield from _sizes_in(value[0], (*path, 0), depth)
    if not isinstance(value, dict) or depth > 4:
        return
    roles = {_role((k,)): k for k, v in value.items() if is_number(v)}
    sides = ("x", "size"), ("y", "size")
    if roles.keys() & _PLACED == set() and all(side in roles for side in sides):
        ends = [(*path, roles[side]) for side in sides]
        yield (written(ends[0]), value[ends[0][-1]]), (written(ends[1]), value[ends[1][-1]])
    for name, inner in value.items():
        pair = isinstance(inner, list) and len(inner) == 2 and all(map(is_number, inner))
        if pair and name_words(name) & _SIZE_WORDS:
            at = (*path, name)
            yield (written((*at, 0)), inner[0]), (written((*at, 1)), inner[1])
        yield from _sizes_in(inner, (*path, name), depth + 1)


_PLACED = {(axis, part) for axis in "xy" for part in ("low", "high", "mid", "plain")}
_SIZE_WORDS = name_words("size shape dims dimensions resolution frame canvas image")


def _guess(
    way: Way, at: str, used: Sequence[Path], bonus: float, reason: str, **more: Any
) -> BoxGuess:
    unit, _, grid = way.unit.partition(" ")
    why = {"pixels": "pixels", "grid": f"parts of {grid}"}.get(unit, unit)
    why += " of the size that the answer reports" if way.of == "working" else ""
    return BoxGuess(
        at=at, form=way.form, unit=unit, grid=int(grid or 0), of=way.of, score=way.score + bonus,
        prior=way.prior + bonus,
        reasons=(f"{reason}; {why}",), used=tuple(used),
        corners=tuple(map(tuple, way.corners.tolist())), **more,
    )  # fmt: skip


def _of_value(path: Path, values: Sequence[Any], frames: Frames) -> list[BoxGuess]:
    """Read one field as a whole box: four numbers, four in a text, points, rings."""
    if all(isinstance(v, list) and len(v) == 4 and all(map(is_amount, v)) for v in values):
        return _ordered(path, values, frames)
    if all(isinstance(v, str) for v in values):
        return _of_text(path, values, frames)
    if points := _points_of(values):
        return _outlined(path, points, frames)
    return []


def _ordered(
    path: Path, values: Sequence[Any], frames: Frames, *, split: str = ""
) -> list[BoxGuess]:
    rows = [[amount_of(x) for x in v] for v in values]
    return [
        _guess(
            way,
            written(path),
            [path],
            _said_by_name(path, way.order),
            f"four numbers that lie in the images as {', '.join(way.order)}",
            order=way.order,
            split=split,
        )
        for way in ways_of(rows, frames)
    ]


_SPELT = {
    "x0": ("x", "l"), "y0": ("y", "t"), "x1": ("x", "r"), "y1": ("y", "b"),
    "cx": ("cx", "xc"), "cy": ("cy", "yc"), "width": ("w", "w"), "height": ("h", "h"),
}  # fmt: skip


def _said_by_name(path: Path, order: Sequence[str]) -> float:
    """Return what a name such as ``xywh`` says of the order of its numbers."""
    name = plain_name(path[-1]) if path else ""
    spelt = {"".join(_SPELT[role][n] for role in order) for n in (0, 1)}
    return _ORDER_IN_NAME if any(word in name for word in spelt) else 0.0


def _of_text(path: Path, values: Sequence[str], frames: Frames) -> list[BoxGuess]:
    """Read four numbers in one text, divided by a sign or spaces."""
    for sign in (",", ";", " ", "|", "x", "/"):
        parts = [[part.strip() for part in _parted(value, sign)] for value in values]
        if all(len(row) == 4 and all(map(is_amount, row)) for row in parts):
            return _ordered(path, parts, frames, split=sign)
    return []


def _parted(value: str, sign: str) -> list[str]:
    return value.split() if sign == " " else value.split(sign)


Points = list[list[tuple[float, float]]]


def _points_of(values: Sequence[Any]) -> Points:
    """Return each value's points; empty if one is neither points nor rings nor a flat outline."""
    found = [_outline(value) for value in values]
    return [points for points in found if points] if all(found) else []


def _outline(value: Any) -> list[tuple[float, float]]:
    if not isinstance(value, list) or len(value) < 2:
        ring = value[0] if isinstance(value, list) and value else None
        return _outline(ring) if isinstance(ring, list) and len(ring) > 2 else []
    if all(is_pair(part) for part in value):
        return [_xy(part) for part in value]
    if all(isinstance(ring, list) and len(ring) > 2 and all(map(is_pair, ring)) for ring in value):
        return [_xy(part) for ring in value for part in ring]
    if len(value) >= 6 and len(value) % 2 == 0 and all(map(is_number, value)):
        return list(zip(value[::2], value[1::2], strict=True))
    return []


def _xy(part: Any) -> tuple[float, float]:
    if isinstance(part, dict):
        x, y = sorted(part, key=plain_name)
        return amount_of(part[x]), amount_of(part[y])
    return part[0], part[1]


def _outlined(path: Path, points: Points, frames: Frames) -> list[BoxGuess]:
    rows = [
        [min(x for x, _ in p), min(y for _, y in p), max(x for x, _ in p), max(y for _, y in p)]
        for p in points
    ]
    marks = bool(path) and plain_name(path[-1]) in POINT_NAMES - {"points"}
    bonus = _SHAPED - (6.0 if marks else 0.0)
    two = all(len(p) == 2 for p in points)
    reason = "two corners" if two else "a list of points"
    ways = likelihood_of(np.asarray(rows, dtype=np.float64), "corners", frames)
    return [
        replace(_guess(way, written(path), [path], bonus, reason), form="points") for way in ways
    ]


# --- sides by their names ---------------------------------------------------------------

Role = tuple[str, str]
"""An axis, x or y, and a part: low, high, size, mid, or plain where the name says only the axis."""

_WORDS: Mapping[str, Role] = {
    word: (axis, part)
    for words, axis, part in (
        ("left l west", "x", "low"), ("right r east", "x", "high"),
        ("top upper t north", "y", "low"), ("bottom lower b south", "y", "high"),
        ("width w wide wd", "x", "size"), ("height h high tall ht", "y", "size"),
        ("x", "x", ""), ("y", "y", ""), ("col column", "x", ""), ("row", "y", ""),
        ("min from start begin origin lo low first near tl corner offset pos 0", "", "low"),
        ("max to end stop hi last far br 2", "", "high"), ("1", "", "one"),
        ("c center centre mid middle", "", "mid"),
        ("size ext extent span dim dims length", "", "size"),
    )
    for word in words.split()
}  # fmt: skip
_FUSED = re.compile(
    r"(x|y)(min|max|start|end|from|to|c|center|centre|mid|low|high|lo|hi|size|len)$"
)
_TURNED = re.compile(r"(min|max|start|end|c|center|centre|mid|low|high)(x|y)$")
_CORNER_NAMES = re.compile(r"(top|upper|t)_?(left|l)$|(bottom|lower|b)_?(right|r)$")


def _tokens(name: object) -> list[str]:
    if isinstance(name, int):
        return [("x", "y")[name]] if name in (0, 1) else []
    if _is_half(name):
        return [("x", "y")[int(str(name)[0])]]
    plain = plain_name(name)
    if corner := _CORNER_NAMES.match(plain):
        return ["tl" if corner[1] else "br"]
    if fused := _FUSED.match(plain) or _TURNED.match(plain):
        return [fused[1], fused[2]]
    return sorted(name_words(name), key=plain.find)


def _role(names: Sequence[object]) -> Role | None:
    """Return which axis and part a field is by the names on the way; None if it is no side."""
    axis = part = ""
    for name in reversed(names):
        for token in _tokens(name):
            its_axis, its_part = _WORDS.get(token, ("", ""))
            axis, part = axis or its_axis, part or its_part
    return (axis, part or "plain") if axis else None


def _of_names(fields: Fields, frames: Frames) -> list[BoxGuess]:
    """Read sides by their names, in one object or in two next to each other."""
    numbers = dict(_side_values(fields))
    homes = dict.fromkeys(path[:cut] for path in numbers for cut in range(len(path)))
    found = []
    for home in homes:
        inside = [path for path in numbers if path[: len(home)] == home and len(path) > len(home)]
        roles: dict[Role, Path] = {}
        for path in inside:
            if role := _role(path[len(home) :]):
                roles.setdefault(role, path)
        for form, where, prior in _forms(_with_ones(roles)):
            if _one_home(list(where.values())):
                found += _named(home, form, where, numbers, frames, prior)
    return found


def _side_values(fields: Fields) -> Iterator[tuple[Path, Sequence[Any]]]:
    """Yield the numbers that may be sides: amounts, and both parts of pairs."""
    for path, values in fields.items():
        if not path or (len(path) == 1 and isinstance(path[0], int)):
            continue  # numbers in a row have no names
        if all(map(is_amount, values)):
            yield path, values
        elif all(map(is_xy, values)):
            for name in values[0]:
                yield (*path, name), [value[name] for value in values]
        elif all(map(is_pair, values)):
            for place in (0, 1):
                yield (*path, place), [value[place] for value in values]
        elif sign := _pair_sign(values):
            for place in (0, 1):
                yield (*path, f"{place}{sign}"), [_parted(v, sign)[place] for v in values]


def _pair_sign(values: Sequence[Any]) -> str:
    """Return the sign that divides two numbers in every text; empty if they are something else."""
    for sign in (";", ",", " ", "|", "x"):
        if all(
            isinstance(v, str)
            and len(_parted(v, sign)) == 2
            and all(is_amount(part) for part in _parted(v, sign))
            for v in values
        ):
            return sign
    return ""


def _with_ones(roles: Mapping[Role, Path]) -> dict[Role, Path]:
    """Settle what x1 is: the low side where there is an x2, else the high one."""
    made = {role: path for role, path in roles.items() if role[1] != "one"}
    for (axis, part), path in roles.items():
        if part == "one":
            low = (axis, "high") in made or (axis, "size") in made
            made.setdefault((axis, "low" if low else "high"), path)
    return made


def _forms(roles: Mapping[Role, Path]) -> Iterator[tuple[str, dict[str, Path], float]]:
    """Yield the forms that sides make, with the path of each of their numbers, and a prior."""
    for form, prior, x, y in (
        ("corners", 0.0, ("low", "plain"), ("high",)),
        ("corner+size", 0.0, ("low", "plain"), ("size",)),
        ("centre+size", 0.0, ("mid",), ("size",)),
        ("centre+size", _CENTRE_BY_NAME, ("plain",), ("size",)),
    ):
        sides = [
            next((roles[axis, part] for part in parts if (axis, part) in roles), None)
            for parts in (x, y)
            for axis in "xy"
        ]
        known = [side for side in sides if side is not None]
        if len(known) == len(sides):
            yield form, dict(zip(BOX_FORMS[form], known, strict=True)), prior


def _one_home(paths: Sequence[Path]) -> bool:
    """Tell whether four fields belong together: in one object, or two and two in two.

    Two objects are named as parts of a box then, such as ``from`` and ``to``: the left of a frame
    and the height of an age are no box.
    """
    homes = [path[:-1] for path in paths]
    counts = sorted(homes.count(home) for home in set(homes))
    if counts != [2, 2]:
        return counts == [4]
    named = all(any(token in _WORDS for token in _tokens(home[-1])) for home in homes if home)
    return named and len({home[:-1] for home in homes}) == 1


def _named(
    home: Path,
    form: str,
    where: Mapping[str, Path],
    numbers: Fields,
    frames: Frames,
    prior: float,
) -> list[BoxGuess]:
    rows = [
        [amount_of(v) for v in row]
        for row in zip(*(numbers[p] for p in where.values()), strict=True)
    ]
    bonus = _NAMED + prior + 0.01 * len(home)  # said shorter from the object that they stand in
    reason = f"sides by their names, {', '.join(written(p) for p in where.values())}: {form}"
    ways = likelihood_of(np.asarray(rows, dtype=np.float64), form, frames)
    signs = {str(p[-1])[1:] for p in where.values() if _is_half(p[-1])}
    if signs:
        return _text_pairs(ways, where, signs, bonus, reason) if form == "corners" else []
    inner = {role: written(path[len(home) :]) for role, path in where.items()}
    used = [path for p in where.values() for path in (p, p[:-1])]  # a pair is a field of its own
    return [_guess(way, written(home), used, bonus, reason, fields=inner) for way in ways]


def _is_half(name: object) -> bool:
    return isinstance(name, str) and name[:1] in "01" and len(name) == 2 and not name[1].isalnum()


def _text_pairs(
    ways: Sequence[Way], where: Mapping[str, Path], signs: set[str], bonus: float, reason: str
) -> list[BoxGuess]:
    """Read two corners that are texts of two numbers each: they are two points."""
    ends = list(dict.fromkeys(path[:-1] for path in where.values()))
    if len(ends) != 2 or len(signs) != 1:
        return []
    at = f"[{', '.join(written(end) for end in ends)}]"
    [sign] = signs
    return [
        replace(_guess(way, at, ends, bonus, reason, split=sign), form="points") for way in ways
    ]


def _of_rows(fields: Fields, frames: Frames) -> list[BoxGuess]:
    """Read four numbers that follow each other in a row."""
    places = sorted(
        p[0]
        for p, v in fields.items()
        if len(p) == 1 and isinstance(p[0], int) and all(map(is_amount, v))
    )
    found = []
    for start in places:
        run = [start + step for step in range(4)]
        if not set(run) <= set(places):
            continue
        rows = [[amount_of(fields[(place,)][i]) for place in run] for i in range(len(frames.sent))]
        for way in ways_of(rows, frames):
            where = {role: written([run[way.order.index(role)]]) for role in BOX_FORMS[way.form]}
            reason = f"four numbers that lie in the images as {', '.join(way.order)}"
            used = [(place,) for place in run]
            found.append(_guess(way, "@", used, 0.0, reason, fields=where, order=()))
    return found
