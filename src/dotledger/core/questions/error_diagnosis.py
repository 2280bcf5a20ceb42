"""Why wrong, why missed: one reason for every false positive and every miss."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from dotledger.core.displays import Displayed
from dotledger.core.questions.box_error_reasons import BoxReasons
from dotledger.core.questions.error_reasons import MISSED, WRONG, Case
from dotledger.core.questions.presence_error_reasons import PresenceReasons

if TYPE_CHECKING:
    import pandas as pd

    from dotledger.core.questions.question_basis import Basis

__all__ = ["MISSED", "WRONG", "Case", "Diagnosis", "by_confidence", "by_size", "diagnose"]


@dataclass(frozen=True, kw_only=True, repr=False)
class Diagnosis(Displayed):
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
             "share": count / counts.total()}
            for side, counts in (("wrong", self.counts("wrong")), ("missed", self.counts("missed")))
            for (reason, kind, label), count in _sorted_counts(counts)
        ]  # fmt: skip
        columns = ["side", "reason", "kind", "label", "count", "share"]
        return pd.DataFrame(rows, columns=columns)

    def totals(self, side: str) -> dict[str, tuple[int, float]]:
        """Return count and share by reason, the most frequent first.

        Parameters
        ----------
        side : {"wrong", "missed"}
            Wrong findings or missed annotations.
        """
        every = self.counts(side)
        counts: Counter[str] = Counter()
        for (reason, _, _), count in every.items():
            counts[reason] += count
        return {reason: (n, n / every.total()) for reason, n in counts.most_common()}

    def counts(self, side: str) -> Counter[tuple[str, str, str]]:
        """Return how many cases there are by reason, kind and label.

        Parameters
        ----------
        side : {"wrong", "missed"}
            Wrong findings or missed annotations.
        """
        cases = self.wrong if side == "wrong" else self.missed
        return Counter((case.reason, case.kind, case.label) for case in cases)

    def frame(self, side: str = "") -> pd.DataFrame:
        """Return the cases of one side as a pandas frame, in their order; without, the `shares`.

        Parameters
        ----------
        side : {"wrong", "missed", ""}
            Wrong findings or missed annotations; empty for both.
        """
        import pandas as pd

        if not side:
            return self.shares()
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


def _sorted_counts(
    counts: Counter[tuple[str, str, str]],
) -> list[tuple[tuple[str, str, str], int]]:
    return sorted(counts.items(), key=lambda entry: (-entry[1], entry[0]))


def diagnose(basis: Basis, *, near: float = 0.1, small: float = 0.001) -> Diagnosis:
    """Give each wrong finding and each miss its reason, at the first overlap and threshold.

    Parameters
    ----------
    near : float
        The least overlap at which a box counts as meant for an annotation.
    small : float
        Annotated boxes below this share of the image's area are too small; only where the
        annotations know the image's width and height. Faces are too small also below the
        service's smallest, in pixels as sent, where the findings' origin knows it.
    """
    parts = [
        BoxReasons(basis, kind, near, small) if scope.boxed else PresenceReasons(basis, kind)
        for kind, scope in basis.scopes.items()
    ]
    wrong = [case for part in parts for case in part.wrong()]
    missed = [case for part in parts for case in part.missed()]
    return Diagnosis(wrong=sorted(wrong, key=by_confidence), missed=sorted(missed, key=by_size))


def by_confidence(case: Case) -> tuple[Any, ...]:
    """Return what orders wrong findings: the most confident first.

    Returns
    -------
    tuple
        To be compared; equal cases are in the order of image, label and box.
    """
    return (-case.confidence, case.image, case.label, case.box)


def by_size(case: Case) -> tuple[Any, ...]:
    """Return what orders misses: the largest first.

    Returns
    -------
    tuple
        To be compared; equal cases are in the order of image, label and box.
    """
    return (-_area(case.box), case.image, case.label, case.box)


def _area(box: Sequence[float]) -> float:
    area = (box[2] - box[0]) * (box[3] - box[1])
    return 0.0 if math.isnan(area) else area
