"""Boxes and points out of answers, brought to pixels of the upright original."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Sequence
from typing import Any

from dotledger.core.boxes.box_forms import BOX_FORMS, TO_CORNERS, Box, clip, enclosing, turn_upright
from dotledger.core.boxes.image_frames import Frame
from dotledger.reading.answer_paths import MISSING, Getter, Level, compile_path
from dotledger.reading.reading_rules import BoxRule, Place, PointsRule
from dotledger.reading.value_parsing import SetAside, number_of

__all__ = ["LEAST_SIDE", "box_reader", "landmarks_reader", "scaler"]

_PLAIN = frozenset((float, int))
ToCorners = Callable[[float, float, float, float], Box]
Scaler = Callable[[Frame, tuple[float, float] | None], tuple[float, float]]


LEAST_SIDE = 0.5
"""Pixels: a box whose longer side is shorter was probably read in another unit."""


def scaler(rule: Place) -> Scaler:
    """Return a function to the two factors that bring the rule's numbers to original pixels.

    Parameters
    ----------
    rule : Place
        Of a box or of points.
    """
    full = {"fraction": 1.0, "percent": 100.0, "thousandths": 1000.0}.get(rule.unit, rule.grid)
    if full is not None:
        return lambda frame, _: (frame.width / full, frame.height / full)
    if rule.of == "original":
        return lambda *_: (1.0, 1.0)
    if rule.of == "sent":
        return lambda f, _: (f.width / f.sent_width, f.height / f.sent_height)
    return _from_working


def _from_working(frame: Frame, working: tuple[float, float] | None) -> tuple[float, float]:
    if working is None or working[0] <= 0 or working[1] <= 0:
        raise SetAside("no working size in the answer", working)
    return frame.width / working[0], frame.height / working[1]


class _Coordinates:
    """Brings points of a rule into upright original pixels."""

    def __init__(self, rule: Place) -> None:
        self._scale = scaler(rule)
        self._upright = rule.upright

    def points(
        self,
        points: Sequence[tuple[float, float]],
        frame: Frame,
        working: tuple[float, float] | None,
    ) -> list[tuple[float, float]]:
        if self._upright or frame.turned == 1:
            across, down = self._scale(frame, working)
            return [(x * across, y * down) for x, y in points]
        flat = _lying(frame) if frame.turned >= 5 else frame
        across, down = self._scale(flat, working)
        lying = [(x * across, y * down) for x, y in points]
        return turn_upright(lying, flat.width, flat.height, frame.turned)

    def box(self, box: Box, frame: Frame, working: tuple[float, float] | None) -> Box:
        x0, y0, x1, y1 = box
        if self._upright or frame.turned == 1:
            across, down = self._scale(frame, working)
            return x0 * across, y0 * down, x1 * across, y1 * down
        if x0 >= x1 or y0 >= y1:
            raise SetAside("no area", box)
        return enclosing(self.points([(x0, y0), (x1, y1)], frame, working))


def _lying(frame: Frame) -> Frame:
    return Frame(frame.height, frame.width, frame.sent_height, frame.sent_width, frame.turned)


def _box_numbers(rule: BoxRule) -> Callable[[Any], Box]:
    """Return a function from the raw box to its corners, in the rule's own unit."""
    wanted = BOX_FORMS[rule.form]
    to_corners = TO_CORNERS[rule.form]
    if rule.order:
        in_order = _from_list([rule.order.index(name) for name in wanted], to_corners)
        return _from_text(rule.split, in_order) if rule.split else in_order
    names = tuple(rule.fields[name] for name in wanted)
    return _from_object([compile_path(name, place="box.fields") for name in names], to_corners)


def _from_list(places: list[int], to_corners: ToCorners) -> Callable[[Any], Box]:
    a, b, c, d = places

    def read(raw: Any) -> Box:
        if type(raw) is not list or len(raw) != 4:
            raise SetAside("box is not a list of four", raw)
        return _corners(raw[a], raw[b], raw[c], raw[d], to_corners)

    return read


