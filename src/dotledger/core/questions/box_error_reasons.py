"""Why a box is wrong, why an annotated one is missed: from what overlaps with what."""

from __future__ import annotations

import math
from collections.abc import Sequence
from enum import IntEnum
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from dotledger.core.arrays import Ints
from dotledger.core.pairing.label_hierarchy import BROAD, NARROW
from dotledger.core.pairing.overlapping_pairs import Edges, edges_of, visiting_order
from dotledger.core.questions.error_reasons import (
    BELOW,
    BOTH_OFF,
    BROADER,
    CROWDED,
    CUTS,
    MISNAMED,
    NARROWER,
    NO_ANSWER,
    NOTHING,
    SEVERAL,
    SHIFTED,
    SMALL,
    SPILLS,
    TWICE,
    TWICE_OFF,
    UNANSWERED,
    UNSEEN,
    Case,
    Reasons,
)
from dotledger.core.questions.image_properties import area_shares, crowding_of

if TYPE_CHECKING:
    from dotledger.core.pairing.measure_scope import Side
    from dotledger.core.questions.question_basis import Basis

from dotledger.core.arrays import Floats

__all__ = ["BoxReasons"]


# One fault must be three times the other to name it; a box 0.1 or more over an object is meant
# for it. Below, a name would be a guess.
_LOPSIDED = 3.0
_HELD = 0.5
_TOUCH = 1e-9


class _Tells(IntEnum):
    """What an edge between a finding and an annotation tells, the most telling first."""

    TWICE = 0
    BROADER = 1
    NARROWER = 2
    MISNAMED = 3
    OFF = 4
    BOTH_OFF = 5


_NAMED = {_Tells.BROADER: BROADER, _Tells.NARROWER: NARROWER, _Tells.MISNAMED: MISNAMED}
_NO_ANSWER = "the image has no answer for this kind"


def _area(box: Sequence[float]) -> float:
    area = (box[2] - box[0]) * (box[3] - box[1])
    return 0.0 if math.isnan(area) else area


def _areas(box: Floats) -> Floats:
    areas: Floats = (box[:, 2] - box[:, 0]) * (box[:, 3] - box[:, 1])
    return areas


