"""Charts inside a page: drawn by Matplotlib, styled by the page.

Matplotlib writes colours and sizes into each element. They are taken out again, and each element
gets the class that it was drawn as, so that a chart follows the page into dark, print and high
contrast. Text stays text. For the marks that the page's script moves, the figure says where its
axes lie (``data-axes``: left, top, width and height).
"""

from __future__ import annotations

import io
import math
from collections.abc import Callable, Iterable, Sequence
from html import escape
from typing import TYPE_CHECKING, Any

from dotledger.errors import MissingExtra

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = ["Chart", "bars", "can_draw"]

# In CSS pixels. The axes lie where they are put, not where their labels leave room: all charts of a
# page line up, and the script can count on it.
_WIDTH, _HEIGHT = 420.0, 260.0
_LEFT, _RIGHT, _TOP, _BOTTOM = 46.0, 14.0, 14.0, 40.0
_DPI = 72.0  # one unit of the SVG is one pixel
_TEXT = 11.0  # as in the page's style, so that labels keep clear of each other
_BAR_NAMES = 182.0
_LONGEST_NAME = 26

Point = tuple[float, float]


def can_draw() -> bool:
    """Tell whether Matplotlib is installed: a page without it has no charts, and says so."""
    from importlib.util import find_spec

    return find_spec("matplotlib") is not None


class Chart:
    """One chart with axes in numbers.

    Parameters
    ----------
    title : str
        Shown above it, and read to those who cannot see it.

    Raises
    ------
    MissingExtra
        If Matplotlib is not installed.
    """

    def __init__(
        self,
        title: str,
        *,
        x: str,
        y: str,
        x_range: Point = (0, 1),
        y_range: Point = (0, 1),
        about: str = "",
    ) -> None:
        self._title, self._about = title, about
        self._axes = _axes_in(_WIDTH, _HEIGHT, left=_LEFT)
        self._axes.set(xlim=x_range, ylim=y_range, xlabel=x, ylabel=y)
        self._axes.grid(axis="y")
        self._classes: dict[str, tuple[str, str]] = {}
        self._moving: list[str] = []
        self._keys: list[tuple[str, str]] = []
        self._words: list[tuple[float, str]] | None = None

    def _gid(self, kind: str, text: str = "") -> dict[str, Any]:
        """Return the settings of an artist that becomes an element of this class and title."""
        gid = f"k{len(self._classes)}"
        self._classes[gid] = kind, text
        # What reaches beyond the axes by half a line is not cut off there.
        return {"gid": gid, "clip_on": False}

    def line(self, points: Iterable[Point], kind: str, name: str = "") -> None:
        """Add a line; points that are not defined break it."""
        points = list(points)
        if any(not math.isnan(x + y) for x, y in points):
            self._axes.plot(*zip(*points, strict=True), **self._gid(f"line {kind}"))
        if name:
            self._keys.append((kind, name))

    def band(self, low: Sequence[Point], high: Sequence[Point], kind: str) -> None:
        """Add an area between two lines."""
        both = [(x, y) for x, y in [*low, *reversed(high)] if not math.isnan(x + y)]
        if len(both) > 2:
            self._axes.fill(*zip(*both, strict=True), linewidth=0, **self._gid(f"band {kind}"))

    def point(self, x: float, y: float, kind: str, text: str, ends: Sequence[float] = ()) -> None:
        """Add a mark with a title, and its interval."""
        if math.isnan(x + y):
            return
        if len(ends) == 2 and not math.isnan(sum(ends)):
            self._axes.plot([x, x], ends, **self._gid(f"whisker {kind}"))
        self._axes.plot([x], [y], marker="o", **self._gid(f"point {kind}", text))

    def rule(self, x: float, kind: str, name: str) -> None:
        """Add an upright line over the whole height."""
        self._axes.axvline(x, **self._gid(f"rule {kind}", name))

    def moving(self, kind: str) -> None:
        """Add a mark that the page moves; out of sight without scripts."""
        self._moving.append(f'<circle class="moving {kind}" r="6" cx="-9" cy="-9"/>')

    def moving_rule(self, kind: str) -> None:
        """Add an upright line that the page moves."""
        down = _HEIGHT - _BOTTOM
        self._moving.append(f'<path class="moving-rule {kind}" d="M0 {_TOP:g}V{down:g}"/>')

    def ticks(self, ticks: Sequence[tuple[float, str]]) -> None:
        """Name places of the lower axis in words."""
        self._words = list(ticks)

    def svg(self, **data: str) -> str:
        """Return the chart as an HTML figure."""
        from matplotlib.ticker import MaxNLocator

        for axis in (self._axes.xaxis, self._axes.yaxis):
            axis.set_major_locator(MaxNLocator(5, steps=[1, 2, 2.5, 5, 10]))
            axis.set_major_formatter("{x:g}")
        if self._words is not None:
            places, words = zip(*self._words, strict=True) if self._words else ((), ())
            self._axes.set_xticks(places, words)
        keys = "".join(
            f'<li><svg viewBox="0 0 28 8" aria-hidden="true"><path class="line {kind}" '
            f'd="M1 4H27"/></svg>{escape(name)}</li>'
            for kind, name in self._keys
        )
        wide, high = _WIDTH - _LEFT - _RIGHT, _HEIGHT - _TOP - _BOTTOM
        facts = {**data, "axes": f"{_LEFT:g} {_TOP:g} {wide:g} {high:g}"}
        drawn = f"{_drawn(self._axes, self._classes)}{''.join(self._moving)}"
        listed = f'<ul class="keys">{keys}</ul>' if keys else ""
        return _figure(self._title, self._about, (_WIDTH, _HEIGHT), drawn, listed, facts)


