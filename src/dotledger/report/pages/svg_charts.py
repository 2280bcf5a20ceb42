"""Charts as inline SVG: written once, styled by the page."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from html import escape

__all__ = ["Chart", "bars"]

_WIDTH, _HEIGHT = 420, 260
_LEFT, _RIGHT, _TOP, _BOTTOM = 46, 14, 14, 40


class Chart:
    """One chart with axes in numbers.

    Parameters
    ----------
    title : str
        For those who cannot see it, and above it.
    x, y : str
        Of the axes.
    x_range, y_range : (float, float)
        From where to where.
    """

    def __init__(
        self,
        title: str,
        *,
        x: str,
        y: str,
        x_range: tuple[float, float] = (0, 1),
        y_range: tuple[float, float] = (0, 1),
        about: str = "",
    ) -> None:
        self._title, self._about = title, about
        self._x, self._y = x, y
        self._x_range, self._y_range = x_range, y_range
        self._parts: list[str] = []
        self._keys: list[tuple[str, str]] = []
        self._ticks: list[tuple[float, str]] | None = None

    def at(self, x: float, y: float) -> tuple[float, float]:
        """Return where a point lies, in the chart's own units."""
        x0, x1 = self._x_range
        y0, y1 = self._y_range
        across = (x - x0) / ((x1 - x0) or 1)
        up = (y - y0) / ((y1 - y0) or 1)
        return (
            _LEFT + across * (_WIDTH - _LEFT - _RIGHT),
            _TOP + (1 - up) * (_HEIGHT - _TOP - _BOTTOM),
        )

    def line(self, points: Sequence[tuple[float, float]], kind: str, name: str = "") -> None:
        """Add a line; points that are not defined break it."""
        path, pen = [], "M"
        for x, y in points:
            if math.isnan(x) or math.isnan(y):
                pen = "M"
                continue
            there = self.at(x, y)
            path.append(f"{pen}{there[0]:.1f} {there[1]:.1f}")
            pen = "L"
        if path:
            self._parts.append(f'<path class="line {kind}" d="{"".join(path)}"/>')
        if name:
            self._keys.append((kind, name))

    def band(
        self, low: Sequence[tuple[float, float]], high: Sequence[tuple[float, float]], kind: str
    ) -> None:
        """Add an area between two lines."""
        both = [(x, y) for x, y in [*low, *reversed(high)] if not math.isnan(x + y)]
        if len(both) > 2:
            corners = " ".join("{:.1f},{:.1f}".format(*self.at(x, y)) for x, y in both)
            self._parts.append(f'<polygon class="band {kind}" points="{corners}"/>')

    def bar(self, x0: float, x1: float, y: float, kind: str, text: str) -> None:
        """Add an upright bar from 0."""
        left, top = self.at(x0, y)
        right, foot = self.at(x1, max(self._y_range[0], 0))
        self._parts.append(
            f'<rect class="bar {kind}" x="{left:.1f}" y="{top:.1f}" width="{right - left:.1f}" '
            f'height="{max(foot - top, 0):.1f}"><title>{escape(text)}</title></rect>'
        )

    def point(self, x: float, y: float, kind: str, text: str, ends: Sequence[float] = ()) -> None:
        """Add a mark, with its interval."""
        if math.isnan(x) or math.isnan(y):
            return
        if len(ends) == 2 and not math.isnan(sum(ends)):
            (across, low), (_, high) = self.at(x, ends[0]), self.at(x, ends[1])
            self._parts.append(
                f'<path class="whisker {kind}" d="M{across:.1f} {low:.1f}V{high:.1f}"/>'
            )
        there = self.at(x, y)
        self._parts.append(
            f'<circle class="point {kind}" cx="{there[0]:.1f}" cy="{there[1]:.1f}" r="4">'
            f"<title>{escape(text)}</title></circle>"
        )

    def rule(self, x: float, kind: str, name: str) -> None:
        """Add an upright line over the whole height."""
        across = self.at(x, 0)[0]
        self._parts.append(
            f'<path class="rule {kind}" d="M{across:.1f} {_TOP}V{_HEIGHT - _BOTTOM}">'
            f"<title>{escape(name)}</title></path>"
        )

    def moving(self, kind: str) -> None:
        """Add a mark that the page moves; hidden without scripts."""
        self._parts.append(f'<circle class="moving {kind}" r="6" cx="-9" cy="-9"/>')

    def moving_rule(self, kind: str) -> None:
        """Add an upright line that the page moves."""
        self._parts.append(f'<path class="moving-rule {kind}" d="M0 {_TOP}V{_HEIGHT - _BOTTOM}"/>')

    def ticks(self, ticks: Sequence[tuple[float, str]]) -> None:
        """Name places of the lower axis in words."""
        self._ticks = list(ticks)

    def svg(self, **data: str) -> str:
        """Return the chart."""
        facts = "".join(f' data-{name}="{escape(value)}"' for name, value in data.items())
        about = f"<figcaption>{escape(self._about)}</figcaption>" if self._about else ""
        keys = "".join(
            f'<li><svg viewBox="0 0 28 8" aria-hidden="true"><path class="line {kind}" '
            f'd="M1 4H27"/></svg>{escape(name)}</li>'
            for kind, name in self._keys
        )
        keys = f'<ul class="keys">{keys}</ul>' if keys else ""
        return (
            f'<figure class="chart"{facts}><h4>{escape(self._title)}</h4>'
            f'<svg viewBox="0 0 {_WIDTH} {_HEIGHT}" role="img" '
            f'aria-label="{escape(f"{self._title}. {self._about}".strip())}">'
            f"{self._axes()}{''.join(self._parts)}</svg>{keys}{about}</figure>"
        )

    def _axes(self) -> str:
        parts = []
        for value in _round_steps(*self._y_range):
            left, y = self.at(self._x_range[0], value)
            parts.append(f'<path class="grid" d="M{left:.1f} {y:.1f}H{_WIDTH - _RIGHT}"/>')
            parts.append(
                f'<text class="tick" x="{left - 6:.1f}" y="{y + 4:.1f}" text-anchor="end">'
                f"{value:g}</text>"
            )
        steps = self._ticks or [(value, f"{value:g}") for value in _round_steps(*self._x_range)]
        for value, word in steps:
            x, foot = self.at(value, self._y_range[0])
            parts.append(
                f'<text class="tick" x="{x:.1f}" y="{foot + 16:.1f}" text-anchor="middle">'
                f"{escape(word)}</text>"
            )
        middle = (_LEFT + _WIDTH - _RIGHT) / 2
        parts.append(
            f'<text class="axis" x="{middle:.0f}" y="{_HEIGHT - 6}" text-anchor="middle">'
            f"{escape(self._x)}</text>"
            f'<text class="axis" transform="translate(12 {(_HEIGHT - _BOTTOM) / 2:.0f}) '
            f'rotate(-90)" text-anchor="middle">{escape(self._y)}</text>'
        )
        return "".join(parts)


