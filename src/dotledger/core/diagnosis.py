"""Why wrong, why missed: one reason for every false positive and every miss.

Reasons are tried in the order of `WRONG` and `MISSED`; the first that holds is given. A box is
judged by the spoken rule "the entire object and only the object": what it *spills* is the share
of the box outside the object, what it *cuts off* the share of the object outside the box. If one
is at least three times the other it names the fault, otherwise the box is shifted.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from dotledger.core.matching import Edges, Ints, edges_of, visiting_order
from dotledger.core.properties import area_shares, crowding_of
from dotledger.core.relatives import BROAD, NARROW, lineage, relation_table
from dotledger.core.results import defined

if TYPE_CHECKING:
    import pandas as pd

    from dotledger.core.comparison import Measure
    from dotledger.core.scope import Scope, Side

__all__ = ["MISSED", "WRONG", "Case", "Diagnosis", "diagnose"]

Floats = NDArray[np.float64]

TWICE, BELOW = "seen twice", "below the threshold"
BROADER, NARROWER, MISNAMED = "label too broad", "label too narrow", "another label"
SPILLS, CUTS, SHIFTED = "box spills over", "box cuts part off", "box shifted"
BOTH_OFF, NOTHING = "another label, box off", "nothing there"
SMALL, CROWDED, UNSEEN = "too small", "crowded", "not seen"
UNANSWERED = "no answer"

WRONG = (TWICE, BROADER, NARROWER, MISNAMED, SPILLS, CUTS, SHIFTED, BOTH_OFF, NOTHING)
MISSED = (
    *(UNANSWERED, BELOW, BROADER, NARROWER, MISNAMED, SPILLS, CUTS, SHIFTED),
    *(BOTH_OFF, SMALL, CROWDED, UNSEEN),
)
_LOPSIDED = 3.0
_NO_ANSWER = "the image has no answer for this kind"


@dataclass(frozen=True, kw_only=True)
class Case:
    """One wrong finding or one missed annotation, with its reason.

    Attributes
    ----------
    image, kind, label : str
        Of the finding or annotation.
    reason : str
        One of `WRONG` or `MISSED`.
    about : str
        The reason in words.
    confidence : float
        Of the finding; for a miss of the finding that explains it. NaN if there is none, infinite
        where the service simply asserts.
    other : str
        The label on the other side, if the reason has one.
    overlap : float
        With the other side; NaN if there is none.
    row : int
        In the table of findings, or of annotations.
    box : tuple of float
        NaN where there is none.
    """

    image: str
    kind: str
    label: str
    reason: str
    about: str
    confidence: float
    other: str
    overlap: float
    row: int
    box: tuple[float, ...]

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        sure = None if math.isinf(self.confidence) else defined(self.confidence)
        box = None if math.isnan(self.box[0]) else list(self.box)
        return {**vars(self), "confidence": sure, "overlap": defined(self.overlap), "box": box}


@dataclass(frozen=True, kw_only=True)
class Diagnosis:
    """Every wrong finding and every miss, each with its reason.

    Attributes
    ----------
    wrong : tuple of Case
        The most confident first.
    missed : tuple of Case
        The largest first; without boxes by image and label.
    """

    wrong: Sequence[Case] = field(repr=False)
    missed: Sequence[Case] = field(repr=False)

    def shares(self) -> pd.DataFrame:
        """Return counts by side, reason, kind and label, with the share of the side's total."""
        import pandas as pd

        rows = [
            {"side": side, "reason": reason, "kind": kind, "label": label, "count": count,
             "share": count / len(cases)}
            for side, cases in (("wrong", self.wrong), ("missed", self.missed))
            for (reason, kind, label), count in _sorted_counts(cases)
        ]  # fmt: skip
        columns = ["side", "reason", "kind", "label", "count", "share"]
        return pd.DataFrame(rows, columns=columns)

    def totals(self, side: str) -> dict[str, tuple[int, float]]:
        """Return count and share by reason, the most frequent first.

        Parameters
        ----------
        side : {"wrong", "missed"}
            Which side.
        """
        cases = self.wrong if side == "wrong" else self.missed
        counts = Counter(case.reason for case in cases)
        return {reason: (n, n / len(cases)) for reason, n in counts.most_common()}

    def frame(self, side: str) -> pd.DataFrame:
        """Return the cases of one side as a pandas frame, in their order."""
        import pandas as pd

        cases = self.wrong if side == "wrong" else self.missed
        names = list(Case.__dataclass_fields__)
        frame = pd.DataFrame([vars(case) for case in cases], columns=names)
        corners = pd.DataFrame(frame.pop("box").tolist(), columns=["x0", "y0", "x1", "y1"])
        return frame.join(corners)

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        return {
            "shares": {
                side: {
                    reason: {"count": n, "share": share}
                    for reason, (n, share) in self.totals(side).items()
                }
                for side in ("wrong", "missed")
            },
            "by_label": self.shares().to_dict("records"),
            "wrong": [case.to_dict() for case in self.wrong],
            "missed": [case.to_dict() for case in self.missed],
        }