def _axes_in(width: float, height: float, *, left: float, bottom: float = _BOTTOM) -> Axes:
    """Return axes without a frame in a figure of so many pixels; no state of pyplot is touched."""
    try:
        from matplotlib.backends.backend_svg import FigureCanvasSVG
        from matplotlib.figure import Figure
    except ImportError as error:
        raise MissingExtra(
            "charts need Matplotlib", next_step="Run: pip install 'dot-ledger[plots]'"
        ) from error
    figure = Figure(figsize=(width / _DPI, height / _DPI), dpi=_DPI)
    FigureCanvasSVG(figure)
    across, up = width - left - _RIGHT, height - _TOP - bottom
    axes = figure.add_axes((left / width, bottom / height, across / width, up / height))
    figure.patch.set_visible(False)
    axes.patch.set_visible(False)
    axes.spines[:].set_visible(False)
    axes.tick_params(length=0, labelsize=_TEXT, pad=4)
    axes.xaxis.labelpad, axes.yaxis.labelpad = 5, 2
    axes.xaxis.label.set_fontsize(_TEXT)
    axes.yaxis.label.set_fontsize(_TEXT)
    axes.margins(0)
    return axes


def _figure(
    title: str,
    about: str,
    size: Point,
    drawn: str,
    keys: str = "",
    facts: dict[str, str] | None = None,
) -> str:
    """Return the HTML around a drawing."""
    data = "".join(f' data-{name}="{escape(value)}"' for name, value in (facts or {}).items())
    below = f"<figcaption>{escape(about)}</figcaption>" if about else ""
    told = escape(f"{title}. {about}" if about else title)
    return (
        f'<figure class="chart"{data}><h4>{escape(title)}</h4>'
        f'<svg viewBox="0 0 {size[0]:g} {size[1]:g}" role="img" aria-label="{told}">{drawn}</svg>'
        f"{keys}{below}</figure>"
    )


# -- from Matplotlib's SVG to the page's ----------------------------------------------------------

_SVG = "{http://www.w3.org/2000/svg}"


