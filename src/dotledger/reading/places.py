"""Boxes and points out of answers, brought to pixels of the upright original."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

from dotledger.core.boxes.forms import BOX_FORMS, TO_CORNERS, Box, clip, enclosing, turn_upright
from dotledger.core.boxes.frames import Frame
from dotledger.reading.paths import MISSING, Getter, Level, compile_path
from dotledger.reading.rules import BoxRule, Place, PointsRule
from dotledger.reading.values import SetAside, number_of

__all__ = ["box_reader", "landmarks_reader"]

_PLAIN = frozenset((float, int))
ToCorners = Callable[[float, float, float, float], Box]
Scaler = Callable[[Frame, tuple[float, float] | None], tuple[float, float]]


def _scaler(rule: Place) -> Scaler:
    """Return a function to the two factors that bring the rule's numbers to original pixels."""
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
        self._scale = _scaler(rule)
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
        level = Level(raw, "", 0, None)
        a, b, c, d = (get(level) for get in getters)
        if MISSING in (a, b, c, d):
            raise SetAside("box lacks a field", raw)
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
    numbers = None if rule.form == "points" else _box_numbers(rule)

    def read(level: Level, frame: Frame, working: Any) -> Geometry:
        raw = get(level)
        if raw is MISSING or raw is None:
            raise SetAside("no box", raw)
        outline: tuple[tuple[float, float], ...] = ()
        if numbers is None:
            outline = tuple(place.points(_points_of(raw), frame, working))
            for point in outline:
                _refuse_far(point)
            corners = enclosing(outline)
        else:
            corners = place.box(numbers(raw), frame, working)
        box, note = clip(corners, frame.width, frame.height)
        if box is None:
            raise SetAside(note, raw)
        return box, outline, note

    return read


def landmarks_reader(
    rule: PointsRule, box: BoxRule | None
) -> Callable[[Level, Frame, Any], dict[str, Any]]:
    """Return a function to named points in upright original pixels.

    Parameters
    ----------
    rule : PointsRule
        Of the description.
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
        named = {k: v for k, v in _named_points(raw, rule) if k}
        carried = place.points(list(named.values()), frame, working)
        for point in carried:
            _refuse_far(point)
        return dict(zip(named, carried, strict=True))

    return read


def _named_points(raw: Any, rule: PointsRule) -> Iterable[tuple[str, tuple[float, float]]]:
    if type(raw) is dict:
        return [(name, _xy(part, rule)) for name, part in raw.items()]
    if type(raw) is list and rule.name:
        entries = [part for part in raw if type(part) is dict]
        return [(str(part.get(rule.name, "")), _xy(part, rule)) for part in entries]
    return []


def _xy(part: Any, rule: PointsRule) -> tuple[float, float]:
    if type(part) is dict:
        level = Level(part, "", 0, None)
        x, y = (compile_path(path)(level) for path in (rule.x, rule.y))
        return number_of(x), number_of(y)
    return _point(part)
