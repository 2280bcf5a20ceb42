"""What a page needs to judge at any threshold: columns, judged once.

A finding is paired by falling confidence, so that those below a threshold have no part in what
becomes of those above it: what is right at the required overlap does not depend on the threshold,
and counting is all that is left for the page to do. The pairing of greatest total overlap holds
for one threshold only, and has no such columns.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from dotledger.core.arrays import Ints
from dotledger.core.measurement.measure_result import Measure
from dotledger.core.pairing.measure_scope import Scope
from dotledger.core.pairing.pair_judging import Judged
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.findings_table import Findings
from dotledger.errors import ArgumentError
from dotledger.report.pictures.box_writing import BoxWriting

__all__ = ["STATES", "PageRun", "in_words", "page_run"]

STATES = ("right", "wrong", "ignored", "unjudged")
_RIGHT, _WRONG, _IGNORED, _UNJUDGED = range(4)


@dataclass(frozen=True, kw_only=True)
class PageRun:
    """One run, ready to be written into a page.

    Attributes
    ----------
    name : str
        Of the service or file.
    findings, annotations : dict of str to list
        Columns; see `page_run`.
    groups : list of dict
        By kind and label: what is annotated, and how many units there are.
    """

    name: str
    findings: dict[str, list[Any]]
    annotations: dict[str, list[Any]]
    groups: list[dict[str, Any]]

    def plain(self) -> dict[str, Any]:
        """Return everything, ready for JSON."""
        return vars(self)


def page_run(
    name: str,
    findings: Findings,
    images: Sequence[str],
    *,
    measured: Measure | None = None,
    annotations: Annotations | None = None,
    private: bool = False,
    writing: BoxWriting | None = None,
) -> PageRun:
    """Return the columns of one run.

    Parameters
    ----------
    findings : Findings
        All of them; where it is measured, the table that was.
    images : sequence of str
        Of the page; codes count into them. Findings on others are left out.
    annotations : Annotations, optional
        The table that it was measured against.
    private : bool, default False
        Leave out names of persons and lines of text.
    writing : BoxWriting, optional
        The text of each box; by default its label and confidence, or a person's name.

    Returns
    -------
    PageRun
        Findings: ``image, kind, label, confidence`` (None: asserted), ``box`` (None: none),
        ``state`` (into `STATES`), ``counts`` (1 for those that are counted: of several findings
        of one label in one image the most confident, where presence is judged), ``pair`` (its
        annotation, or -1), ``reason``, ``order`` (among those of its kind in the answer, from 1)
        ``more`` (attributes in words), ``text`` (what is written beside the box; empty for label
        and confidence), ``points`` and ``outline`` (empty for none). Annotations: ``image, kind,
        label, box, ignored, pair, reason`` and ``counts``.

    Raises
    ------
    ArgumentError
        If the pairing holds for one threshold only.
    """
    if measured is not None and measured.basis.pairing != "confidence":
        raise ArgumentError(
            "a report needs the pairing by confidence: the other holds for one threshold only",
            place="pairing",
            got=measured.basis.pairing,
            allowed=["confidence"],
        )
    table = findings if measured is None else measured.basis.findings
    marks = _Marks(table, annotations)
    groups: list[dict[str, Any]] = []
    if measured is not None:
        for kind, judged in measured.basis.judged.items():
            marks.judge(measured.basis.scopes[kind], judged)
            groups += _groups(kind, measured.basis.scopes[kind], judged)
        marks.give_reasons(measured)
    return PageRun(
        name=name,
        findings=_finding_columns(
            table, images, marks, private=private, writing=writing or BoxWriting()
        ),
        annotations={} if annotations is None else _annotation_columns(annotations, images, marks),
        groups=groups,
    )


class _Marks:
    """What happens to every row of both tables."""

    def __init__(self, findings: Findings, annotations: Annotations | None) -> None:
        number = len(findings)
        self.state = np.full(number, _UNJUDGED)
        self.counts = np.zeros(number, dtype=bool)
        self.pair = np.full(number, -1)
        self.reason: dict[int, str] = {}
        many = 0 if annotations is None else len(annotations)
        self.true_counts = np.zeros(many, dtype=bool)
        self.true_pair = np.full(many, -1)
        self.true_reason: dict[int, str] = {}

    def judge(self, scope: Scope, judged: Judged) -> None:
        state = np.where(judged.wrong(), _WRONG, _IGNORED)
        state[judged.hit] = _RIGHT
        if scope.boxed:
            rows = scope.findings.row
            self.state[rows], self.counts[rows] = state, True
            self.true_counts[scope.annotations.row[~scope.ignore]] = True
            self._pair(rows[judged.hit], scope.annotations.row[judged.annotation])
        else:
            self._judge_units(scope, judged, state)

    def _pair(self, findings: Ints, annotations: Ints) -> None:
        self.pair[findings] = annotations
        self.true_pair[annotations] = findings

    def _judge_units(self, scope: Scope, judged: Judged, state: Ints) -> None:
        """Judge presence: all findings of a unit share its state, the most confident counts."""
        labels = max(len(scope.labels), 1)
        unit = scope.findings.image * labels + scope.findings.label
        own = judged.findings.image * labels + judged.findings.label
        place = {int(key): row for row, key in enumerate(own)}
        best: dict[int, int] = {}
        # Of equal confidences the first counts, as in judging.
        for at in np.lexsort((-scope.confidence, unit)).tolist():
            row, key = int(scope.findings.row[at]), int(unit[at])
            self.state[row] = state[place[key]]
            if key not in best:
                best[key] = row
                self.counts[row] = True
        first: dict[int, int] = {}
        true = (scope.annotations.image * labels + scope.annotations.label).tolist()
        present = set((judged.findings.true_image * labels + judged.findings.true_label).tolist())
        for at, key in enumerate(true):
            if key in present and key not in first:
                row = int(scope.annotations.row[at])
                first[key] = row
                self.true_counts[row] = True
                if key in best:
                    self.pair[best[key]], self.true_pair[row] = row, best[key]

    def give_reasons(self, measured: Measure) -> None:
        why = measured.why()
        self.reason = {case.row: f"{case.reason}: {case.about}" for case in why.wrong}
        self.true_reason = {case.row: f"{case.reason}: {case.about}" for case in why.missed}


def _groups(kind: str, scope: Scope, judged: Judged) -> list[dict[str, Any]]:
    actual = judged.findings.actual.tolist()
    return [
        {"kind": kind, "label": label, "annotated": actual[place], "boxed": scope.boxed}
        for place, label in enumerate(scope.labels)
    ]


def _finding_columns(
    table: Findings,
    images: Sequence[str],
    marks: _Marks,
    *,
    private: bool,
    writing: BoxWriting,
) -> dict[str, list[Any]]:
    at = table.image.onto(images)
    rows = np.flatnonzero((at >= 0) & ~table.blank).tolist()
    image, kind, label = at.tolist(), table.kind.values().tolist(), table.label.values().tolist()
    boxes, confidence = table.box.tolist(), table.confidence.tolist()
    order: dict[tuple[int, str], int] = {}
    columns: dict[str, list[Any]] = {
        name: []
        for name in (
            *("row", "image", "kind", "label", "confidence", "box", "state", "counts"),
            *("pair", "reason", "order", "more", "text", "points", "outline"),
        )
    }
    for row in rows:
        key = (image[row], kind[row])
        order[key] = order.get(key, 0) + 1
        details = None if table.details is None else table.details[row]
        hidden = private and kind[row] in ("text", "caption")
        more = "" if details is None else in_words(details.attributes, private=private)
        values = (
            *(row, image[row], kind[row], "(hidden)" if hidden else label[row]),
            None if math.isnan(confidence[row]) else confidence[row],
            None if math.isnan(boxes[row][0]) else [round(side, 2) for side in boxes[row]],
            *(int(marks.state[row]), int(marks.counts[row]), int(marks.pair[row])),
            *("" if hidden else marks.reason.get(row, ""), order[key], more),
            "" if hidden else _written(writing, kind[row], label[row], confidence[row], details),
            [[round(x, 1), round(y, 1)] for x, y in (details.points if details else {}).values()],
            [[round(x, 1), round(y, 1)] for x, y in (details.polygon if details else ())],
        )
        for name, value in zip(columns, values, strict=True):
            columns[name].append(value)
    return columns


def _written(
    writing: BoxWriting, kind: str, label: str, confidence: float, details: Details | None
) -> str:
    """Return the text of a box; empty if it is just the label and its confidence."""
    text = writing.text(kind, label, confidence, details)
    usual = BoxWriting().with_confidence(label, confidence, None)
    return "" if text == usual else text


def in_words(attributes: Mapping[str, Any], *, private: bool = False) -> str:
    """Return attributes in words.

    Returns
    -------
    str
        Such as ``smiling: yes, eye distance: 23.8 pixels``.
    """
    parts = []
    for name, value in attributes.items():
        is_person = name == "name" or (isinstance(value, Mapping) and "name" in value)
        if is_person and private:
            continue
        parts.append(f"{name}: {_value(value)}")
    return ", ".join(parts)


def _shares(value: Mapping[str, Any]) -> str:
    """Return the leading part first: a line that is cut must not lose it."""
    if "list" in value:
        shares = value["shares"]
        return ", ".join(f"{name} {shares[name]:.2f}" for name in value["list"]) or "none"
    shares, leading = value["shares"], value.get("leading")
    first = f"{leading} {shares[leading]:.2f}" if leading in shares else str(leading)
    rest = sorted((n for n in shares if n != leading), key=lambda n: -shares[n])
    others = ", ".join(f"{name} {shares[name]:.2f}" for name in rest)
    return f"{first} (others: {others})" if others else first


def _of_parts(value: Mapping[str, Any]) -> str:
    """Return an attribute of several parts in words."""
    if "shares" in value:
        return _shares(value)
    if {"value", "unit"} <= value.keys():
        sure = f" ({_value(value['confidence'])})" if "confidence" in value else ""
        return f"{_value(value['value'])} {value['unit']}{sure}"
    if {"low", "high"} <= value.keys():
        unit = f" {value['unit']}" if value.get("unit") else ""
        return f"{value['low']:g} to {value['high']:g}{unit}"
    if "name" in value:
        alike = value.get("similarity")
        return f"{value['name'] or 'nobody'}{'' if alike is None else f' (similarity {alike:.2f})'}"
    return " ".join(f"{name} {_value(one)}" for name, one in value.items())


def _value(value: Any) -> str:
    if isinstance(value, Mapping):
        return _of_parts(value)
    if isinstance(value, list | tuple):
        return ", ".join(map(_value, value)) or "none"
    if isinstance(value, bool):
        return "yes" if value else "no"
    return f"{value:.3g}" if isinstance(value, float) else str(value)


def _annotation_columns(
    table: Annotations, images: Sequence[str], marks: _Marks
) -> dict[str, list[Any]]:
    at = table.image.onto(images)
    rows = np.flatnonzero((at >= 0) & ~table.blank).tolist()
    image, kind, label = at.tolist(), table.kind.values().tolist(), table.label.values().tolist()
    boxes = table.box.tolist()
    return {
        "row": rows,
        "image": [image[row] for row in rows],
        "kind": [kind[row] for row in rows],
        "label": [label[row] for row in rows],
        "box": [
            None if math.isnan(boxes[row][0]) else [round(side, 2) for side in boxes[row]]
            for row in rows
        ],
        "ignored": [int(table.ignore[row]) for row in rows],
        "counts": [int(marks.true_counts[row]) for row in rows],
        "pair": [int(marks.true_pair[row]) for row in rows],
        "reason": [marks.true_reason.get(row, "") for row in rows],
    }