def _from_text(sign: str, read: Callable[[Any], Box]) -> Callable[[Any], Box]:
    """Return a function from one text that holds the numbers, divided by a sign."""

    def from_text(raw: Any) -> Box:
        if not isinstance(raw, str):
            raise SetAside("box is not text", raw)
        parts = raw.split() if sign == " " else raw.split(sign)
        return read([part.strip() for part in parts])

    return from_text


def _from_object(getters: list[Getter], to_corners: ToCorners) -> Callable[[Any], Box]:
    def read(raw: Any) -> Box:
        level = raw if type(raw) is Level else Level(raw, "", 0, None)
        a, b, c, d = (get(level) for get in getters)
        if a is MISSING or b is MISSING or c is MISSING or d is MISSING:
            raise SetAside("box lacks a field", level.value)
        return _corners(a, b, c, d, to_corners)

    return read


def _corners(a: Any, b: Any, c: Any, d: Any, to_corners: ToCorners) -> Box:
    """Return the corners; whether plain numbers are finite is checked where the box is clipped."""
    kind = type(a)
    if not (kind is type(b) is type(c) is type(d) and kind in _PLAIN):
        a, b, c, d = map(number_of, (a, b, c, d))
    return to_corners(a, b, c, d)


def _points_of(raw: Any) -> list[tuple[float, float]]:
    """Return a polygon's points, written as ``[x, y]`` pairs or objects with x and y."""
    if type(raw) is not list or len(raw) < 2:
        raise SetAside("not a list of at least two points", raw)
    return [_point(part) for part in raw]


def _point(part: Any) -> tuple[float, float]:
    if type(part) is list and len(part) == 2:
        return number_of(part[0]), number_of(part[1])
    if type(part) is dict and "x" in part and "y" in part:
        return number_of(part["x"]), number_of(part["y"])
    raise SetAside("not a point", part)


_FARTHEST = 1e9
"""Pixels; a point beyond is none, and its square could not be held."""


def _refuse_far(point: tuple[float, float]) -> None:
    if not (abs(point[0]) <= _FARTHEST and abs(point[1]) <= _FARTHEST):
        raise SetAside("a point is not finite, or far from any image", list(point))


Geometry = tuple[Box | None, tuple[tuple[float, float], ...], str]


def box_reader(rule: BoxRule | None) -> Callable[[Level, Frame, Any], Geometry]:
    """Return a function to (box, polygon, note).

    Parameters
    ----------
    rule : BoxRule or None
        None for kinds without boxes.

    Returns
    -------
    callable
        From a level, the frame and the working size. A box that cannot be read comes back as
        None, with the note.
    """
    if rule is None:
        return lambda *_: (None, (), "")
    get, place = compile_path(rule.at, place="box.at"), _Coordinates(rule)
    if rule.angle or rule.form in ("points", "runs"):
        outlined = _outline_reader(rule)
        return lambda level, frame, working: _outlined(
            get(level), level, outlined, place, frame, working
        )
    numbers = _box_numbers(rule)
    # A side may stand further out than the others, such as the top of a row: it is found from the
    # part itself, and not from the value alone.
    outward = any(name.startswith("^") for name in rule.fields.values())
    itself = rule.at in ("", "@")

    def read(level: Level, frame: Frame, working: Any) -> Geometry:
        raw = get(level)
        if raw is MISSING or raw is None:
            raise SetAside("no box", raw)
        around = raw if not outward else level if itself else Level(raw, "", 0, level)
        box, note = clip(place.box(numbers(around), frame, working), frame.width, frame.height)
        if box is None:
            raise SetAside(note, raw)
        return box, (), note

    return read


Outline = list[tuple[float, float]]


def _outlined(
    raw: Any,
    level: Level,
    outlined: Callable[[Any, Level], tuple[Outline, Outline | None]],
    place: _Coordinates,
    frame: Frame,
    working: Any,
) -> Geometry:
    """Return the enclosing box of an outline, and the outline where it is one."""
    if raw is MISSING or raw is None:
        raise SetAside("no box", raw)
    points, outline = outlined(raw, level)
    carried = tuple(place.points(points, frame, working))
    for point in carried:
        _refuse_far(point)
    box, note = clip(enclosing(carried), frame.width, frame.height)
    if box is None:
        raise SetAside(note, raw)
    if outline is None:
        return box, (), note
    kept = carried if outline is points else tuple(place.points(outline, frame, working))
    return box, kept, note


