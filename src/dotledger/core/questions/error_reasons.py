"""The reasons themselves: one for every false positive and every miss.

Reasons are tried in the order of `WRONG` and `MISSED`; the first that holds is given. A box is
judged by the spoken rule "the entire object and only the object": what it *spills* is the share
of the box outside the object, what it *cuts off* the share of the object outside the box. If one
is at least three times the other it names the fault, otherwise the box is shifted. A box that holds
at least half of each of several objects of its label is none of these: it is one over several.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from dotledger.core.measures.measure_rows import defined
from dotledger.core.pairing.label_hierarchy import lineage, relation_table

if TYPE_CHECKING:
    from dotledger.core.pairing.measure_scope import Scope, Side
    from dotledger.core.questions.question_basis import Basis

__all__ = ["MISSED", "WRONG", "Case", "Reasons"]

TWICE, TWICE_OFF, BELOW = "seen twice", "seen twice, box off", "below the threshold"
SEVERAL = "one box over several"
BROADER, NARROWER, MISNAMED = "label too broad", "label too narrow", "another label"
SPILLS, CUTS, SHIFTED = "box spills over", "box cuts part off", "box shifted"
BOTH_OFF, NOTHING = "another label, box off", "nothing there"
SMALL, CROWDED, UNSEEN = "too small", "crowded", "not seen"
UNANSWERED = "no answer"

WRONG = (
    *(TWICE, BROADER, NARROWER, MISNAMED, SEVERAL, TWICE_OFF, SPILLS, CUTS, SHIFTED),
    *(BOTH_OFF, NOTHING),
)
MISSED = (
    *(UNANSWERED, BELOW, BROADER, NARROWER, MISNAMED, SEVERAL, SPILLS, CUTS, SHIFTED),
    *(BOTH_OFF, SMALL, CROWDED, UNSEEN),
)
NO_ANSWER = "the image has no answer for this kind"


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
        confidence = None if math.isinf(self.confidence) else defined(self.confidence)
        box = None if math.isnan(self.box[0]) else list(self.box)
        return {
            **vars(self),
            "confidence": confidence,
            "overlap": defined(self.overlap),
            "box": box,
        }


class Reasons:
    """What the diagnosis of any kind needs."""

    def __init__(self, basis: Basis, kind: str) -> None:
        self.kind = kind
        self.scope: Scope = basis.scopes[kind]
        self.judged = basis.judged[kind]
        self.passes = basis.passing(kind)
        self.findings = basis.findings
        self.annotations = basis.annotations
        self.required = round(basis.overlaps[0], 9)
        self.cut = basis.cuts[0]
        names = self.findings.label.names
        above = lineage(self.findings, basis.broader)
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
