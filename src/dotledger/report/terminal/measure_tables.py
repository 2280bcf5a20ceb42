"""A measure as tables for a terminal."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

from rich.console import Group
from rich.text import Text

from dotledger.core.measurement.measure_result import Measure
from dotledger.core.measures.measure_rows import Interval, KindMeasure, Row
from dotledger.core.measures.registry import MEASURES, records_for
from dotledger.core.measures.share_limits import FEW_IMAGES
from dotledger.core.questions.attribute_judging import AttributeRow
from dotledger.core.questions.error_diagnosis import Case, Diagnosis
from dotledger.core.questions.slices import SliceMeasure
from dotledger.core.spelling import counted
from dotledger.report.terminal.terminal_tables import (
    DASH,
    DOT,
    Heading,
    Sheet,
    empty_table,
    number,
    plain,
    rows_table,
)

__all__ = [
    "PARTS",
    "comparison_table",
    "measure_tables",
    "parts",
    "pooled_lines",
    "scope_lines",
    "with_interval",
]

_MOST_CASES = 12


def _columns_of(*, presence: bool) -> tuple[str, ...]:
    """Return the measures of a table: by rank, and what comes from a curve last."""
    names = [n for n, one in records_for(presence=presence).items() if not (presence and one.wide)]
    names.sort(key=lambda n: (MEASURES[n].interval == "draws", MEASURES[n].rank))
    return tuple(names)


_BOXED, _BY_PRESENCE = _columns_of(presence=False), _columns_of(presence=True)
_WITH_INTERVAL = ("false_alarm_rate",)
"""A rate of 0 says nothing without the number of images behind it."""

_COLUMNS = (
    ("kind", False),
    ("label", False),
    ("annotated", True),
    ("missed", True),
    ("wrong", True),
    *((MEASURES[name].heading, True) for name in _BOXED),
)

_LEAST = ("balanced", "overlap", "F1", "right", "absent", "AP", "annotated")
"""What a table of measures does without first where the terminal is narrow."""

_PRESENCE_COLUMNS = (
    ("kind", False),
    ("label", False),
    ("annotated", True),
    ("right", True),
    ("missed", True),
    ("wrong", True),
    ("absent", True),
    *((MEASURES[name].heading, name not in _WITH_INTERVAL) for name in _BY_PRESENCE),
)


def _cells(row: Row) -> list[str]:
    return [
        str(row.annotated),
        _count(row.misses),
        _count(row.false_positives),
        *(number(row.measure(name)) for name in _BOXED),
    ]


def _false_alarms(row: Row) -> str:
    name = "false_alarm_rate"
    return with_interval(row.false_alarm_rate, row.intervals.get(name), row.images.get(name))


def _presence_cells(row: Row) -> list[str]:
    return [
        str(row.annotated),
        str(row.true_positives),
        _count(row.misses),
        _count(row.false_positives),
        DASH if row.true_negatives is None else str(row.true_negatives),
        *(
            _false_alarms(row) if name in _WITH_INTERVAL else number(row.measure(name))
            for name in _BY_PRESENCE
        ),
    ]


def measure_tables(measure: Measure) -> list[Sheet]:
    """Return a measure as tables by label, the most missed first.

    Kinds with boxes stand in one, kinds judged by presence in the other: only these have images
    where a label is rightly absent, and a false-alarm rate.

    Returns
    -------
    list of Sheet
        One or two; none without kinds.
    """
    cut = str(measure.basis.cuts[0])
    boxed = [k for k in measure.kinds.values() if measure.basis.scopes[k.kind].boxed]
    others = [k for k in measure.kinds.values() if k not in boxed]
    titles = (f"Required overlap {measure.overlap:g}, {cut}", f"Present in the image or not, {cut}")
    tables = [
        _by_label(titles[0], _COLUMNS, boxed, _cells),
        _by_label(titles[1], _PRESENCE_COLUMNS, others, _presence_cells),
    ]
    kept = [t for t, kinds in zip(tables, (boxed, others), strict=True) if kinds]
    return kept or tables[:1]


def _by_label(
    title: str,
    columns: Sequence[tuple[str, bool]],
    kinds: Sequence[KindMeasure],
    cells: Callable[[Row], list[str]],
) -> Sheet:
    table = empty_table(title, columns, _LEAST)
    for kind in kinds:
        order = sorted(kind.rows.items(), key=lambda e: (-e[1].misses, -e[1].false_positives, e[0]))
        for label, row in order:
            table.add_row(kind.kind, plain(label), *cells(row))
        if len(order) > 1:
            table.add_row(kind.kind, Text("all, pooled", "bold"), *cells(kind.pooled))
    return table


def with_interval(value: float, interval: Interval | None, images: int | None = None) -> str:
    """Return a measure with how sure it is, in words where nothing wrong (or right) was seen."""
    if interval is None or math.isnan(value):
        return number(value)
    few = "*" if images is not None and images < FEW_IMAGES else ""
    if math.isnan(interval[0]):
        return f"{value:.2f} ({DASH}){few}"
    if value == 1 and interval[1] == 1:
        return f"{value:.2f} (at least {interval[0]:.2f}){few}"
    if value == 0 and interval[0] == 0:
        return f"{value:.2f} (at most {interval[1]:.2f}){few}"
    return f"{value:.2f} ({interval[0]:.2f}\N{EN DASH}{interval[1]:.2f}){few}"


def pooled_lines(measure: Measure) -> Sheet:
    """Return the pooled measures of each kind, and the means over labels, with 95 % intervals."""
    intervals = any(kind.pooled.intervals for kind in measure.kinds.values())
    first = "95 % intervals over images" if intervals else "without intervals"
    few = any(
        k.pooled.images.get("recall", FEW_IMAGES) < FEW_IMAGES for k in measure.kinds.values()
    )
    first += f"; * fewer than {FEW_IMAGES} images" if few else ""
    names = ("recall", "precision", "f1", "average_precision")
    table = empty_table("", [(first, False), *((MEASURES[name].heading, False) for name in names)])
    for kind in measure.kinds.values():
        table.add_row(f"{kind.kind}, pooled", *_row_cells(kind.pooled, names))
        if len(kind.rows) > 1:
            means, ends = kind.mean_over_labels, kind.mean_intervals
            cells = [with_interval(means[name], ends.get(name)) for name in names]
            table.add_row(f"{kind.kind}, mean over labels", *cells)
    return table


def _row_cells(row: Row, names: Sequence[str]) -> list[str]:
    return [
        with_interval(row.measure(name), row.intervals.get(name), row.images.get(name))
        for name in names
    ]


def scope_lines(measure: Measure) -> list[str]:
    """Return what a reader must know before the numbers: scope, and what was left out."""
    kinds = [f"{k.kind} {k.images_in_scope}" for k in measure.kinds.values()]
    lines = [f"Images in scope: {measure.images_in_scope} ({', '.join(kinds)})."]
    if measure.unanswered:
        share = measure.unanswered / (measure.unanswered + measure.answered)
        lines.append(
            f"{counted(measure.unanswered, 'annotated image')} without an answer left out "
            f"({share:.0%} of those annotated)."
        )
    if measure.uncovered:
        lines.append(
            f"{counted(measure.uncovered, 'image')} with answers but no annotations left out."
        )
    lines += _cut_lines(measure)
    if measure.unjudged:
        names = [f"{n} ({c})" for k in measure.kinds.values() for n, c in k.unjudged.items()]
        names += [f"all of kind {kind} ({count})" for kind, count in measure.unjudged_kinds.items()]
        lines.append(
            f"{counted(measure.unjudged, 'finding')} not judged: their label is never annotated "
            f"for that kind ({', '.join(names[:8])})."
        )
    return lines


def _cut_lines(measure: Measure) -> list[str]:
    """Return how many findings were cut, by us and (below its floor) by the service."""
    cut, floor = measure.cut_away, measure.basis.floor
    if not cut and floor is None:
        return []
    ours = f"Below the threshold: {counted(cut, 'finding')}" if cut else "Nothing cut by us"
    theirs = "" if floor is None else f"; below {floor:g} the service gave none"
    return [f"{ours}{theirs}."]


def _points(measure: Measure) -> Iterable[Any]:
    """Show every required overlap and threshold asked for."""
    rows = [
        [
            kind.kind,
            point.overlap,
            DASH if point.threshold is None else point.threshold,
            *_cells(point.pooled)[1:],
        ]
        for kind in measure.kinds.values()
        for point in kind.points
    ]
    head = ["kind", "overlap", "threshold", "missed", "wrong"]
    yield rows_table(
        "Pooled",
        [*head, *(MEASURES[name].heading for name in _BOXED[:3]), "mean overlap", "AP"],
        rows,
    )
    means = [
        [
            k.kind,
            with_interval(k.mean_ap, k.mean_intervals.get("mean_ap")),
        ]
        for k in measure.kinds.values()
    ]
    yield rows_table("", ["kind", "mean AP over the required overlaps"], means)


def _reasons(measure: Measure) -> Iterable[Any]:
    found = measure.why()
    for side in ("wrong", "missed"):
        yield _reason_table(found, side)
        cases = found.wrong if side == "wrong" else found.missed
        if cases:
            yield _case_table(cases, side)


def _reason_table(found: Diagnosis, side: str) -> Any:
    frame = found.shares()
    frame = frame[frame["side"] == side]
    rows = []
    for reason, (count, share) in found.totals(side).items():
        mine = frame[frame["reason"] == reason].groupby("label")["count"].sum()
        ordered = sorted(mine.items(), key=lambda entry: (-entry[1], entry[0]))
        labels = [f"{label} {n}" for label, n in ordered]
        rows.append([reason, count, f"{share:.0%}", ", ".join(labels[:5])])
    title = f"Why {side}" if rows else f"Nothing is {side}."
    return rows_table(title, ["reason", "count", "share", "labels"], rows) if rows else title


def _case_table(cases: Sequence[Case], side: str) -> Any:
    first = "The most confident first" if side == "wrong" else "The largest first"
    more = f", {_MOST_CASES} of {len(cases)}" if len(cases) > _MOST_CASES else ""
    rows = [
        [case.image, case.kind, case.label, _sure(case.confidence), case.reason, case.about]
        for case in cases[:_MOST_CASES]
    ]
    header = ["image", "kind", "label", "confidence", "reason", "about"]
    return rows_table(f"{first}{more}", header, rows)


def _sure(confidence: float) -> str:
    return "asserted" if math.isinf(confidence) else number(confidence)


def _confusion(measure: Measure) -> Iterable[Any]:
    for kind, found in measure.confusion().items():
        rows = [list(pair) for pair in found.pairs()[:20]]
        rows += [[name, "a broader label", n] for name, n in found.too_broad.items()]
        rows += [[name, "a narrower label", n] for name, n in found.too_narrow.items()]
        if rows:
            yield rows_table(f"{kind}: another label", ["annotated", "found as", "times"], rows)
        else:
            yield f"{kind}: nothing was found under another label."


def _slices(measure: Measure) -> Iterable[Any]:
    for name in measure.slice_names():
        yield from slice_tables(measure, name, None)


def slice_tables(measure: Measure, name: str, edges: Sequence[float] | None) -> Iterable[Any]:
    """Yield a table for each kind that can be sliced by `name`."""
    for kind, found in measure.by(name, edges=edges).items():
        if not found.judges_missed:
            yield _finding_slices(found)
            continue
        presence = not measure.basis.scopes[kind].boxed
        rows = [
            [
                label,
                row.annotated,
                _count(row.misses),
                _count(row.false_positives) if found.judges_wrong else DASH,
                _share(row, "recall"),
                _share(row, "precision") if found.judges_wrong else DASH,
                *([_false_alarms(row)] if presence else []),
            ]
            for label, row in found.rows.items()
        ]
        header = [name, "annotated", "missed", "wrong", "recall", "precision"]
        header += ["false alarms"] if presence else []
        yield rows_table(f"{kind} by {name}", header, rows)


def _share(row: Row, measure: str) -> str:
    return with_interval(getattr(row, measure), row.intervals.get(measure), row.images.get(measure))


def _finding_slices(found: SliceMeasure) -> Any:
    """Return the table of slices by attributes of findings, which say nothing of misses."""
    rows = [
        [label, row.true_positives, _count(row.false_positives), _share(row, "precision")]
        for label, row in found.rows.items()
    ]
    header = [found.name, "right", "wrong", "precision"]
    return rows_table(f"{found.kind} by {found.name}", header, rows)


def _reliability(measure: Measure) -> Iterable[Any]:
    for kind, found in measure.reliability().items():
        rows = [
            [
                f"{b.low:g} to {b.high:g}",
                b.count,
                number(b.mean_confidence),
                with_interval(b.share_right, b.interval, b.images),
            ]
            for b in found.bands
            if b.count
        ]
        error = number(found.expected_calibration_error, 3)
        title = f"{kind}: {found.count} findings, expected calibration error {error}"
        yield rows_table(title, ["confidence", "findings", "mean confidence", "share right"], rows)


def _counts(measure: Measure) -> Iterable[Any]:
    for kind, found in measure.counts().items():
        rows = [
            [label, r.annotated, r.found, number(r.mean_error), number(r.mean_absolute_error)]
            for label, r in found.rows.items()
        ]
        header = ["label", "annotated", "found", "mean error", "mean absolute error"]
        yield rows_table(f"{kind}: found minus annotated, by image", header, rows)


def _screening(measure: Measure) -> Iterable[Any]:
    found = measure.screening()
    if found is None:
        yield "Unsafe content is not annotated: nothing is decided by it."
        return
    stopped = with_interval(found.caught_share, found.intervals.get("caught_share"))
    alarms = with_interval(found.false_alarm_rate, found.intervals.get("false_alarm_rate"))
    rows = [
        ["unsafe", found.caught, found.let_through, stopped],
        ["not unsafe", found.false_alarms, found.rightly_passed, alarms],
    ]
    header = ["annotated as", "stopped", "passed", "share stopped"]
    yield rows_table("Images by unsafe content, stopped by any category", header, rows)
    if found.left_out:
        yield f"Left out, annotated as doubtful only: {counted(found.left_out, 'image')}."


def _details(measure: Measure) -> Iterable[Any]:
    rows = []
    for kind, found in measure.details().items():
        rows += [
            [
                kind,
                name,
                r.judged,
                r.pairs,
                with_interval(r.share_right, r.interval, r.images),
                _list_shares(r) if r.judged == "set" else number(r.mean_absolute_error),
            ]
            for name, r in found.attributes.items()
        ]
        rows += [
            [kind, name, "distance / diagonal", r.pairs, DASH, number(r.mean_distance, 3)]
            for name, r in found.points.items()
        ]
        if found.names is not None:
            n = found.names
            total = n.right + n.wrong + n.no_name
            rows.append([kind, "name", "exact", total, number(n.right / total), DASH])
    if rows:
        yield rows_table(
            "Details of pairs",
            ["kind", "what", "judged", "pairs", "right", "mean error, or of entries"],
            rows,
        )
    else:
        yield "No pair has an attribute, a point or a name on both sides."


def _list_shares(row: AttributeRow) -> str:
    precision = with_interval(row.set_precision, row.precision_interval)
    return f"precision {precision}, recall {with_interval(row.set_recall, row.recall_interval)}"


def _text(measure: Measure) -> Iterable[Any]:
    found = measure.text()
    if found is None:
        yield "No lines of writing are annotated."
        return
    row = [found.annotated, found.paired, found.exact, found.missed, found.wrong]
    header = ["lines annotated", "paired", "exactly right", "missed", "wrong", "character errors"]
    yield rows_table("Lines of writing", header, [[*row, number(found.character_error_rate, 3)]])
    yield f"Compared after: {found.normalisation}."


def _images(measure: Measure) -> Iterable[Any]:
    frame = measure.images()
    columns = ["image", "kind", "annotated", "found", "misses", "false_positives"]
    worst = frame[(frame["misses"] > 0) | (frame["false_positives"] > 0)].head(20)
    header = ["image", "kind", "annotated", "found", "missed", "wrong"]
    yield rows_table("Images, the most missed first", header, worst[columns].to_numpy().tolist())


def _conventions(measure: Measure) -> Iterable[Any]:
    """Show how well boxes fit under other conventions: centre for corner, other units, turned."""
    from dotledger.core.questions.box_conventions import better_convention

    fits = measure.conventions()
    now = next(fit for fit in fits if fit.name == "as now")
    shown = fits[:6] if now in fits[:6] else [*fits[:6], now]
    rows = [
        (fit.name, f"{fit.changed:,}", number(fit.mean_overlap), number(fit.as_now))
        for fit in shown
    ]
    header = ("boxes read as", "boxes moved", "mean overlap", "as now")
    yield rows_table("Judged on the images whose boxes move", header, rows)
    better = better_convention(fits)
    if now.mean_overlap != now.mean_overlap:
        yield "Nothing to compare: no image of known size has both boxes and annotated boxes."
    elif better is None:
        yield f"No other convention fits clearly better than {number(now.mean_overlap)}."
    else:
        yield (
            f"Read as {better.name} the mean overlap is {number(better.mean_overlap)} on the "
            f"images whose boxes move; as now {number(better.as_now)}."
        )


PARTS: Mapping[str, Callable[[Measure], Iterable[Any]]] = {
    "reasons": _reasons,
    "confusion": _confusion,
    "slices": _slices,
    "reliability": _reliability,
    "counts": _counts,
    "screening": _screening,
    "details": _details,
    "text": _text,
    "images": _images,
    "points": _points,
    "conventions": _conventions,
}
"""What can be shown next to the measures, by name."""


def parts(measure: Measure, names: Iterable[str]) -> Group:
    """Return the parts asked for, one below the other.

    Parameters
    ----------
    names : iterable of str
        Parts, by `PARTS`.
    """
    shown: list[Any] = []
    for name in names:
        for part in PARTS[name](measure):
            shown += ["", part]
    return Group(*shown)


def comparison_table(measures: Mapping[str, Measure]) -> Sheet:
    """Return services side by side: recall and precision by label; fits 80 columns for two."""
    columns: list[tuple[Heading, bool]] = [("kind", False), ("label", False), ("annotated", True)]
    for name in measures:
        columns += [((f"{name}:", "recall"), True), ("precision", True)]
    table = empty_table("", columns)
    first = next(iter(measures.values()))
    for kind in first.kinds:
        for label in first.kinds[kind].rows:
            rows = [measure.kinds[kind].rows[label] for measure in measures.values()]
            table.add_row(kind, plain(label), str(rows[0].annotated), *_side_by_side(rows))
        pooled = [measure.kinds[kind].pooled for measure in measures.values()]
        table.add_row(
            kind, Text("all, pooled", "bold"), str(pooled[0].annotated), *_side_by_side(pooled)
        )
        table.add_row()
    return table


def _side_by_side(rows: Sequence[Row]) -> list[str]:
    return [cell for row in rows for cell in (number(row.recall), number(row.precision))]


def _count(value: int) -> str:
    return str(value) if value else DOT
