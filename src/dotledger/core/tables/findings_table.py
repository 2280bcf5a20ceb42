"""Findings: things read out of answers, one a row."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dotledger.core.arguments import MOST_SEED, whole_number
from dotledger.core.tables.cell_checks import (
    Where,
    check_boxes,
    check_confidences,
    check_kinds,
    check_lengths,
    check_names,
    codes_of,
    numbers_of,
    row_place,
    stack_boxes,
)
from dotledger.core.tables.column_checks import as_pandas, details_of, frame_columns
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.name_codes import Coded
from dotledger.core.tables.row_conditions import rows_where
from dotledger.core.tables.table_origin import Origin
from dotledger.core.tables.table_rows import Rows, details_columns, joined
from dotledger.core.tables.threshold_values import Threshold, Thresholds, thresholds_of

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["FINDING_COLUMNS", "Findings"]

FINDING_COLUMNS = ("image", "kind", "label", "confidence", "x0", "y0", "x1", "y1")


@dataclass(frozen=True, eq=False, kw_only=True)
class Findings(Rows):
    """Things read out of answers, one a row.

    Build it with `from_columns` or `from_frame`; the constructor does not check.

    Attributes
    ----------
    image, kind, label : Coded, length n
        An empty label stands for "answered, nothing found".
    confidence : ndarray of float64, shape (n,)
        0 to 1; NaN where the service simply asserts.
    box : ndarray of float64, shape (n, 4)
        Pixels of the upright original; a row of NaN where there is no box.
    details : tuple of Details or None, length n, or None
        What only some findings have; None if no row has any.
    origin : Origin or None
        Where they come from and what was cut; None if that is not known.

    Examples
    --------
    >>> import dotledger
    >>> found = dotledger.Findings.from_columns(
    ...     image=["a.jpg", "b.jpg"], kind=["label", "label"], label=["dusk", ""],
    ...     confidence=[0.9, None], x0=[None] * 2, y0=[None] * 2, x1=[None] * 2, y1=[None] * 2,
    ... )
    >>> found.filter(label="dusk").blank.tolist()
    [False, True]
    """

    image: Coded
    kind: Coded
    label: Coded
    confidence: NDArray[np.float64]
    box: NDArray[np.float64]
    details: tuple[Details | None, ...] | None = None
    origin: Origin | None = None

    @classmethod
    def from_columns(
        cls,
        *,
        image: Iterable[str] | Coded,
        kind: Iterable[str] | Coded,
        label: Iterable[str] | Coded,
        confidence: ArrayLike,
        x0: ArrayLike,
        y0: ArrayLike,
        x1: ArrayLike,
        y1: ArrayLike,
        details: Sequence[Details | None] | None = None,
        where: Where = row_place,
    ) -> Findings:
        """Check columns and build a table; all must have the same length n, which may be 0.

        Raises
        ------
        TableError
            For the first cell that breaks the common shape, named by row and column.
        """
        confidences = numbers_of(confidence, "confidence", where)
        box = stack_boxes(x0, y0, x1, y1, where)
        names = [
            codes_of(v, c, where) for v, c in ((image, "image"), (kind, "kind"), (label, "label"))
        ]
        check_lengths(
            {
                "image": names[0],
                "kind": names[1],
                "label": names[2],
                "confidence": confidences,
                "box": box,
            }
        )
        check_names(names[0], where)
        check_kinds(names[1], where, blank=None)
        check_boxes(box, where)
        check_confidences(confidences, where)
        return cls(
            image=names[0],
            kind=names[1],
            label=names[2],
            confidence=confidences,
            box=box,
            details=tuple(details) if details is not None else None,
        )

    @classmethod
    def from_frame(cls, frame: Any, *, where: Where = row_place) -> Findings:
        """Build a table from a pandas frame with the columns of `FINDING_COLUMNS`.

        Any eager dataframe that narwhals knows is taken. The columns ``confidence`` and ``x0`` to
        ``y1`` may be missing; a column ``details`` of JSON is taken back, others are left out.

        Raises
        ------
        TableError
            If a needed column is missing or a cell breaks the common shape.
        """
        plain = as_pandas(frame)
        columns = frame_columns(plain, FINDING_COLUMNS)
        return cls.from_columns(**columns, details=details_of(plain, where), where=where)

    @classmethod
    def empty(cls) -> Findings:
        """Return a table without rows."""
        none: list[float] = []
        return cls.from_columns(
            image=[], kind=[], label=[], confidence=none, x0=none, y0=none, x1=none, y1=none
        )

    def __repr__(self) -> str:
        images = len(self.image.used())
        return f"<Findings: {int((~self.blank).sum())} in {images} images>"

    def take(self, rows: NDArray[Any]) -> Findings:
        """Return the table reduced to `rows` (indices or a mask)."""
        if rows.dtype == np.bool_ and rows.all():
            return self  # a table is never changed, and copying a large one takes a while
        indices = np.flatnonzero(rows) if rows.dtype == np.bool_ else rows
        details = self.details
        return replace(
            self,
            image=self.image.take(indices),
            kind=self.kind.take(indices),
            label=self.label.take(indices),
            confidence=self.confidence[indices],
            box=np.take(self.box, indices, axis=0),
            details=tuple(details[i] for i in indices) if details is not None else None,
        )

    def cut(self, threshold: Threshold | Thresholds) -> Findings:
        """Return what passes `threshold`; a finding without a confidence always does.

        An image and kind that had rows keeps at least a blank one, since it was answered. The
        result's `origin` tells what was cut, so that a measure of it can say so.

        Parameters
        ----------
        threshold : float, str, mapping of str to float or str, Thresholds or None
            As `dotledger.measure` takes it: a number from 0 to 1, a word of the service's own
            scale, or one of these by kind, label or ``kind:label``.

        Raises
        ------
        ArgumentError
            If a number is out of range, or a word or name is not known.
        """
        if threshold is None:
            return self
        origin = self.origin or Origin()
        if not isinstance(threshold, Thresholds):
            threshold = thresholds_of(threshold, self, words=origin.words, floor=origin.floor)
        at = threshold.plain()
        if at is None:
            return self
        low = ~threshold.passes(self)
        kinds = np.bincount(self.kind.codes[low], minlength=len(self.kind.names)).tolist()
        removed = dict(zip(self.kind.names, kinds, strict=True))
        return replace(self.without(low), origin=origin.after(at, removed))

    def where(self, condition: str) -> Findings:
        """Return the findings that satisfy a condition, such as ``age < 18 and mood = 'happy'``.

        A value that a finding lacks satisfies nothing. An image and kind that had rows keeps at
        least a blank one. The result's `origin` tells the condition.

        Parameters
        ----------
        condition : str
            Comparisons of ``label``, ``kind``, ``confidence``, ``person``, ``similarity`` and
            attributes with numbers and quoted text, joined by ``and``, ``or``, ``not``.

        Raises
        ------
        ArgumentError
            If it is no such condition, or names a field that no finding has.
        """
        met = rows_where(self, condition)
        origin = self.origin or Origin()
        kept = self.without(~met & ~self.blank)
        return replace(kept, origin=replace(origin, where=(*origin.where, condition)))

    def by_confidence(self) -> Findings:
        """Return the rows by falling confidence: asserted ones first, blank ones last.

        Rows of equal confidence keep their order.
        """
        confidence = np.where(np.isnan(self.confidence), np.inf, self.confidence)
        return self.take(np.lexsort((-confidence, self.blank)))

    def strongest(self, most: int, *, least: float | None = None) -> Findings:
        """Return the `most` findings of each image with the highest confidence, in their order.

        Kinds and labels are ranked together; asserted findings come first, and of equal ones the
        earlier row. An image and kind that had rows keeps at least a blank one.

        Parameters
        ----------
        most : int
            Findings to keep of each image, at least 1.
        least : float, optional
            From 0 to 1; findings below it do not count, and an image without any other is
            undecided: see `undecided`.

        Raises
        ------
        ArgumentError
            If `most` is not a whole number of at least 1, or `least` is out of range.
        """
        if least is not None:
            return self.cut(least).strongest(most)
        most = whole_number(most, place="most", least=1, most=MOST_SEED)
        confidence = np.where(np.isnan(self.confidence), np.inf, self.confidence)
        order = np.lexsort((-confidence, self.blank, self.image.codes))
        image = self.image.codes[order]
        starts = np.searchsorted(image, image)
        rank = np.empty(len(self), dtype=np.intp)
        rank[order] = np.arange(len(self)) - starts
        origin = replace(self.origin or Origin(), strongest=most)
        return replace(self.without((rank >= most) & ~self.blank), origin=origin)

    def undecided(self) -> list[str]:
        """Return the images that were answered and of which no finding is left, in table order."""
        left = set(self.image.take(~self.blank).used())
        return [name for name in self.image.used() if name not in left]

    def without(self, rows: NDArray[np.bool_]) -> Findings:
        """Return the table without `rows` (a mask).

        An image and kind that had rows keeps at least a blank one, since it was answered.
        """
        return _with_blanks(self, ~rows)

    def filter(
        self,
        *,
        kind: str | Iterable[str] | None = None,
        label: str | Iterable[str] | None = None,
        image: str | Iterable[str] | None = None,
        least: Threshold | Thresholds = None,
    ) -> Findings:
        """Return findings of some kinds, labels and images, with at least some confidence.

        Images that were answered stay answered: where every finding of a kind is filtered away by
        `label` or `least`, a blank row stays. `frame` has that row too, with an empty label, so
        that it also survives a way through pandas.

        Parameters
        ----------
        kind, label, image : str or iterable of str, optional
            Rows with one of these; by default all rows.
        least : float, str, mapping or Thresholds, optional
            As `cut` takes it.

        Raises
        ------
        ArgumentError
            As `cut` does.
        """
        kept = self.take(self._chosen(kind, image)).cut(least)
        if label is None:
            return kept
        labels = (label,) if isinstance(label, str) else tuple(label)
        found = kept.without(~kept.label.among(labels) & ~kept.blank)
        return replace(found, origin=replace(found.origin or Origin(), only=labels))

    @classmethod
    def concat(cls, tables: Iterable[Findings]) -> Findings:
        """Return several tables one below the other; their origins are forgotten."""
        parts = list(tables) or [cls.empty()]
        details = any(part.details is not None for part in parts)
        return cls(
            image=joined([part.image for part in parts]),
            kind=joined([part.kind for part in parts]),
            label=joined([part.label for part in parts]),
            confidence=np.concatenate([part.confidence for part in parts]),
            box=np.vstack([part.box for part in parts]),
            details=tuple(one for p in parts for one in p.details or (None,) * len(p))
            if details
            else None,
        )

    def frame(self, *, details: str | None = None) -> pd.DataFrame:
        """Return a pandas frame with the columns of `FINDING_COLUMNS`.

        Parameters
        ----------
        details : {"json", "columns"}, optional
            Also what findings have beside: in one column ``details`` of JSON, which `from_frame`
            takes back, or a column for each attribute and point.

        Raises
        ------
        ArgumentError
            If `details` is another word.
        """
        import pandas as pd

        columns = self._shape_columns() | {"confidence": self.confidence}
        shaped = {name: columns[name] for name in FINDING_COLUMNS}
        return pd.DataFrame(shaped | details_columns(self, details))


def _with_blanks(table: Findings, passes: NDArray[np.bool_]) -> Findings:
    answered = table.image.codes * len(table.kind.names) + table.kind.codes
    lost = np.setdiff1d(answered, answered[passes])
    _, first = np.unique(answered, return_index=True)
    stand_in = first[np.isin(answered[first], lost)]
    kept = table.take(passes)
    if not len(stand_in):
        return kept
    blanks = table.take(stand_in)
    names = (*table.label.names, "")
    return replace(
        kept,
        image=Coded(np.r_[kept.image.codes, blanks.image.codes], table.image.names),
        kind=Coded(np.r_[kept.kind.codes, blanks.kind.codes], table.kind.names),
        label=Coded(np.r_[kept.label.codes, np.full(len(blanks), len(names) - 1)], names),
        confidence=np.r_[kept.confidence, np.full(len(blanks), np.nan)],
        box=np.vstack([kept.box, np.full((len(blanks), 4), np.nan)]),
        details=None if kept.details is None else (*kept.details, *(None for _ in stand_in)),
    )