def _outline_reader(rule: BoxRule) -> Callable[[Any, Level], tuple[Outline, Outline | None]]:
    """Return a function to the points that the box encloses, and the outline if there is one."""
    if rule.form == "runs":
        return lambda raw, _: (_run_corners(raw, rule.lines), None)
    if not rule.angle:
        sign = rule.split
        return lambda raw, _: _rings(_from_texts(raw, sign) if sign else raw)
    numbers, angle = _centre_and_size(rule), compile_path(rule.angle, place="box.angle")

    def turned(raw: Any, level: Level) -> tuple[Outline, Outline | None]:
        found = angle(Level(raw, "", 0, None))
        found = angle(level) if found is MISSING else found
        turn = number_of(found) * (math.pi / 180 if rule.angle_in == "degrees" else 1.0)
        turn = turn if rule.turns == "clockwise" else -turn
        cx, cy, width, height = numbers(raw)
        corners = _turned_corners(cx, cy, width, height, turn)
        return corners, corners

    return turned


def _centre_and_size(rule: BoxRule) -> Callable[[Any], Box]:
    """Return a function to the four numbers of a box as they are written."""
    as_written: ToCorners = lambda a, b, c, d: (a, b, c, d)  # noqa: E731 - a name for what it is
    wanted = BOX_FORMS[rule.form]
    if rule.order:
        in_order = _from_list([rule.order.index(name) for name in wanted], as_written)
        return _from_text(rule.split, in_order) if rule.split else in_order
    getters = [compile_path(rule.fields[name], place="box.fields") for name in wanted]
    return _from_object(getters, as_written)


def _turned_corners(cx: float, cy: float, width: float, height: float, turn: float) -> Outline:
    """Return a box's corners turned about its middle; y grows downward, so this is clockwise."""
    if width <= 0 or height <= 0:
        raise SetAside("no area", [cx, cy, width, height])
    cosine, sine = math.cos(turn), math.sin(turn)
    halves = ((-1, -1), (1, -1), (1, 1), (-1, 1))
    return [
        (
            cx + across * width / 2 * cosine - down * height / 2 * sine,
            cy + across * width / 2 * sine + down * height / 2 * cosine,
        )
        for across, down in halves
    ]


def _rings(raw: Any) -> tuple[Outline, Outline]:
    """Return the points of all rings of a polygon, and the ring that is drawn.

    Rings are holes in another one, or parts of the thing: its box is the one around all of them.
    What is drawn is the ring with the largest box.
    """
    first = raw[0] if type(raw) is list and raw else None
    if type(first) is list and first and type(first[0]) in (list, dict):
        rings = [_points_of(ring) for ring in raw]
        largest = max(rings, key=lambda ring: _area_of(enclosing(ring)))
        return [point for ring in rings for point in ring], largest
    if type(raw) is list and len(raw) >= 4 and len(raw) % 2 == 0 and type(raw[0]) in _PLAIN:
        numbers = [number_of(value) for value in raw]
        points = list(zip(numbers[::2], numbers[1::2], strict=True))
        return points, points
    points = _points_of(raw)
    return points, points


def _from_texts(raw: Any, sign: str) -> Any:
    """Return points that are texts such as ``"470;490"`` as pairs of numbers in text."""
    if type(raw) is not list or not all(isinstance(part, str) for part in raw):
        raise SetAside("not a list of points as text", raw)
    return [
        [side.strip() for side in (part.split() if sign == " " else part.split(sign))]
        for part in raw
    ]


def _area_of(box: Box) -> float:
    return (box[2] - box[0]) * (box[3] - box[1])


_MOST_RUNS = 1_000_000