def _round_steps(low: float, high: float) -> list[float]:
    """Return about five round numbers in a range."""
    span = high - low
    if not span > 0:
        return [low]
    size = 10 ** math.floor(math.log10(span / 4))
    step = next(size * k for k in (1, 2, 2.5, 5, 10) if span / (size * k) <= 5.01)
    first = math.ceil(low / step - 1e-9)
    return [round(n * step, 10) for n in range(first, math.floor(high / step + 1e-9) + 1)]


def bars(
    title: str,
    rows: Sequence[tuple[str, Sequence[tuple[str, float]]]],
    *,
    shown: Callable[[float], str] = "{:g}".format,
    about: str = "",
) -> str:
    """Return level bars with names.

    Parameters
    ----------
    title : str
        Above it.
    rows : sequence of (name, bars)
        Each with a bar for each of its (style, value).
    shown : callable, optional
        How a value is written.
    about : str, optional
        Below it.

    Returns
    -------
    str
        HTML.
    """
    most = max((value for _, values in rows for _, value in values), default=0) or 1
    lines, y = [], 6
    for name, values in rows:
        lines.append(
            f'<text class="name" x="176" y="{y + 7 * len(values) + 4}" text-anchor="end">'
            f"{escape(name if len(name) < 27 else name[:25] + '…')}"
            f"<title>{escape(name)}</title></text>"
        )
        for kind, value in values:
            wide = 190 * value / most
            lines.append(
                f'<rect class="bar {kind}" x="182" y="{y}" width="{wide:.1f}" height="12"/>'
                f'<text class="tick" x="{186 + wide:.1f}" y="{y + 10}">'
                f"{escape(shown(value))}</text>"
            )
            y += 14
        y += 6
    text = f"<figcaption>{escape(about)}</figcaption>" if about else ""
    return (
        f'<figure class="chart"><h4>{escape(title)}</h4><svg viewBox="0 0 {_WIDTH} {max(y, 30)}" '
        f'role="img" aria-label="{escape(title)}">{"".join(lines)}</svg>{text}</figure>'
    )
