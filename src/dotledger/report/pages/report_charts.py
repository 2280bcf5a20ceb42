"""The report's charts, out of measures."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np

from dotledger.core.measurement.measure_result import Measure
from dotledger.report.pages.svg_charts import Chart, bars, can_draw

__all__ = ["Names", "kind_charts", "latency_chart"]

Names = Mapping[str, Measure]
_LINES = ("first", "second")


def kind_charts(
    runs: Names, at_threshold: Names, kind: str, chosen: Mapping[str, float]
) -> list[str]:
    """Return the charts of one kind, each with one line a run.

    Parameters
    ----------
    at_threshold : mapping of str to Measure
        The same at the threshold that the report begins with.
    kind : str
        Measured in at least one of them.

    Returns
    -------
    list of str
        HTML; charts that have nothing to show are left out, and all of them without Matplotlib.
    """
    if not can_draw():
        return []
    mine = {name: one for name, one in runs.items() if kind in one.kinds}
    made = [_precision_recall(mine, kind), *_against_threshold(mine, kind, chosen)]
    cut = {name: one for name, one in at_threshold.items() if kind in one.kinds}
    boxed = any(one.basis.scopes[kind].boxed for one in mine.values())
    if boxed:
        made += [_by_size(cut, kind), _overlaps(cut, kind)]
    made += [_reliability(mine, kind), *_reasons(cut, kind)]
    return [one for one in made if one]


def _precision_recall(runs: Names, kind: str) -> str:
    about = "A point for each threshold, from the most confident on; the band is the 95 % interval."
    chart = Chart("Precision against recall", x="recall", y="precision", about=about)
    for place, (name, run) in enumerate(runs.items()):
        table = run.sweep("kind", kinds=[kind]).table
        recall = table["recall"].tolist()
        low = list(zip(recall, table["precision_low"].tolist(), strict=True))
        high = list(zip(recall, table["precision_high"].tolist(), strict=True))
        if place == 0:
            chart.band(low, high, _LINES[place])
        points = list(zip(recall, table["precision"].tolist(), strict=True))
        chart.line(points, _LINES[place], name if len(runs) > 1 else "")
        chart.moving(_LINES[place])
    return chart.svg(chart="curve", kind=kind)


def _against_threshold(runs: Names, kind: str, chosen: Mapping[str, float]) -> list[str]:
    made = []
    for name, run in runs.items():
        title = f"Measures against the threshold{f', {name}' if len(runs) > 1 else ''}"
        chart = Chart(title, x="threshold", y="")
        table = run.sweep("kind", kinds=[kind], intervals=False).table
        table = table[np.isfinite(table["threshold"])]
        for measure, word in (("precision", "precision"), ("recall", "recall"), ("f1", "F1")):
            points = list(zip(table["threshold"].tolist(), table[measure].tolist(), strict=True))
            # Below the least confidence nothing more comes: the line stays level to its end.
            points += [(run.basis.floor or 0.0, points[-1][1])] if points else []
            chart.line(points, f"m-{measure}", word)
        if run.basis.floor:
            chart.rule(run.basis.floor, "floor", "The service gives nothing below this floor.")
        if name in chosen:
            chart.rule(chosen[name], "chosen", f"Chosen: {chosen[name]:g}")
        chart.moving_rule("now")
        made.append(chart.svg(chart="sweep", kind=kind, run=name))
    return made


def _by_size(runs: Names, kind: str) -> str:
    found = {name: run.by("size")[kind].rows for name, run in runs.items()}
    names = list(dict.fromkeys(band for rows in found.values() for band in rows))
    names = [name for name in names if name != "not known"]
    if not names:
        return ""
    chart = Chart(
        "Recall by size",
        x="size of the box, as a share of the image",
        y="recall",
        x_range=(-0.5, len(names) - 0.5),
        about="Whiskers are 95 % intervals; counts stand in the marks' titles.",
    )
    chart.ticks(list(enumerate(names)))
    for place, (name, rows) in enumerate(found.items()):
        shift = (place - (len(found) - 1) / 2) * 0.16
        points = []
        for at, band in enumerate(names):
            row = rows.get(band)
            if row is None or not row.annotated or math.isnan(row.recall):
                continue
            text = f"{name}, {band}: {row.true_positives} of {row.annotated}"
            ends = row.intervals.get("recall", ())
            chart.point(at + shift, row.recall, _LINES[place], text, ends)
            points.append((at + shift, row.recall))
        chart.line(points, f"{_LINES[place]} thin", name if len(found) > 1 else "")
    return chart.svg(chart="size", kind=kind)


def _overlaps(runs: Names, kind: str) -> str:
    edges = np.linspace(0, 1, 21)
    rows = {}
    for name, run in runs.items():
        judged = run.basis.judged[kind]
        passes = run.basis.passing(kind)
        rows[name] = np.histogram(judged.overlap[passes[judged.hit]], edges)[0]
    most = max((int(one.max()) for one in rows.values() if len(one)), default=0)
    if not most:
        return ""
    lowest = 0.05 * math.floor(next(iter(runs.values())).overlap / 0.05)
    chart = Chart(
        "Overlap of what is right",
        x="overlap (intersection over union)",
        y="pairs",
        x_range=(lowest, 1),
        y_range=(0, most),
        about="Further right is tighter; the required overlap is where it begins.",
    )
    for place, (name, counts) in enumerate(rows.items()):
        points = [
            (x, float(count))
            for left, right, count in zip(edges[:-1], edges[1:], counts, strict=True)
            for x in (left, right)
            if left >= lowest - 1e-9
        ]
        chart.line(points, _LINES[place], name if len(rows) > 1 else "")
    return chart.svg(chart="overlap", kind=kind)


def _reliability(runs: Names, kind: str) -> str:
    chart = Chart(
        "Does 0.9 mean 0.9?",
        x="confidence",
        y="share right",
        about="On the diagonal a confidence means what it says.",
    )
    chart.line([(0, 0), (1, 1)], "diagonal")
    any_point = False
    for place, (name, run) in enumerate(runs.items()):
        made = run.reliability().get(kind)
        points = []
        for band in made.bands if made is not None else ():
            if band.count:
                text = f"{name}: {band.right} of {band.count} right"
                chart.point(
                    band.mean_confidence, band.share_right, _LINES[place], text, band.interval
                )
                points.append((band.mean_confidence, band.share_right))
        any_point |= bool(points)
        chart.line(points, f"{_LINES[place]} thin", name if len(runs) > 1 else "")
    return chart.svg(chart="reliability", kind=kind) if any_point else ""


def _reasons(runs: Names, kind: str) -> list[str]:
    made = []
    for side, title in (("wrong", "Why wrong"), ("missed", "Why missed")):
        counts: dict[str, list[tuple[str, float]]] = {}
        for place, run in enumerate(runs.values()):
            why = run.why()
            for case in why.wrong if side == "wrong" else why.missed:
                if case.kind == kind:
                    none = [(_LINES[n], 0.0) for n in range(len(runs))]
                    mine = counts.setdefault(case.reason, none)
                    mine[place] = (_LINES[place], mine[place][1] + 1)
        if counts:
            order = sorted(counts.items(), key=lambda one: (-max(v for _, v in one[1]), one[0]))
            made.append(bars(title, order, about="At the threshold that the report begins with."))
    return made


def latency_chart(seconds: Mapping[str, Sequence[float]]) -> str:
    """Return how long calls took, a line a run; empty without calls.

    Parameters
    ----------
    seconds : mapping of str to sequence of float
        Of each call that was answered, by run.
    """
    every = [value for one in seconds.values() for value in one]
    if not every or not can_draw():
        return ""
    top = max(every) * 1.001 or 1
    edges = np.linspace(0, top, 25)
    counts = {name: np.histogram(one, edges)[0] for name, one in seconds.items()}
    most = max(int(one.max()) for one in counts.values())
    chart = Chart(
        "How long a call took",
        x="seconds",
        y="calls",
        x_range=(0, top),
        y_range=(0, most or 1),
    )
    for place, (name, one) in enumerate(counts.items()):
        points = [
            (x, float(count))
            for left, right, count in zip(edges[:-1], edges[1:], one, strict=True)
            for x in (left, right)
        ]
        chart.line(points, _LINES[place], name if len(counts) > 1 else "")
    return chart.svg(chart="latency")