def _run_corners(raw: Any, lines: str) -> Outline:
    """Return two corners of the box around a run-length mask: ``{size: [height, width], counts}``.

    Counts go from line to line of pixels, first those outside; by columns, as usual, or by rows.
    """
    sizes = raw.get("size") if type(raw) is dict else None
    counts = raw.get("counts") if type(raw) is dict else None
    if type(sizes) is not list or len(sizes) != 2 or type(counts) is not list:
        raise SetAside("not a mask of size and counts", raw)
    if len(counts) > _MOST_RUNS:
        raise SetAside("a mask of too many runs", len(counts))
    height, width = (int(number_of(side)) for side in sizes)
    long = height if lines == "columns" else width
    runs = [int(number_of(count)) for count in counts]
    if long <= 0 or min(runs, default=0) < 0 or sum(runs) > height * width:
        raise SetAside("a mask whose runs do not fit its size", sizes)
    low, high, first, last = long, -1, math.inf, -1.0
    at = 0
    for place, run in enumerate(runs):
        if place % 2 and run:
            start, end = at, at + run - 1
            first, last = min(first, start // long), max(last, end // long)
            whole = end // long > start // long
            low = 0 if whole else min(low, start % long)
            high = long - 1 if whole else max(high, end % long)
        at += run
    if high < 0:
        raise SetAside("an empty mask", sizes)
    across, along = (first, last + 1), (low, high + 1)
    xs, ys = (across, along) if lines == "columns" else (along, across)
    return [(float(xs[0]), float(ys[0])), (float(xs[1]), float(ys[1]))]


def landmarks_reader(
    rule: PointsRule, box: BoxRule | None
) -> Callable[[Level, Frame, Any], dict[str, Any]]:
    """Return a function to named points in upright original pixels.

    Parameters
    ----------
    box : BoxRule or None
        Whose unit and origin count unless `rule` says otherwise.

    Returns
    -------
    callable
        From a level, the frame and the working size.
    """
    get, place = compile_path(rule.at, place="points.at"), _Coordinates(rule.place(box))

    def read(level: Level, frame: Frame, working: Any) -> dict[str, tuple[float, float]]:
        raw = get(level)
        named = dict(_named_points(raw, rule))
        carried = place.points(list(named.values()), frame, working)
        for point in carried:
            _refuse_far(point)
        return dict(zip(named, carried, strict=True))

    return read


def _named_points(raw: Any, rule: PointsRule) -> Iterable[tuple[str, tuple[float, float]]]:
    if rule.order:
        return _in_order(raw, rule)
    if type(raw) is dict:
        return [(name, _xy(part, rule)) for name, part in raw.items()]
    if type(raw) is list:
        return [(_point_name(part, rule, n), _xy(part, rule)) for n, part in enumerate(raw, 1)]
    if raw is MISSING or raw is None:
        return []
    raise SetAside("not landmark points: neither a list nor points by name", raw)


def _point_name(part: Any, rule: PointsRule, number: int) -> str:
    """Return a point's own name, or its number in the list: no point is lost for lack of a name."""
    own = part.get(rule.name) if type(part) is dict and rule.name else None
    return str(own) if own else f"point {number}"


def _in_order(raw: Any, rule: PointsRule) -> list[tuple[str, tuple[float, float]]]:
    """Return points of one flat list, ``[x, y, ...]`` or ``[x, y, seen, ...]``, by their names.

    With a third number 0 means that the point is not there.
    """
    if type(raw) is not list or len(raw) != rule.step * len(rule.order):
        raise SetAside(f"not {rule.step * len(rule.order)} numbers for the points in order", raw)
    numbers = [number_of(value) for value in raw]
    groups = [numbers[at : at + rule.step] for at in range(0, len(numbers), rule.step)]
    return [
        (name, (group[0], group[1]))
        for name, group in zip(rule.order, groups, strict=True)
        if rule.step == 2 or group[2] > 0
    ]


def _xy(part: Any, rule: PointsRule) -> tuple[float, float]:
    if type(part) is dict:
        level = Level(part, "", 0, None)
        x, y = (compile_path(path)(level) for path in (rule.x, rule.y))
        return number_of(x), number_of(y)
    return _point(part)