def _sorted_counts(cases: Sequence[Case]) -> list[tuple[tuple[str, str, str], int]]:
    counts = Counter((case.reason, case.kind, case.label) for case in cases)
    return sorted(counts.items(), key=lambda entry: (-entry[1], entry[0]))


def diagnose(measure: Measure, *, near: float = 0.1, small: float = 0.001) -> Diagnosis:
    """Give each wrong finding and each miss its reason, at the first overlap and threshold.

    Parameters
    ----------
    measure : Measure
        As `measure` returns it.
    near : float
        The least overlap at which a box counts as meant for an annotation.
    small : float
        Annotated boxes below this share of the image's area are too small; only where the
        annotations know the image's width and height.
    """
    parts = [
        _Boxes(measure, kind, near, small) if scope.boxed else _Presence(measure, kind)
        for kind, scope in measure.comparison.scopes.items()
    ]
    wrong = [case for part in parts for case in part.wrong()]
    missed = [case for part in parts for case in part.missed()]
    return Diagnosis(
        wrong=sorted(wrong, key=lambda c: (-c.confidence, c.image, c.label, c.box)),
        missed=sorted(missed, key=lambda c: (-_area(c.box), c.image, c.label, c.box)),
    )


def _area(box: Sequence[float]) -> float:
    area = (box[2] - box[0]) * (box[3] - box[1])
    return 0.0 if math.isnan(area) else area


class _Side:
    """What the diagnosis of any kind needs."""

    def __init__(self, measure: Measure, kind: str) -> None:
        comparison = measure.comparison
        self.kind = kind
        self.scope: Scope = comparison.scopes[kind]
        self.judged = measure.judged[kind]
        self.passes = measure.passing(kind)
        self.findings = comparison.findings
        self.annotations = comparison.annotations
        self.required = round(comparison.overlaps[0], 9)
        self.cut = comparison.cuts[0]
        names = self.findings.label.names
        above = lineage(self.findings, comparison.broader)
        self.relation = relation_table(names, self.scope.labels, above)
        self.names = names

    def case(self, side: Side, place: int, reason: str, about: str, **more: Any) -> Case:
        """Return the case of one row of a side."""
        values = {"confidence": math.nan, "other": "", "overlap": math.nan, **more}
        return Case(
            image=self.scope.images[side.image[place]],
            kind=self.kind,
            label=self.scope.labels[side.label[place]],
            reason=reason,
            about=about,
            row=int(side.row[place]),
            box=tuple(side.box[place].tolist()),
            **values,
        )