def _drawn(axes: Axes, classes: dict[str, tuple[str, str]]) -> str:
    """Return what Matplotlib draws, with classes instead of its styles."""
    import matplotlib
    from lxml import etree

    held = io.BytesIO()
    settings: Any = {"svg.fonttype": "none", "svg.hashsalt": "dot-ledger"}
    figure: Any = axes.figure
    with matplotlib.rc_context(settings):
        figure.savefig(held, format="svg", metadata={"Date": None})
    root = etree.fromstring(held.getvalue(), etree.XMLParser(resolve_entities=False))
    groups = list(root.iter(f"{_SVG}g"))
    kept = [_classed(group, classes) for group in groups if group.get("id") in classes]
    texts = [_text(one) for one in root.iter(f"{_SVG}text")]
    grid = [
        f'<path class="grid" d="{_path(one)}"/>'
        for group in groups
        if (group.get("id") or "").startswith("ytick")
        for one in group.iter(f"{_SVG}path")
        if one.getparent().tag != f"{_SVG}defs"
    ]
    return "".join([*grid, *kept, *texts])


def _classed(group: Any, classes: dict[str, tuple[str, str]]) -> str:
    """Return one artist: its paths, or a circle for each of its marks."""
    kind, text = classes[group.get("id")]
    title = f"<title>{escape(text)}</title>" if text else ""
    if kind.startswith("point"):
        return "".join(
            f'<circle class="{kind}" cx="{float(one.get("x")):.1f}" cy="{float(one.get("y")):.1f}" '
            f'r="4">{title}</circle>'
            for one in group.iter(f"{_SVG}use")
        )
    return "".join(
        f'<path class="{kind}" d="{_path(one)}">{title}</path>' for one in group.iter(f"{_SVG}path")
    )


def _path(one: Any) -> str:
    """Return a path on one line, with a tenth of a pixel."""
    words = one.get("d").split()
    return " ".join(word if word.isalpha() else f"{float(word):.1f}" for word in words)


def _text(one: Any) -> str:
    """Return a text at its place, turned as it was; its looks are the page's."""
    style = dict(part.split(":", 1) for part in one.get("style", "").split(";") if ":" in part)
    anchor = str(style.get(" text-anchor") or style.get("text-anchor") or "start").strip()
    turned = one.get("transform", "")
    place = f'x="{_at(one, "x")}" y="{_at(one, "y")}"'
    place += f' transform="{turned}"' if turned.startswith("rotate(-90") else ""
    words = "".join(one.itertext())
    shown = words if len(words) <= _LONGEST_NAME else f"{words[: _LONGEST_NAME - 1]}…"
    title = "" if shown == words else f"<title>{escape(words)}</title>"
    return f'<text class="tick" {place} text-anchor="{anchor}">{escape(shown)}{title}</text>'


def _at(one: Any, name: str) -> str:
    value = one.get(name)
    if value is None:  # placed by a translation
        inner = one.get("transform", "").partition("translate(")[2].partition(")")[0].split()
        value = inner["xy".index(name)] if len(inner) == 2 else "0"
    return f"{float(value):.1f}"


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
    rows : sequence of (name, bars)
        Each with a bar for each of its (style, value).
    """
    high = 14.0 * sum(len(values) for _, values in rows) + 6.0 * len(rows)
    size = _WIDTH, high + _TOP
    axes = _axes_in(*size, left=_BAR_NAMES, bottom=0)
    classes: dict[str, tuple[str, str]] = {}
    places, y = [], 6.0
    for name, values in rows:
        places.append((y + 7 * len(values) - 1, name))
        for kind, value in values:
            gid = f"k{len(classes)}"
            classes[gid] = f"bar {kind}", ""
            axes.barh(y + 6, value, 12, gid=gid)[0].set_gid(gid)
            axes.annotate(
                shown(value), (value, y + 6), (4, 0), textcoords="offset points", va="center",
                fontsize=_TEXT,
            )  # fmt: skip
            y += 14
        y += 6
    most = max((value for _, values in rows for _, value in values), default=0) or 1
    # Room for the value that is written behind the longest bar.
    axes.set(xlim=(0, most * 1.15), ylim=(max(high, 1), 0))
    axes.set_xticks([])
    axes.set_yticks([place for place, _ in places], [name for _, name in places])
    return _figure(title, about, size, _drawn(axes, classes))
