"""One page of a watch: whether anything changed, and each figure over the rounds with its band."""

from __future__ import annotations

import base64
import hashlib
import math
from collections.abc import Sequence
from importlib.resources import files

from dotledger.core.comparison.planned_looks import LookFigure, Watch, WatchedRound
from dotledger.core.spelling import counted
from dotledger.errors import MissingExtra
from dotledger.report.pages.svg_charts import Chart, can_draw
from dotledger.report.terminal.watch_lines import alarm_lines, head_lines, verdict_line
from dotledger.text_display import plain_text

__all__ = ["watch_page"]

_MOST_CHARTS = 24
_TICKS = 5
_FIELD = "answers with a field"
_NOT_DRAWN = ("boxes without a partner",)
"""Of two rounds, not of one: its value in this round alone would mislead."""


def watch_page(watch: Watch) -> str:
    """Return the page.

    Returns
    -------
    str
        HTML that stands by itself, without scripts.

    Raises
    ------
    MissingExtra
        If Jinja2 is not installed.
    """
    try:
        from jinja2 import Environment, StrictUndefined
    except ImportError as error:
        raise MissingExtra(
            "the page needs Jinja2", next_step="Run: pip install 'dot-ledger[report]'"
        ) from error
    parts = files(__package__) / "parts"
    style = "".join((parts / f"{n}.css").read_text(encoding="utf-8") for n in ("trial", "watch"))
    digest = base64.b64encode(hashlib.sha256(style.encode()).digest()).decode()
    environment = Environment(
        autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )
    environment.filters["plain"] = plain_text
    names = _names(watch.rounds)
    template = (parts / "watch.html").read_text(encoding="utf-8")
    drawn = can_draw()
    return environment.from_string(template).render(
        watch=watch,
        head=list(head_lines(watch)),
        verdict=verdict_line(watch),
        alarms=[(one.name, list(alarm_lines(one))) for one in watch.alarms],
        charts=[_chart(watch.rounds, *name) for name in names[:_MOST_CHARTS]] if drawn else [],
        drawn=drawn,
        others=counted(len(names) - _MOST_CHARTS, "further figure")
        if len(names) > _MOST_CHARTS
        else "",
        style=style,
        policy=f"default-src 'none'; style-src 'sha256-{digest}'; base-uri 'none'",
    )


def _names(rounds: Sequence[WatchedRound]) -> list[tuple[str, str]]:
    """Return the figures that vary: those of alarms first, fields of answers only among those."""
    alarmed: dict[tuple[str, str], bool] = {}
    for one in rounds:
        for figure in one.look.figures:
            name = figure.what, figure.of
            if figure.what in _NOT_DRAWN:
                continue
            if figure.what != _FIELD or figure.changed or alarmed.get(name):
                alarmed[name] = alarmed.get(name, False) or figure.changed
    return sorted(alarmed, key=lambda name: not alarmed[name])


def _chart(rounds: Sequence[WatchedRound], what: str, of: str) -> str:
    """Return one figure over the rounds: its line, its band, a mark for each alarm."""
    seen = [
        (n, figure)
        for n, one in enumerate(rounds, 1)
        for figure in one.look.figures
        if (figure.what, figure.of) == (what, of)
    ]
    low, high = _range([figure for _, figure in seen])
    chart = Chart(
        f"{what}: {of}",
        x="round",
        y="",
        x_range=(0, len(rounds) + 0.5),
        y_range=(low, high),
        about=_told(seen[-1][1]),
    )
    chart.ticks(_ticks(rounds))
    # Each round has a band of its own, as wide as the answers of both rounds vary.
    steps = [(x, f) for n, f in seen for x in (n - 0.5, n + 0.5)]
    chart.band(
        [(x, _limit(f.low, f)) for x, f in steps],
        [(x, _limit(f.high, f)) for x, f in steps],
        "chance",
    )
    first = next((f.first for _, f in seen if not math.isnan(f.first)), math.nan)
    chart.line([(0, first), *((n, f.second) for n, f in seen)], "value")
    for n, figure in seen:
        kind = "alarm" if figure.changed else "value"
        chart.point(n, figure.second, kind, f"{rounds[n - 1].name}: {figure.second:.3f}")
    return chart.svg()


def _limit(limit: float, figure: LookFigure) -> float:
    """Return a limit of the band; the figure itself where no exchange changes it."""
    return figure.second if math.isnan(limit) else limit


def _range(seen: Sequence[LookFigure]) -> tuple[float, float]:
    values = [v for f in seen for v in (f.first, f.second, f.low, f.high) if not math.isnan(v)]
    low, high = min(values, default=0.0), max(values, default=1.0)
    room = (high - low) * 0.08 or 0.05
    return low - room, high + room


def _ticks(rounds: Sequence[WatchedRound]) -> list[tuple[float, str]]:
    step = max(1, math.ceil(len(rounds) / _TICKS))
    return [
        (0, "first"),
        *((n, rounds[n - 1].name[:12]) for n in range(step, len(rounds) + 1, step)),
    ]


def _told(newest: LookFigure) -> str:
    if math.isnan(newest.low):
        return "No exchange of answers changes it."
    return f"Newest {newest.second:.3f}; the band is about {newest.low:.3f} to {newest.high:.3f}."