class BoxReasons(Reasons):
    """Reasons for a kind with boxes, from what overlaps with what, whatever the label."""

    def __init__(self, basis: Basis, kind: str, near: float, small: float) -> None:
        super().__init__(basis, kind)
        self._near = min(near, self.required)
        self._small = small
        scope = self.scope
        outside = scope.unjudged
        outside = outside[self.cut.passes(self.findings, outside)]
        outside = outside[~np.isnan(self.findings.box[outside, 0])]
        wrong = self.judged.wrong() & self.passes
        self._wrong = np.flatnonzero(wrong)
        self._rows = np.concatenate([scope.findings.row[self._wrong], outside])
        boxes = self.findings.box[self._rows]
        images = self.findings.image.take(self._rows).onto(scope.images)
        annotations = scope.annotations.by_image()
        edges = edges_of(
            type(annotations)(group=images, box=boxes),
            annotations,
            visiting_order(annotations),
            _TOUCH,
        )
        edges = edges.take(~scope.ignore[edges.annotation])
        self._edges = edges.take(edges.overlap >= self._near)
        self._label = self.findings.label.codes[self._rows]
        onto = np.array([scope.labels.index(n) if n in scope.labels else -1 for n in self.names])
        same = (
            onto[self._label[self._edges.finding]]
            == scope.annotations.label[self._edges.annotation]
        )
        self._same: NDArray[np.bool_] = same
        self._exact = self._edges.overlap >= self.required
        self._found = np.zeros(len(scope.annotations), dtype=bool)
        self._found[self.judged.annotation[self.passes[self.judged.hit]]] = True
        self._over = self._one_over_several(edges, onto)

    def _one_over_several(self, edges: Edges, onto: Ints) -> dict[int, list[int]]:
        """Return the annotations under each wrong box that holds several of its label."""
        found, annotations = edges.finding, edges.annotation
        label = self.scope.annotations.label
        box, true = self.findings.box[self._rows], self.scope.annotations.box
        held = edges.inside * (_areas(box)[found] / _areas(true)[annotations]) >= _HELD
        mine = held & (onto[self._label[found]] == label[annotations])
        under: dict[int, list[int]] = {}
        for place, one in zip(found[mine].tolist(), annotations[mine].tolist(), strict=True):
            under.setdefault(place, []).append(one)
        return {place: several for place, several in under.items() if len(several) > 1}

    def wrong(self) -> list[Case]:
        """Return a case for each false positive."""
        best = self._best(self._edges.finding, len(self._rows))
        findings = self.scope.findings
        return [
            self._wrong_case(findings, place, int(row), best[place])
            for place, row in enumerate(self._wrong)
        ]

    def _best(self, group: Ints, count: int) -> list[tuple[int, int]]:
        """Return for each finding or annotation its most telling edge; equal ones by content."""
        annotations = self.scope.annotations
        confidence = np.nan_to_num(self.findings.confidence[self._rows], nan=2.0)
        names = np.argsort(np.argsort(np.array(self.names, dtype=object), kind="stable"))
        ranks = (
            _ranks(self.findings.box[self._rows], names[self._label], -confidence),
            _ranks(annotations.box, annotations.label),
        )
        return _best_of(self._edges, group, self._classes(), count, ranks)

    def _classes(self) -> Ints:
        """Return what each edge tells, the most telling lowest."""
        found, annotations = self._edges.finding, self._edges.annotation
        relation = self.relation[self._label[found], self.scope.annotations.label[annotations]]
        tells = np.where(self._exact, _Tells.MISNAMED, _Tells.BOTH_OFF)
        tells[self._exact & (relation == NARROW)] = _Tells.NARROWER
        tells[self._exact & (relation == BROAD)] = _Tells.BROADER
        tells[self._same] = np.where(self._exact, _Tells.TWICE, _Tells.OFF)[self._same]
        return tells

    def _wrong_reason(self, place: int, tells: int, edge: int) -> str:
        if place in self._over and tells >= _Tells.OFF:
            return SEVERAL
        if tells == _Tells.OFF:
            taken = self._found[self._edges.annotation[edge]]
            return TWICE_OFF if taken else self._fault(edge)
        return {**_NAMED, _Tells.TWICE: TWICE, _Tells.BOTH_OFF: BOTH_OFF}[_Tells(tells)]

    def _wrong_case(self, findings: Side, place: int, row: int, best: tuple[int, int]) -> Case:
        tells, edge = best
        confidence = float(self.scope.confidence[row])
        own = self.scope.labels[findings.label[row]]
        if edge < 0 and place in self._over:
            text = f"the box holds {len(self._over[place])} of {own}, each far smaller"
            return self.case(findings, row, SEVERAL, text, confidence=confidence, other=own)
        if edge < 0:
            return self.case(
                findings, row, NOTHING, "nothing is annotated there", confidence=confidence
            )
        true = self.scope.labels[self.scope.annotations.label[self._edges.annotation[edge]]]
        overlap = float(self._edges.overlap[edge])
        reason = self._wrong_reason(place, tells, edge)
        about = {
            TWICE: f"the {true} is already found by a more confident finding; merging helps",
            TWICE_OFF: f"the {true} is already found, and this box is off",
            SEVERAL: f"one box over {len(self._over.get(place, ()))} of {own}",
            BROADER: f"the annotation says {true}, more exactly",
            NARROWER: f"the annotation says only {true}",
            MISNAMED: f"is annotated as {true}",
            SPILLS: f"the box spills over the {true}",
            CUTS: f"the box cuts off part of the {true}",
            SHIFTED: f"the box lies next to the {true}",
            BOTH_OFF: f"no {own} there; the nearest is a {true}",
        }[reason]
        return self.case(
            findings, row, reason, f"{about} (overlap {self._shown(overlap)})",
            confidence=confidence, other=true, overlap=overlap,
        )  # fmt: skip

    def _shown(self, overlap: float) -> str:
        """Return an overlap for people; never rounded up to the required one."""
        text = f"{overlap:.2f}"
        return f"{overlap:.4f}" if overlap < self.required <= float(text) else text

    def _fault(self, edge: int) -> str:
        box = self.findings.box[self._rows[self._edges.finding[edge]]]
        true = self.scope.annotations.box[self._edges.annotation[edge]]
        shared = self._edges.inside[edge] * _area(box)
        spills, cuts = 1 - shared / _area(box), 1 - shared / _area(true)
        if spills >= _LOPSIDED * cuts:
            return SPILLS
        return CUTS if cuts >= _LOPSIDED * spills else SHIFTED

    def missed(self) -> list[Case]:
        """Return a case for each miss."""
        scope = self.scope
        keep = self.passes[self.judged.hit]
        below = dict(
            zip(self.judged.annotation[~keep].tolist(), np.flatnonzero(~keep).tolist(), strict=True)
        )
        best = self._best(self._edges.annotation, len(scope.annotations))
        crowding = crowding_of(scope.annotations)
        shares = area_shares(self.annotations, scope, scope.annotations)
        self._under = {one: place for place in sorted(self._over) for one in self._over[place]}
        sides = self._sides_as_sent()
        return [
            self._missed_case(place, below.get(place, -1), best[place], crowding, shares, sides)
            for place in np.flatnonzero(~self._found & ~scope.ignore).tolist()
        ]

    def _sides_as_sent(self) -> Floats:
        """Return the shorter side of each annotated box in pixels of what was sent.

        What is not known to be shrunk is taken as sent in full: no image is ever enlarged.
        """
        annotations = self.scope.annotations
        factor = np.ones(len(self.scope.images))
        for place, name in enumerate(self.scope.images):
            facts = self.annotations.images.get(name, {})
            if facts.get("width") and facts.get("sent_width"):
                factor[place] = facts["sent_width"] / facts["width"]
        sides = (annotations.box[:, 2:] - annotations.box[:, :2]).min(axis=1)
        return sides * factor[annotations.image]

    def _too_small(self, share: float, side: float) -> str:
        """Return in words why a box is too small to be found; empty if it is not."""
        origin = self.findings.origin
        least = origin.smallest_face if origin and self.kind == "face" else None
        if least is not None and side < least:
            return f"{side:.0f} pixels as sent, and the service's smallest face has {least:g}"
        return f"{100 * share:.2g} % of the image's area" if share < self._small else ""

    def _missed_case(
        self,
        place: int,
        below: int,
        best: tuple[int, int],
        crowding: Floats,
        shares: Floats,
        sides: Floats,
    ) -> Case:
        annotations = self.scope.annotations
        if not self.scope.answered[annotations.image[place]]:
            return self.case(annotations, place, UNANSWERED, NO_ANSWER)
        if below >= 0:
            confidence = float(self.scope.confidence[self.judged.hit[below]])
            return self.case(
                annotations, place, BELOW, f"found, but below the threshold (at {confidence:.2f})",
                confidence=confidence, overlap=float(self.judged.overlap[below]),
            )  # fmt: skip
        tells, edge = best
        if place in self._under and (edge < 0 or tells >= _Tells.OFF):
            return self._under_one(place)
        if edge >= 0 and tells != _Tells.TWICE:
            return self._explained(place, tells, edge)
        return self._unseen(place, crowding, shares, sides)

    def _under_one(self, place: int) -> Case:
        over = self._under[place]
        confidence = float(self.findings.confidence[self._rows[over]])
        text = f"one box lies over {len(self._over[over])} of them"
        confidence = math.inf if math.isnan(confidence) else confidence
        return self.case(self.scope.annotations, place, SEVERAL, text, confidence=confidence)

    def _unseen(self, place: int, crowding: Floats, shares: Floats, sides: Floats) -> Case:
        annotations = self.scope.annotations
        if text := self._too_small(float(shares[place]), float(sides[place])):
            return self.case(annotations, place, SMALL, text)
        if crowding[place] >= self._near:
            text = f"overlaps a neighbour by {crowding[place]:.2f}"
            return self.case(annotations, place, CROWDED, text)
        return self.case(annotations, place, UNSEEN, "nothing was found there")

    def _explained(self, place: int, tells: int, edge: int) -> Case:
        row = self._rows[self._edges.finding[edge]]
        name = self.names[self._label[self._edges.finding[edge]]]
        overlap = float(self._edges.overlap[edge])
        confidence = float(self.findings.confidence[row])
        reason = {**_NAMED, _Tells.OFF: self._fault(edge), _Tells.BOTH_OFF: BOTH_OFF}[_Tells(tells)]
        about = {
            BROADER: f"found only as {name}",
            NARROWER: f"found as {name}",
            MISNAMED: f"found as {name}",
            SPILLS: "found, but the box spills over it",
            CUTS: "found, but the box cuts part of it off",
            SHIFTED: "found, but the box lies next to it",
            BOTH_OFF: f"only a {name} was found nearby",
        }[reason]
        return self.case(
            self.scope.annotations, place, reason, f"{about} (overlap {self._shown(overlap)})",
            confidence=math.inf if math.isnan(confidence) else confidence,
            other=name, overlap=overlap,
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