class _Boxes(_Side):
    """Reasons for a kind with boxes, from what overlaps with what, whatever the label."""

    def __init__(self, measure: Measure, kind: str, near: float, small: float) -> None:
        super().__init__(measure, kind)
        self._near = min(near, self.required)
        self._small = small
        scope = self.scope
        outside = scope.unjudged
        outside = outside[self.cut.passes(self.findings.take(outside))]
        outside = outside[~np.isnan(self.findings.box[outside, 0])]
        wrong = self.judged.wrong() & self.passes
        self._wrong = np.flatnonzero(wrong)
        self._rows = np.concatenate([scope.said.row[self._wrong], outside])
        boxes = self.findings.box[self._rows]
        images = self.findings.image.take(self._rows).onto(scope.images)
        truth = scope.truth.by_image()
        edges = edges_of(
            type(truth)(group=images, box=boxes), truth, visiting_order(truth), self._near
        )
        self._edges = edges.take((edges.overlap >= self._near) & ~scope.ignore[edges.annotation])
        self._said = self.findings.label.codes[self._rows]
        onto = np.array([scope.labels.index(n) if n in scope.labels else -1 for n in self.names])
        same = onto[self._said[self._edges.finding]] == scope.truth.label[self._edges.annotation]
        self._same: NDArray[np.bool_] = same
        self._exact = self._edges.overlap >= self.required

    def wrong(self) -> list[Case]:
        """Return a case for each false positive."""
        best = self._best(self._edges.finding, len(self._rows))
        said = self.scope.said
        return [
            self._wrong_case(said, int(row), best[place]) for place, row in enumerate(self._wrong)
        ]

    def _best(self, group: Ints, count: int) -> list[tuple[int, int]]:
        """Return for each finding or annotation its most telling edge; equal ones by content."""
        truth = self.scope.truth
        sure = np.nan_to_num(self.findings.confidence[self._rows], nan=2.0)
        names = np.argsort(np.argsort(np.array(self.names, dtype=object), kind="stable"))
        ranks = (
            _ranks(self.findings.box[self._rows], names[self._said], -sure),
            _ranks(truth.box, truth.label),
        )
        return _best_of(self._edges, group, self._classes(), count, ranks)

    def _classes(self) -> Ints:
        """Return what each edge tells, the most telling lowest."""
        found, truth = self._edges.finding, self._edges.annotation
        relation = self.relation[self._said[found], self.scope.truth.label[truth]]
        tells = np.where(self._exact, 3, 5)
        tells[self._exact & (relation == NARROW)] = 2
        tells[self._exact & (relation == BROAD)] = 1
        tells[self._same] = np.where(self._exact, 0, 4)[self._same]
        return tells

    def _wrong_case(self, said: Side, row: int, best: tuple[int, int]) -> Case:
        tells, edge = best
        sure = float(self.scope.confidence[row])
        if edge < 0:
            return self.case(said, row, NOTHING, "nothing is annotated there", confidence=sure)
        true = self.scope.labels[self.scope.truth.label[self._edges.annotation[edge]]]
        overlap = float(self._edges.overlap[edge])
        own = self.scope.labels[said.label[row]]
        reason = (TWICE, BROADER, NARROWER, MISNAMED, self._fault(edge), BOTH_OFF)[tells]
        about = {
            TWICE: f"the {true} is already found by a more confident finding",
            BROADER: f"the annotation says {true}, more exactly",
            NARROWER: f"the annotation says only {true}",
            MISNAMED: f"is annotated as {true}",
            SPILLS: f"the box spills over the {true}",
            CUTS: f"the box cuts off part of the {true}",
            SHIFTED: f"the box lies beside the {true}",
            BOTH_OFF: f"no {own} there; the nearest is a {true}",
        }[reason]
        return self.case(
            said, row, reason, f"{about} (overlap {self._shown(overlap)})",
            confidence=sure, other=true, overlap=overlap,
        )  # fmt: skip

    def _shown(self, overlap: float) -> str:
        """Return an overlap for people; never rounded up to the required one."""
        text = f"{overlap:.2f}"
        return f"{overlap:.4f}" if overlap < self.required <= float(text) else text

    def _fault(self, edge: int) -> str:
        box = self.findings.box[self._rows[self._edges.finding[edge]]]
        true = self.scope.truth.box[self._edges.annotation[edge]]
        shared = self._edges.inside[edge] * _area(box)
        spills, cuts = 1 - shared / _area(box), 1 - shared / _area(true)
        if spills >= _LOPSIDED * cuts:
            return SPILLS
        return CUTS if cuts >= _LOPSIDED * spills else SHIFTED

    def missed(self) -> list[Case]:
        """Return a case for each miss."""
        scope = self.scope
        found = np.zeros(len(scope.truth), dtype=bool)
        keep = self.passes[self.judged.hit]
        found[self.judged.truth[keep]] = True
        below = dict(
            zip(self.judged.truth[~keep].tolist(), np.flatnonzero(~keep).tolist(), strict=True)
        )
        best = self._best(self._edges.annotation, len(scope.truth))
        crowding = crowding_of(scope.truth)
        shares = area_shares(self.annotations, scope, scope.truth)
        return [
            self._missed_case(place, below.get(place, -1), best[place], crowding, shares)
            for place in np.flatnonzero(~found & ~scope.ignore).tolist()
        ]

    def _missed_case(
        self, place: int, below: int, best: tuple[int, int], crowding: Floats, shares: Floats
    ) -> Case:
        truth = self.scope.truth
        if not self.scope.answered[truth.image[place]]:
            return self.case(truth, place, UNANSWERED, _NO_ANSWER)
        if below >= 0:
            sure = float(self.scope.confidence[self.judged.hit[below]])
            return self.case(
                truth, place, BELOW, f"found, but below the threshold (at {sure:.2f})",
                confidence=sure, overlap=float(self.judged.overlap[below]),
            )  # fmt: skip
        tells, edge = best
        if edge >= 0 and tells != 0:
            return self._explained(place, tells, edge)
        if shares[place] < self._small:
            text = f"{100 * shares[place]:.2g} % of the image's area"
            return self.case(truth, place, SMALL, text)
        if crowding[place] >= self._near:
            text = f"overlaps a neighbour by {crowding[place]:.2f}"
            return self.case(truth, place, CROWDED, text)
        return self.case(truth, place, UNSEEN, "nothing was found there")

    def _explained(self, place: int, tells: int, edge: int) -> Case:
        row = self._rows[self._edges.finding[edge]]
        said = self.names[self._said[self._edges.finding[edge]]]
        overlap = float(self._edges.overlap[edge])
        sure = float(self.findings.confidence[row])
        reason = (TWICE, BROADER, NARROWER, MISNAMED, self._fault(edge), BOTH_OFF)[tells]
        about = {
            BROADER: f"found only as {said}",
            NARROWER: f"found as {said}",
            MISNAMED: f"found as {said}",
            SPILLS: "found, but the box spills over it",
            CUTS: "found, but the box cuts part of it off",
            SHIFTED: "found, but the box lies beside it",
            BOTH_OFF: f"only a {said} was found nearby",
        }[reason]
        return self.case(
            self.scope.truth, place, reason, f"{about} (overlap {self._shown(overlap)})",
            confidence=math.inf if math.isnan(sure) else sure, other=said, overlap=overlap,
        )  # fmt: skip


