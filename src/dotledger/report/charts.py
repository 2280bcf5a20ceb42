"""Charts for notebooks and papers, on Matplotlib's axes.

Nothing global is touched: every function draws on the axes it is given, or on new ones, and
returns them. `plot_style` is offered for those who want our looks, and forced on nobody.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from dotledger.core.comparison.planned_looks import LookFigure, Watch
from dotledger.core.comparison.run_comparison import Comparison
from dotledger.core.kinds import KINDS
from dotledger.core.measurement.measure_result import Measure, MeasuredKinds
from dotledger.core.measures.measure_rows import Row
from dotledger.core.questions.identification import Identification
from dotledger.core.questions.pair_verification import PairMeasure
from dotledger.core.spelling import counted
from dotledger.errors import ArgumentError, MissingExtra
from dotledger.report.similarity_charts import draw_errors, draw_names, draw_pairs

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = ["PLOTS", "plot", "plot_style"]

_FIRST, _SECOND, _THIRD, _SOFT = "#20489e", "#b4530a", "#7a3ea8", "#565e70"
_NAMED = 6
"""Figures of alarms that a chart of rounds names: more would be illegible."""
_RIGHT, _WRONG = "#00796b", "#c2410c"


def plot_style(*, font_size: float = 10) -> dict[str, Any]:
    """Return Matplotlib settings in our looks, for ``matplotlib.rc_context``.

    Parameters
    ----------
    font_size : float, default 10
        Of all writing, in points.

    Returns
    -------
    dict of str to value
        Colours that the colour-blind tell apart, each with a line style of its own; writing that
        is legible in one column of a paper.

    Raises
    ------
    MissingExtra
        If ``dot-ledger[plots]`` is not installed.

    Examples
    --------
    >>> import matplotlib
    >>> matplotlib.use("agg")
    >>> import dotledger
    >>> with matplotlib.rc_context(dotledger.plot_style()):
    ...     axes = dotledger.plot(dotledger.measure("found.csv", "truth.csv"), "curve", kind="face")
    """
    try:
        from cycler import cycler
    except ImportError as error:
        raise _missing() from error
    colours = cycler("color", [_FIRST, _SECOND, _THIRD, _RIGHT, _WRONG])
    return {
        "axes.prop_cycle": colours + cycler("linestyle", ["-", "--", ":", "-.", (0, (1, 1))]),
        "axes.grid": True,
        "grid.color": "#d8d3c6",
        "grid.linewidth": 0.6,
        "axes.spines.top": False,
        "axes.spines.right": False,
        "axes.titlelocation": "left",
        "font.size": font_size,
        "figure.figsize": (5.2, 3.6),
        "figure.constrained_layout.use": True,
        "legend.frameon": False,
    }


def plot(
    result: MeasuredKinds | Comparison | Watch | Sequence[float] | Any,
    what: str = "curve",
    *,
    kind: str | None = None,
    label: str | None = None,
    by: str = "size",
    chosen: float | None = None,
    ax: Axes | None = None,
) -> Axes:
    """Draw one chart of a result.

    Parameters
    ----------
    result : MeasuredKinds, Comparison, Watch, Identification, PairMeasure, or sequence of float
        For ``differences`` a comparison; for ``latency`` seconds of calls; for ``rounds`` a watch.
    what : str, default "curve"
        ``curve`` (precision against recall), ``sweep`` (measures against the threshold),
        ``overlap``, ``slices``, ``reliability``, ``wrong``, ``missed``, ``confusion``,
        ``differences``, ``latency`` or ``rounds``; ``names`` of an identification; ``pairs`` (both
        error rates by similarity) and ``errors`` (one against the other) of pairs of pictures.
    kind : str, optional
        By default the only one that is measured.
    label : str, optional
        For ``curve``: one label alone.
    by : str, default "size"
        For ``slices``: as `Measure.by` takes it.
    chosen : float, optional
        A threshold to mark; for ``curve`` and ``errors`` its point.
    ax : Axes, optional
        Drawn on; by default those of a new figure.

    Returns
    -------
    Axes
        With units, counts and 95 % intervals where there are any.

    Raises
    ------
    ArgumentError
        If the chart, kind or label is not known, or the chart is of another result.
    MissingExtra
        If ``dot-ledger[plots]`` is not installed.

    Examples
    --------
    >>> import matplotlib
    >>> matplotlib.use("agg")
    >>> import dotledger
    >>> result = dotledger.measure("found.csv", "truth.csv", threshold=0.5)
    >>> dotledger.plot(result, "sweep", kind="face", chosen=0.6).get_xlabel()
    'threshold'
    """
    if what not in PLOTS:
        raise ArgumentError("unknown chart", place="what", got=what, allowed=list(PLOTS))
    needs, draw = PLOTS[what]
    if needs is not None and not isinstance(result, needs):
        name = "Measure" if needs is MeasuredKinds else needs.__name__
        raise ArgumentError(
            f"the chart {what!r} needs a {name}",
            place="result",
            got=type(result).__name__,
            allowed=[name],
        )
    axes = _axes() if ax is None else ax
    draw(axes, result, _kind(result, kind), {"label": label, "by": by, "chosen": chosen})
    return axes


def _axes() -> Axes:
    try:
        from matplotlib import pyplot
    except ImportError as error:
        raise _missing() from error
    return pyplot.subplots(layout="constrained")[1]


def _missing() -> MissingExtra:
    return MissingExtra("charts need Matplotlib", next_step="Run: pip install 'dot-ledger[plots]'")


def _kind(result: Any, kind: str | None) -> str:
    if not isinstance(result, MeasuredKinds | Comparison):
        return ""
    known = list(result.kinds) if isinstance(result, MeasuredKinds) else list(result.pair.kinds)
    if kind is None and (len(known) == 1 or isinstance(result, Comparison)):
        return known[0] if len(known) == 1 else ""
    if kind not in known:
        raise ArgumentError(
            "name a kind that is measured", place="kind", got=kind, allowed=known or list(KINDS)
        )
    return kind or ""


_Options = Mapping[str, Any]


def _curve(ax: Axes, result: MeasuredKinds, kind: str, options: _Options) -> None:
    label = options["label"]
    if label is None:
        table = result.sweep("kind", kinds=[kind]).table
    else:
        whole = result.sweep("label", kinds=[kind]).table
        table = whole[whole["group"] == f"{kind}:{label}"]
        if table.empty:
            known = sorted(set(whole["group"]))
            raise ArgumentError("not measured", place="label", got=label, allowed=known)
    band = ax.fill_between(
        table["recall"], table["precision_low"], table["precision_high"], alpha=0.15, linewidth=0
    )
    band.set_label("95 % interval")
    ax.plot(table["recall"], table["precision"], label="precision")
    if options["chosen"] is not None:
        rows = table[table["threshold"] >= options["chosen"]]
        if len(rows):
            last = rows.iloc[-1]
            ax.plot([last["recall"]], [last["precision"]], "o", color="black", zorder=5,
                    label=f"threshold {options['chosen']:g}")  # fmt: skip
    _unit_square(ax, "recall", "precision", f"{label or kind}: {_annotated(table)} annotated")
    ax.legend(loc="lower left")


def _annotated(table: Any) -> int:
    return int(table["annotated"].iloc[0]) if len(table) else 0


def _unit_square(ax: Axes, x: str, y: str, title: str) -> None:
    ax.set(xlabel=x, ylabel=y, title=title, xlim=(-0.02, 1.02), ylim=(-0.02, 1.05))


def _sweep(ax: Axes, result: MeasuredKinds, kind: str, options: _Options) -> None:
    table = result.sweep("kind", kinds=[kind]).table
    table = table[np.isfinite(table["threshold"])]
    styles = (("precision", "-"), ("recall", "--"), ("f1", ":"))
    for name, style in styles:
        line = ax.plot(table["threshold"], table[name], style, label="F1" if name == "f1" else name)
        low, high = f"{name}_low", f"{name}_high"
        if low in table:
            ax.fill_between(
                table["threshold"], table[low], table[high],
                alpha=0.1, color=line[0].get_color(), linewidth=0,
            )  # fmt: skip
    if result.basis.floor:
        ax.axvline(result.basis.floor, color=_SOFT, linestyle=(0, (2, 2)), label="floor")
    if options["chosen"] is not None:
        ax.axvline(options["chosen"], color="black", linewidth=1, label="chosen")
    _unit_square(ax, "threshold", "", f"{kind}: {_annotated(table)} annotated")
    ax.legend(loc="lower left")


def _overlap(ax: Axes, result: MeasuredKinds, kind: str, options: _Options) -> None:  # noqa: ARG001
    judged, passes = result.basis.judged[kind], result.basis.passing(kind)
    if judged.required is None:
        raise ArgumentError("a kind judged by presence has no overlap", place="kind", got=kind)
    values = judged.overlap[passes[judged.hit]]
    ax.hist(values, bins=np.linspace(result.overlap, 1, 21).tolist(), alpha=0.85)
    if len(values):
        _mark_at(ax, float(values.mean()), f"mean {values.mean():.2f}")
    ax.set_xlabel("overlap (intersection over union)")
    ax.set(ylabel="pairs", title=f"{kind}: {len(values)} right")


def _mark_at(ax: Axes, value: float, name: str) -> None:
    ax.axvline(value, color="black", linewidth=1, linestyle="-", label=name)
    ax.legend()


def _whiskers(values: Sequence[float], ends: Sequence[tuple[float, float]]) -> Any:
    """Return how far intervals reach below and above, as error bars want it; 0 where unknown."""
    reach = [(v - low, high - v) for v, (low, high) in zip(values, ends, strict=True)]
    return np.nan_to_num(np.array(reach, dtype=float).reshape(-1, 2).T)


def _slices(ax: Axes, result: MeasuredKinds, kind: str, options: _Options) -> None:
    found = result.by(options["by"])[kind]
    # What was missed has no attribute of a finding: there only precision means something.
    measure = "recall" if found.judges_missed else "precision"
    values = {name: getattr(row, measure) for name, row in found.rows.items()}
    shown = {name: row for name, row in found.rows.items() if not math.isnan(values[name])}
    recall = [values[name] for name in shown]
    ends = [row.intervals.get(measure, (math.nan, math.nan)) for row in shown.values()]
    places = range(len(shown))
    ax.errorbar(places, recall, yerr=_whiskers(recall, ends), fmt="o", capsize=3)
    names = [
        f"{name}\n({row.true_positives} of {_of(row, measure)})" for name, row in shown.items()
    ]
    ax.set_xticks(places, names)
    ax.set_xlim(-0.5, max(len(shown), 1) - 0.5)
    ax.set(ylabel=measure, title=f"{kind} by {options['by']}", ylim=(-0.02, 1.05))


def _of(row: Row, measure: str) -> int:
    return row.annotated if measure == "recall" else row.true_positives + row.false_positives


def _reliability(ax: Axes, result: MeasuredKinds, kind: str, options: _Options) -> None:  # noqa: ARG001
    bands = [band for band in result.reliability()[kind].bands if band.count]
    ax.plot([0, 1], [0, 1], color=_SOFT, linewidth=1, linestyle=":", label="as it says")
    shares = [band.share_right for band in bands]
    error = _whiskers(shares, [band.interval for band in bands])
    means = [band.mean_confidence for band in bands]
    ax.errorbar(means, shares, yerr=error, fmt="o-", capsize=3, label="share right")
    _unit_square(ax, "confidence", "share right", f"{kind}: {sum(b.count for b in bands)} findings")
    ax.legend(loc="upper left")


def _reasons(side: str) -> Callable[[Axes, MeasuredKinds, str, _Options], None]:
    def draw(ax: Axes, result: MeasuredKinds, kind: str, options: _Options) -> None:  # noqa: ARG001
        why = result.why()
        cases = why.wrong if side == "wrong" else why.missed
        counts = Counter(case.reason for case in cases if case.kind == kind)
        order = sorted(counts.items(), key=lambda one: (one[1], one[0]))
        colour = _WRONG if side == "wrong" else _THIRD
        bars = ax.barh([name for name, _ in order], [n for _, n in order], color=colour, height=0.6)
        ax.set_axisbelow(True)
        ax.set_ylim(-0.7, max(len(order) - 0.3, 1.7))
        ax.margins(x=0.12)
        ax.bar_label(bars, padding=3)
        ax.set_xlabel("findings" if side == "wrong" else "annotations")
        ax.set_title(f"{kind}: {sum(counts.values())} {side}")

    return draw


def _confusion(ax: Axes, result: Measure, kind: str, options: _Options) -> None:  # noqa: ARG001
    one = result.confusion()[kind]
    counts = one.counts.astype(float)
    ax.imshow(np.sqrt(counts), cmap="Blues", aspect="auto")
    for (row, column), value in np.ndenumerate(one.counts):
        colour = "white" if counts[row, column] > counts.max() / 3 else "black"
        if value:
            ax.text(column, row, str(value), ha="center", va="center", color=colour)
    places = range(len(one.labels) + 1)
    ax.set_xticks(places, [*one.labels, "missed"], rotation=45, ha="right")
    ax.set_yticks(places, [*one.labels, "nothing there"])
    ax.grid(visible=False)
    ax.set(xlabel="found", ylabel="annotated", title=kind)


def _differences(ax: Axes, result: Comparison, kind: str, options: _Options) -> None:  # noqa: ARG001
    pair = result.pair
    rows = [
        (f"{one} {measure.replace('_', ' ')}", difference)
        for one, found in pair.kinds.items()
        if kind in ("", one)
        for measure, difference in found.items()
        if not math.isnan(difference.difference)
    ][::-1]
    for place, (_, one) in enumerate(rows):
        colour = _FIRST if one.told_apart else _SOFT
        if not math.isnan(one.low):
            ax.plot([one.low, one.high], [place, place], "-", color=colour)
        ax.plot([one.difference], [place], "o" if one.told_apart else "s", color=colour)
    ax.axvline(0, color="black", linewidth=0.8, linestyle="-")
    ax.set_yticks(range(len(rows)), [name for name, _ in rows])
    ax.set_xlabel(f"{pair.second} minus {pair.first}, 95 % interval")
    ax.set_title(f"{result.images} images; dots: significant differences")


def _latency(ax: Axes, result: Any, kind: str, options: _Options) -> None:  # noqa: ARG001
    seconds = np.asarray(list(result), dtype=float)
    if len(seconds):
        ax.hist(seconds, bins=24)
        _mark_at(ax, float(np.median(seconds)), f"median {np.median(seconds):.2f} s")
    ax.set(xlabel="seconds", ylabel="calls", title=counted(len(seconds), "call"))


def _in_half_widths(figure: LookFigure) -> float:
    """Return how far a figure moved; 0 where no exchange of answers changes it."""
    # A share's band may end at 0 or 1: its longer side is the half width.
    half = max(figure.high - figure.first, figure.first - figure.low)
    if math.isnan(half):
        return 0.0 if figure.second == figure.first else math.nan
    return (figure.second - figure.first) / half if half else math.nan


def _rounds(ax: Axes, result: Watch, kind: str, options: _Options) -> None:  # noqa: ARG001
    """Draw each figure that varies in widths of its own band; those of alarms in colour."""
    lines: dict[tuple[str, str], list[float]] = {}
    alarmed = Counter[tuple[str, str]]()
    for place, one in enumerate(result.rounds):
        for figure in one.look.figures:
            name = figure.what, figure.of
            line = lines.setdefault(name, [0.0] + [math.nan] * len(result.rounds))
            line[place + 1] = _in_half_widths(figure)
            alarmed[name] += figure.changed
    shown = [name for name, count in alarmed.most_common() if count]
    for name, line in lines.items():
        if name not in shown:
            ax.plot(line, linewidth=0.8, color=_SOFT, alpha=0.4)
    alike: dict[tuple[float, ...], list[str]] = {}
    for name in shown:
        alike.setdefault(tuple(round(value, 2) for value in lines[name]), []).append(
            ", ".join(name)
        )
    for points, names in list(alike.items())[:_NAMED]:
        more = f" and {len(names) - 1} more alike" if len(names) > 1 else ""
        ax.plot(points, marker="o", markersize=4, label=names[0] + more)
    ax.axhspan(-1, 1, alpha=0.12, color=_FIRST, linewidth=0)
    ax.set_xticks(range(len(result.rounds) + 1), ["first", *(r.name for r in result.rounds)])
    ax.set(xlabel="round", ylabel="change, in half widths of its band")
    alarms = counted(len(result.alarms), "alarm")
    ax.set_title(f"{result.service}: {counted(len(result.rounds), 'round')}, {alarms}")
    if shown:
        ax.legend(fontsize="small")


PLOTS: Mapping[str, tuple[type | None, Callable[..., None]]] = {
    "curve": (MeasuredKinds, _curve),
    "sweep": (MeasuredKinds, _sweep),
    "overlap": (MeasuredKinds, _overlap),
    "slices": (MeasuredKinds, _slices),
    "reliability": (MeasuredKinds, _reliability),
    "wrong": (MeasuredKinds, _reasons("wrong")),
    "missed": (MeasuredKinds, _reasons("missed")),
    "confusion": (Measure, _confusion),
    "differences": (Comparison, _differences),
    "latency": (None, _latency),
    "rounds": (Watch, _rounds),
    "names": (Identification, draw_names),
    "pairs": (PairMeasure, draw_pairs),
    "errors": (PairMeasure, draw_errors),
}
"""Each chart, the result that it is of, and what draws it."""
