"""Cases by label and image: what counts at a threshold, ready to be weighted or summed."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from dotledger.core.arrays import Flags, Floats, Ints, narrow
from dotledger.core.measures.resampling import Weights
from dotledger.core.measures.share_limits import ShareSums
from dotledger.core.pairing.pair_judging import Judged, Ranked

__all__ = ["CaseCounts", "Sparse", "sparse_rows"]

Sparse = Any  # scipy.sparse is imported when it is first used


def sparse_rows(rows: Ints, columns: Ints, shape: tuple[int, int], value: Any = None) -> Sparse:
    """Return a sparse matrix of float32 from row and column of each entry; 1 without a value.

    Parameters
    ----------
    rows : ndarray of intp, shape (n,)
        Row of each entry.
    columns : ndarray of intp, shape (n,)
        Column of each entry.
    shape : tuple of int
        Rows and columns of the matrix.
    value : ndarray, shape (n,), optional
        Of each entry.

    Returns
    -------
    csr_array of float32
        Entries at one place are kept beside each other, and add up in products.
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

    def by_label(self, weight: Weights) -> dict[str, Floats]:
        """Return weighted sums, each of shape (labels, draws)."""
        found = {
            "hits": self.hits @ weight,
            "passing": self.passing @ weight,
            "actual": self.actual @ weight,
        }
        if self.findings.units is None:
            found |= {"overlap": self.overlap @ weight, "boxed": found["hits"]}
        else:
            found["absent"] = weight.sum(axis=0) - self.doubtful @ weight - found["actual"]
        return {name: value.astype(np.float64) for name, value in found.items()}

    def cases(self) -> dict[str, tuple[Sparse, Sparse]]:
        """Return by share the matrices of cases that count and of all cases, labels by images."""
        hits, passing, actual = (_summed(one) for one in (self.hits, self.passing, self.actual))
        return {
            "precision": (hits, passing),
            "recall": (hits, actual),
            "f1": (hits * 2, passing + actual),
        }

    def matrices(self) -> dict[str, tuple[Sparse, Sparse]]:
        """Return as `cases`, with overlaps and pairs for kinds with boxes."""
        found = self.cases()
        if self.findings.units is None:
            found["mean_overlap"] = (_summed(self.overlap), _summed(self.hits))
        return found

    def false_alarms(self) -> tuple[Sparse, Floats]:
        """Return false alarms, labels by images, and in how many images each label is absent."""
        absent = self.findings.images - _totals(self.doubtful) - _totals(self.actual)
        return _summed(self.passing) - _summed(self.hits), absent

    def columns(self) -> dict[str, tuple[Floats, Floats]]:
        """Return as `by_image`, with overlaps and pairs for kinds with boxes."""
        if self.findings.units is None:
            return {**self.by_image(), "mean_overlap": self.overlaps_by_image()}
        return self.by_image()

    def by_image(self) -> dict[str, tuple[Floats, Floats]]:
        """Return by share the cases of each image, of all labels together."""
        found = {n: (_columns(x), _columns(m)) for n, (x, m) in self.cases().items()}
        if self.findings.units is not None:
            absent = self.findings.labels - _columns(self.doubtful) - _columns(self.actual)
            found["false_alarm_rate"] = (_columns(self.passing) - _columns(self.hits), absent)
        return found

    def by_row(self) -> dict[str, ShareSums]:
        """Return by share the sums over images, for each label."""
        found = {name: _row_sums(x, m) for name, (x, m) in self.cases().items()}
        if self.findings.units is not None:
            false = _totals(self.passing) - _totals(self.hits)
            absent = self.findings.images - _totals(self.doubtful) - _totals(self.actual)
            # A unit is an image and a label: every count is 0 or 1, and equal to its square.
            found["false_alarm_rate"] = ShareSums(
                x=false, m=absent, xx=false, xm=false, mm=absent, n=absent
            )
        return found

    def overlaps(self) -> tuple[ShareSums, ShareSums]:
        """Return the sums of overlaps and of pairs over images: by label, and of all together."""
        # Overlaps are no whole numbers: their sum is the same to the last bit only in one order.
        order = np.argsort(self.place)
        hits, overlap = _summed(self.hits)[:, order], _summed(self.overlap)[:, order]
        together = ShareSums.of_images(_columns(overlap), _columns(hits))
        return _row_sums(overlap, hits), together

    def overlaps_by_image(self) -> tuple[Floats, Floats]:
        """Return summed overlaps and the number of pairs of each image, of all labels together."""
        return _columns(self.overlap), _columns(self.hits)

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