def _ranks(box: Floats, *columns: NDArray[Any]) -> Ints:
    """Return each row's place by the columns from the last to the first, then by box."""
    rank = np.empty(len(box), dtype=np.intp)
    rank[np.lexsort((*box.T[::-1], *columns))] = np.arange(len(box))
    return rank


def _best_of(
    edges: Edges, group: Ints, tells: Ints, count: int, ranks: tuple[Ints, Ints]
) -> list[tuple[int, int]]:
    """Return for each group its most telling edge: (what it tells, edge), or (0, -1) for none."""
    result = [(0, -1)] * count
    content = (ranks[1][edges.annotation], ranks[0][edges.finding])
    order = np.lexsort((*content, -edges.overlap, tells, group))
    first = order[np.flatnonzero(np.diff(group[order], prepend=-1))]
    for edge in first.tolist():
        result[group[edge]] = (int(tells[edge]), edge)
    return result


class _Presence(_Side):
    """Reasons for a kind judged by presence."""

    def __init__(self, measure: Measure, kind: str) -> None:
        super().__init__(measure, kind)
        scope = self.scope
        surest = np.argsort(-scope.confidence, kind="stable")
        self._said_row = _first_rows(scope.said.take(surest))
        self._truth_row = _first_rows(scope.truth)

    def wrong(self) -> list[Case]:
        """Return a case for each unit said that is not annotated."""
        said = self.judged.said
        rows = np.flatnonzero(self.judged.wrong() & self.passes)
        present = _by_image(said.true_image, said.true_label)
        return [
            self._wrong_case(
                int(said.image[r]), int(said.label[r]), float(said.confidence[r]), present
            )
            for r in rows
        ]

    def _unit(
        self,
        image: int,
        label: int,
        reason: str,
        about: str,
        confidence: float,
        row: int,
        other: str,
    ) -> Case:
        return Case(
            image=self.scope.images[image],
            kind=self.kind,
            label=self.scope.labels[label],
            reason=reason,
            about=about,
            confidence=confidence,
            other=other,
            overlap=math.nan,
            row=row,
            box=(math.nan,) * 4,
        )

    def _wrong_case(
        self, image: int, label: int, sure: float, present: dict[int, list[int]]
    ) -> Case:
        scope = self.scope
        name = scope.labels[label]
        row = self._said_row[image, label]
        mine = self.names.index(name)
        for relation, reason, about in (
            (BROAD, BROADER, "the annotation says {}, more exactly"),
            (NARROW, NARROWER, "the annotation says only {}"),
        ):
            for true in present.get(image, []):
                if self.relation[mine, true] == relation:
                    text = about.format(scope.labels[true])
                    return self._unit(image, label, reason, text, sure, row, scope.labels[true])
        return self._unit(image, label, NOTHING, "not annotated in this image", sure, row, "")

    def missed(self) -> list[Case]:
        """Return a case for each unit annotated that was not said."""
        said = self.judged.said
        hits = self.judged.hit
        found = dict(
            zip(
                zip(said.image[hits].tolist(), said.label[hits].tolist(), strict=True),
                hits.tolist(),
                strict=True,
            )
        )
        passing = np.flatnonzero(self.cut.passes(self.findings))
        rows = passing[(self.findings.kind.onto([self.kind])[passing] == 0)]
        images = self.findings.image.onto(self.scope.images)
        said_there = _by_image(images[rows], self.findings.label.codes[rows])
        units = zip(said.true_image.tolist(), said.true_label.tolist(), strict=True)
        return [
            self._missed_case(image, label, found.get((image, label), -1), said_there)
            for image, label in units
            if not ((image, label) in found and self.passes[found[image, label]])
        ]

    def _missed_case(
        self, image: int, label: int, below: int, said_there: dict[int, list[int]]
    ) -> Case:
        row = self._truth_row[image, label]
        if not self.scope.answered[image]:
            return self._unit(image, label, UNANSWERED, _NO_ANSWER, math.nan, row, "")
        if below >= 0:
            sure = float(self.judged.said.confidence[below])
            text = f"found, but below the threshold (at {sure:.2f})"
            return self._unit(image, label, BELOW, text, sure, row, "")
        for relation, reason in ((BROAD, BROADER), (NARROW, NARROWER)):
            for code in said_there.get(image, []):
                if self.relation[code, label] == relation:
                    name = self.names[code]
                    text = f"found as {name}"
                    return self._unit(image, label, reason, text, math.nan, row, name)
        return self._unit(image, label, UNSEEN, "not found in this image", math.nan, row, "")


def _first_rows(side: Side) -> dict[tuple[int, int], int]:
    """Return the first row of each pair of image and label."""
    rows: dict[tuple[int, int], int] = {}
    for image, label, row in zip(
        side.image.tolist(), side.label.tolist(), side.row.tolist(), strict=True
    ):
        rows.setdefault((image, label), row)
    return rows


def _by_image(images: Ints, values: Ints) -> dict[int, list[int]]:
    """Return values by image, sorted."""
    found: dict[int, list[int]] = {}
    for image, value in sorted(zip(images.tolist(), values.tolist(), strict=True)):
        found.setdefault(image, []).append(value)
    return found
