"""Cases by label and image: what counts at a threshold, ready to be weighted or summed."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from dotledger.core.arrays import Flags, Floats, Ints, narrow
from dotledger.core.measures.registry import Form, combined, records_for
from dotledger.core.measures.resampling import Weights
from dotledger.core.measures.share_limits import ShareSums
from dotledger.core.pairing.pair_judging import Judged, Ranked

__all__ = ["CaseCounts", "Sparse", "sparse_rows"]

Sparse = Any  # scipy.sparse is imported when it is first used


def sparse_rows(rows: Ints, columns: Ints, shape: tuple[int, int], value: Any = None) -> Sparse:
    """Return a sparse matrix of float32 from row and column of each entry; 1 without a value.

    Parameters
    ----------
    shape : tuple of int
        Rows and columns of the matrix.

    Returns
    -------
    csr_array of float32
        Entries at one place are kept next to each other, and add up in products.
    """
    from scipy import sparse

    # Built by hand, since entries at one place need not be summed here: products do that.
    order = np.argsort(narrow(rows), kind="stable")
    data = np.ones(len(rows), dtype=np.float32) if value is None else value[order]
    ends = np.cumsum(np.bincount(rows, minlength=shape[0]))
    return sparse.csr_array(
        (data, columns[order].astype(np.int32), np.r_[0, ends].astype(np.int32)), shape=shape
    )


@dataclass(frozen=True, eq=False)
class CaseCounts:
    """What passes the thresholds, by label and image."""

    findings: Ranked
    hits: Sparse
    passing: Sparse
    actual: Sparse
    overlap: Sparse
    doubtful: Sparse
    place: Ints

    @classmethod
    def of(cls, judged: Judged, passes: Flags, place: Ints) -> CaseCounts:
        """Return what counts of one kind, where `passes` says which rows reach the threshold.

        `place` orders the images among equals, so that sums do not depend on their names.
        """
        findings = judged.findings
        shape = (findings.labels, findings.images)
        counted = passes.copy()
        counted[judged.aside] = False
        rows = np.flatnonzero(counted)
        passing = np.flatnonzero(passes[judged.hit])
        images = place[findings.image[judged.hit[passing]]]
        keep = passing[np.lexsort((images, judged.overlap[passing]))]
        hits, overlap = judged.hit[keep], judged.overlap[keep]
        return cls(
            findings=findings,
            hits=sparse_rows(findings.label[hits], findings.image[hits], shape),
            passing=sparse_rows(findings.label[rows], findings.image[rows], shape),
            actual=sparse_rows(findings.true_label, findings.true_image, shape),
            overlap=sparse_rows(findings.label[hits], findings.image[hits], shape, overlap),
            doubtful=sparse_rows(findings.doubtful_label, findings.doubtful_image, shape),
            place=place,
        )

    @property
    def presence(self) -> bool:
        """Whether the kind is judged by presence."""
        return self.findings.units is not None

    def by_label(self, weight: Weights) -> dict[str, Floats]:
        """Return weighted counts, each of shape (labels, draws)."""
        found = {
            "hits": self.hits @ weight,
            "found": self.passing @ weight,
            "actual": self.actual @ weight,
        }
        if self.presence:
            found["absent"] = weight.sum(axis=0) - self.doubtful @ weight - found["actual"]
        else:
            found["overlap"] = self.overlap @ weight
        return {name: value.astype(np.float64) for name, value in found.items()}

    def matrices(self) -> dict[str, Sparse]:
        """Return the counts as matrices, labels by images; absence, mostly 1, is none of them."""
        found = {"hits": self.hits, "found": self.passing, "actual": self.actual}
        if not self.presence:
            found["overlap"] = self.overlap
        return {name: _summed(one) for name, one in found.items()}

    def columns(self) -> dict[str, Floats]:
        """Return the counts of each image, of all labels together."""
        found = {name: _columns(one) for name, one in self.matrices().items()}
        if self.presence:
            found["absent"] = self.findings.labels - _columns(self.doubtful) - found["actual"]
        return found

    def each_label(self) -> Iterator[dict[str, Floats]]:
        """Yield the counts of each image, label by label."""
        counts, doubtful = self.matrices(), _summed(self.doubtful)
        for label in range(self.findings.labels):
            found = {name: one[[label]].toarray()[0] for name, one in counts.items()}
            if self.presence:
                found["absent"] = 1 - doubtful[[label]].toarray()[0] - found["actual"]
            yield found

    def row_sums(self) -> dict[str, list[ShareSums]]:
        """Return by measure the sums over images of each of its ratios, for each label."""
        counts = self.matrices()
        records = records_for(presence=self.presence)
        return {
            name: [self._row_sums(*pair, counts) for pair in one.ratios]
            for name, one in records.items()
            if one.interval == "share"
        }

    def _row_sums(self, part: Form, whole: Form, counts: Mapping[str, Sparse]) -> ShareSums:
        if "absent" not in whole:
            return _row_sums(combined(part, counts), combined(whole, counts))
        totals = {name: _totals(one) for name, one in counts.items()}
        totals["absent"] = self.findings.images - _totals(self.doubtful) - totals["actual"]
        x, m = combined(part, totals), combined(whole, totals)
        # A unit is an image and a label: every count is 0 or 1, and equal to its square.
        return ShareSums(x=x, m=m, xx=x, xm=x, mm=m, n=m)

    def overlaps(self) -> tuple[ShareSums, ShareSums]:
        """Return the sums of overlaps and of pairs over images: by label, and of all together."""
        # Overlaps are no whole numbers: their sum is the same to the last bit only in one order.
        order = np.argsort(self.place)
        hits, overlap = _summed(self.hits)[:, order], _summed(self.overlap)[:, order]
        together = ShareSums.of_images(_columns(overlap), _columns(hits))
        return _row_sums(overlap, hits), together

    def annotated(self) -> tuple[Floats, Floats, float, int]:
        """Return countable annotations and images that hold one: by label, and of all together."""
        actual = _summed(self.actual)
        by_image = _columns(actual)
        images = np.diff(actual.indptr).astype(np.float64)
        return _totals(actual), images, float(by_image.sum()), int((by_image > 0).sum())


def _summed(matrix: Sparse) -> Sparse:
    """Return a matrix with one entry for each label and image."""
    whole = matrix.astype(np.float64)
    whole.sum_duplicates()
    return whole


def _columns(matrix: Sparse) -> Floats:
    return np.asarray(matrix.sum(axis=0), dtype=np.float64).ravel()


def _totals(matrix: Sparse) -> Floats:
    return np.asarray(matrix.sum(axis=1), dtype=np.float64).ravel()


def _row_sums(x: Sparse, m: Sparse) -> ShareSums:
    return ShareSums(
        x=_totals(x),
        m=_totals(m),
        xx=_totals(x.multiply(x)),
        xm=_totals(x.multiply(m)),
        mm=_totals(m.multiply(m)),
        n=np.diff(m.tocsr().indptr).astype(np.float64),
    )
