"""Does 90 % mean 90 %: how often findings of a confidence are right, by band.

Expected calibration error: Naeini, Cooper & Hauskrecht, "Obtaining well calibrated
probabilities using Bayesian binning", 2015.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from dotledger.core.arrays import Flags, ratio
from dotledger.core.displays import Displayed
from dotledger.core.measures.measure_rows import defined
from dotledger.core.measures.share_limits import interval_of_cases
from dotledger.core.pairing.pair_judging import Judged
from dotledger.errors import ArgumentError

if TYPE_CHECKING:
    import pandas as pd

from dotledger.core.arrays import Floats

__all__ = ["Band", "Floats", "Reliability", "ranked_with_confidence", "reliability_of"]

_BANDS = tuple(i / 10 for i in range(1, 10))


@dataclass(frozen=True, kw_only=True)
class Band:
    """Findings within one band of confidence.

    Attributes
    ----------
    low, high : float
        The band: from `low` to below `high`; the last includes 1.
    count, right : int
        How many findings, and how many of them are right.
    mean_confidence, share_right : float
        NaN in an empty band.
    interval : (float, float)
        Of the share right, 95 %, over images; NaN with fewer than two.
    images : int
        That findings of the band are in.
    """

    low: float
    high: float
    count: int
    right: int
    mean_confidence: float
    share_right: float
    interval: tuple[float, float] = (np.nan, np.nan)
    images: int = 0

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        plain = {n: v for n, v in vars(self).items() if n != "interval"}
        ends = None if np.isnan(self.interval[0]) else list(self.interval)
        return {**{name: defined(value) for name, value in plain.items()}, "interval": ends}


@dataclass(frozen=True, kw_only=True, repr=False)
class Reliability(Displayed):
    """How often findings of a confidence are right.

    Attributes
    ----------
    bands : tuple of Band
        By rising confidence.
    count : int
        Findings judged that have a confidence.
    without_confidence : int
        Findings judged that have none; they are in no band.
    expected_calibration_error : float
        Mean over findings of the distance between their band's mean confidence and its share
        right; NaN without findings.
    """

    bands: Sequence[Band]
    count: int
    without_confidence: int
    expected_calibration_error: float

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        return {
            "bands": [band.to_dict() for band in self.bands],
            "count": self.count,
            "without_confidence": self.without_confidence,
            "expected_calibration_error": defined(self.expected_calibration_error),
        }

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with one row for each band."""
        import pandas as pd

        rows = [
            {**vars(b), "low_end": b.interval[0], "high_end": b.interval[1]} for b in self.bands
        ]
        return pd.DataFrame(rows).drop(columns="interval")


def reliability_of(
    judged: Judged, edges: Sequence[float] | None = None, *, rows: Flags | None = None
) -> Reliability:
    """Return the reliability of all findings of one kind, whatever the threshold.

    Parameters
    ----------
    judged : Judged
        At one required overlap; what is set aside does not count.
    edges : sequence of float, optional
        Between the bands, rising, inside 0 to 1; by default ten equal bands.

    Raises
    ------
    ArgumentError
        If the edges do not rise or are not inside 0 to 1.
    """
    ends = _BANDS if edges is None else tuple(edges)
    if any(b <= a for a, b in zip((0.0, *ends), (*ends, 1.0), strict=True)):
        raise ArgumentError(
            "edges must rise and lie inside 0 to 1", place="edges", got=ends, allowed=["0 to 1"]
        )
    confidence, right, without, image = ranked_with_confidence(judged, rows)
    band = np.searchsorted(np.array(ends), confidence, side="right")
    count = np.bincount(band, minlength=len(ends) + 1)
    hits = np.bincount(band[right], minlength=len(ends) + 1)
    total = np.bincount(band, confidence, minlength=len(ends) + 1)
    bands = tuple(
        Band(
            low=low,
            high=high,
            count=int(n),
            right=int(h),
            mean_confidence=ratio(float(s), int(n)),
            share_right=ratio(int(h), int(n)),
            interval=interval_of_cases(image[band == place], right[band == place]),
            images=len(np.unique(image[band == place])),
        )
        for place, (low, high, n, h, s) in enumerate(
            zip((0.0, *ends), (*ends, 1.0), count, hits, total, strict=True)
        )
    )
    return Reliability(
        bands=bands,
        count=len(confidence),
        without_confidence=without,
        expected_calibration_error=ratio(float(np.abs(hits - total).sum()), len(confidence)),
    )


def ranked_with_confidence(
    judged: Judged, rows: Flags | None
) -> tuple[Floats, Flags, int, NDArray[np.intp]]:
    """Return confidence, right or not, how many have none, and the image of each finding.

    Parameters
    ----------
    judged : Judged
        Of one kind, at one required overlap.
    rows : ndarray of bool, shape (n,), or None
        Look at these findings only; None for all.

    Returns
    -------
    tuple
        Three arrays by rising confidence, without what is set aside, and between them a number.
    """
    keep = np.ones(len(judged.findings.label), dtype=bool) if rows is None else rows.copy()
    keep[judged.aside] = False
    with_confidence = np.isfinite(judged.findings.confidence)
    right = np.zeros(len(keep), dtype=bool)
    right[judged.hit] = True
    kept = np.flatnonzero(keep & with_confidence)
    kept = kept[np.argsort(judged.findings.confidence[kept], kind="stable")]  # sums in one order
    without = int((keep & ~with_confidence).sum())
    return judged.findings.confidence[kept], right[kept], without, judged.findings.image[kept]
