"""What every threshold would lead to."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from dotledger.core.arrays import Floats
from dotledger.core.displays import Displayed
from dotledger.core.measures.finding_groups import Group, joined
from dotledger.core.measures.image_sums import CasesInOrder, SumsAtLevels, mean_of_shares_at_levels
from dotledger.core.measures.registry import RATIOS
from dotledger.core.measures.threshold_levels import Levels, values_of
from dotledger.core.questions.label_grouping import by_kind, by_label, common_images
from dotledger.core.questions.question_basis import Basis
from dotledger.errors import ArgumentError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["SWEPT", "Sweep", "sweep_of"]

SWEPT = (
    *(name for name, one in RATIOS.items() if one.interval == "share"),
    "false_alarms_per_100_images",
    "stopped_share",
)
"""Columns of a sweep."""


@dataclass(frozen=True, kw_only=True, repr=False)
class Sweep(Displayed):
    """Counts and measures at every threshold that changes a count.

    Attributes
    ----------
    table : DataFrame
        One row a group and threshold: ``group, threshold, annotated, true_positives,
        false_positives, misses``, measures, and the ends of their intervals such as
        ``recall_low``. Groups in the order of the measure, thresholds falling.
    floor : float or None
        Where it stops, if the service's floor is known.
    stopped_at : dict of str to str
        By group, in words, where it stops and why.
    """

    table: pd.DataFrame
    floor: float | None
    stopped_at: dict[str, str]

    def frame(self) -> pd.DataFrame:
        """Return the whole table."""
        return self.table

    def shown(self, most: int = 25) -> pd.DataFrame:
        """Return at most so many thresholds of each group, spread over what they change.

        The first and the last are among them, and the one with the greatest F1.
        """
        import pandas as pd

        parts = [_thinned(part, most) for _, part in self.table.groupby("group", sort=False)]
        return pd.concat(parts) if parts else self.table

    def to_dict(self) -> dict[str, Any]:
        """Return plain values, ready for JSON; None where undefined."""
        table: Any = self.table.astype(object).where(self.table.notna(), None)
        return {
            "floor": self.floor,
            "stopped_at": dict(self.stopped_at),
            "thresholds": table.to_dict("records"),
        }


def _thinned(part: pd.DataFrame, most: int) -> pd.DataFrame:
    if len(part) <= most:
        return part
    found = (part.true_positives + part.false_positives).to_numpy(dtype=float)
    even = np.searchsorted(found, np.linspace(found[0], found[-1], most - 1))
    best = np.nanargmax(part.f1) if part.f1.notna().any() else 0
    return part.iloc[np.unique(np.r_[even, best])]


Each = Literal["all", "kind", "label"]


def sweep_of(
    basis: Basis, each: Each, *, kinds: Sequence[str] | None = None, intervals: bool = True
) -> Sweep:
    """Return counts and measures against the threshold.

    Parameters
    ----------
    basis : Basis
        Of the whole measure, paired by confidence.
    each : {"all", "kind", "label"}
        Everything pooled, by kind, or by label.
    intervals : bool, default True
        95 % intervals of the shares; of false alarms for each 100 images that of a mean.

    Returns
    -------
    Sweep
        One row a distinct confidence, none below the floor; empty without findings.

    Raises
    ------
    ArgumentError
        If `each` is not known, or the pairing holds for one threshold only.
    """
    import pandas as pd

    if basis.pairing != "confidence":
        raise ArgumentError(
            "there is no sweep for this pairing, which holds for one threshold",
            place="sweep",
            got=basis.pairing,
            allowed=["confidence"],
        )
    groups = [g for g in _groups(basis, each) if kinds is None or set(g.kinds) <= set(kinds)]
    parts = [_swept(group, intervals=intervals) for group in groups]
    table = pd.concat(parts, ignore_index=True) if parts else _swept(_NOTHING, intervals=intervals)
    return Sweep(
        table=table,
        floor=basis.floor,
        stopped_at={
            group.name: _why(part, basis.floor) for group, part in zip(groups, parts, strict=True)
        },
    )


def _groups(basis: Basis, each: str) -> list[Group]:
    images = common_images(basis)
    if each == "label":
        return list(by_label(basis, images))
    kinds = list(by_kind(basis, images))
    if each == "kind":
        return kinds
    if each != "all":
        raise ArgumentError(
            "unknown choice", place="each", got=each, allowed=["all", "kind", "label"]
        )
    return [joined(kinds)] if kinds else []


_NONE, _NO_FLAGS = np.zeros(0), np.zeros(0, dtype=bool)
_NO_ROWS = np.zeros(0, dtype=np.intp)
_NOTHING = Group(
    name="", kinds=(), images=0, confidence=_NONE, image=_NO_ROWS, right=_NO_FLAGS,
    true_image=_NO_ROWS, absent=None, top=_NONE, inside=_NO_FLAGS, unsafe=_NO_FLAGS,
    left_out=_NO_FLAGS,
)  # fmt: skip


def _swept(group: Group, *, intervals: bool) -> pd.DataFrame:
    import pandas as pd

    values = values_of(group)
    nothing_passes = len(values) > 0 and not (group.confidence == values[0]).any()
    values = values[1:] if nothing_passes else values  # no finding has this confidence
    cases = CasesInOrder(group, values)
    counts = Levels.of(group, values).counts()
    size = len(values)
    hits, found = counts.hits[:size, 0], counts.found[:size, 0]
    columns: dict[str, Any] = {
        "group": [group.name] * size,
        "threshold": values,
        "annotated": np.full(size, group.annotated),
        "true_positives": hits.astype(np.int64),
        "false_positives": (found - hits).astype(np.int64),
        "misses": (group.annotated - hits).astype(np.int64),
    }
    for name in SWEPT:
        columns[name] = counts.value(name)[:size, 0]
    for name in SWEPT if intervals else ():
        low, high = _ends(cases, name)
        columns |= {f"{name}_low": low[:size], f"{name}_high": high[:size]}
    return pd.DataFrame(columns)


def _ends(cases: CasesInOrder, measure: str) -> tuple[Floats, Floats]:
    record = RATIOS.get(measure)
    if record is not None and "absent" in record.needs and cases.group.absent is None:
        nothing = np.full(cases.levels, math.nan)
        return nothing, nothing
    if record is not None and len(record.ratios) > 1:
        return mean_of_shares_at_levels(cases, record)
    return SumsAtLevels.of(cases, "f" if measure == "f1" else measure).limits()


def _why(part: pd.DataFrame, floor: float | None) -> str:
    if part.empty:
        return "no finding has a confidence, so no threshold changes anything"
    lowest = f"{part.threshold.iloc[-1]:.4g}, the lowest confidence found"
    if floor is None:
        return f"{lowest}; the service's floor is not known, so what lies below was perhaps cut"
    return f"{lowest}; below {floor:g}, the service's floor, nothing is known"
