"""The common shape: findings and annotations as columnar tables."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dotledger.core.arguments import MOST_SEED, whole_number
from dotledger.core.cells import (
    BOX,
    Where,
    blank_rows,
    check_boxed,
    check_boxes,
    check_confidences,
    check_kinds,
    check_lengths,
    check_names,
    codes_of,
    flags_of,
    numbers_of,
    row_place,
    stack_boxes,
)
from dotledger.core.details import Details
from dotledger.core.headings import check_headings
from dotledger.core.names import Coded
from dotledger.core.origin import Origin
from dotledger.core.thresholds import Threshold, Thresholds, thresholds_of
from dotledger.errors import TableError

if TYPE_CHECKING:
    import pandas as pd

__all__ = [
    "ANNOTATION_COLUMNS",
    "FINDING_COLUMNS",
    "Annotations",
    "Findings",
    "not_covered_lines",
    "on_common_images",
]

FINDING_COLUMNS = ("image", "kind", "label", "confidence", "x0", "y0", "x1", "y1")
ANNOTATION_COLUMNS = ("image", "kind", "label", "x0", "y0", "x1", "y1", "ignore")


@dataclass(frozen=True, eq=False, kw_only=True)
class Findings:
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
    def from_frame(cls, frame: pd.DataFrame, *, where: Where = row_place) -> Findings:
        """Build a table from a pandas frame with the columns of `FINDING_COLUMNS`.

        The columns ``confidence`` and ``x0`` to ``y1`` may be missing; other columns are left out.

        Raises
        ------
        TableError
            If a needed column is missing or a cell breaks the common shape.
        """
        return cls.from_columns(**_frame_columns(frame, FINDING_COLUMNS), where=where)

    @classmethod
    def empty(cls) -> Findings:
        """Return a table without rows."""
        none: list[float] = []
        return cls.from_columns(
            image=[], kind=[], label=[], confidence=none, x0=none, y0=none, x1=none, y1=none
        )

    def __len__(self) -> int:
        return len(self.confidence)

    def __repr__(self) -> str:
        images = len(self.image.used())
        return f"<Findings: {int((~self.blank).sum())} in {images} images>"

    @property
    def blank(self) -> NDArray[np.bool_]:
        """Rows that say "answered, nothing found": ndarray of bool, shape (n,)."""
        return blank_rows(self.label)

    def take(self, rows: NDArray[Any]) -> Findings:
        """Return the table reduced to `rows` (indices or a mask)."""
        indices = np.flatnonzero(rows) if rows.dtype == np.bool_ else rows
        details = self.details
        return replace(
            self,
            image=self.image.take(indices),
            kind=self.kind.take(indices),
            label=self.label.take(indices),
            confidence=self.confidence[indices],
            box=self.box[indices],
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
            threshold = thresholds_of(threshold, self, words=origin.words)
        at = threshold.plain()
        if at is None:
            return self
        low = ~threshold.passes(self)
        kinds = np.bincount(self.kind.codes[low], minlength=len(self.kind.names)).tolist()
        removed = dict(zip(self.kind.names, kinds, strict=True))
        return replace(self.without(low), origin=origin.after(at, removed))

    def by_confidence(self) -> Findings:
        """Return the rows by falling confidence: asserted ones first, blank ones last.

        Rows of equal confidence keep their order.
        """
        sure = np.where(np.isnan(self.confidence), np.inf, self.confidence)
        return self.take(np.lexsort((-sure, self.blank)))

    def strongest(self, most: int) -> Findings:
        """Return the `most` findings of each image with the highest confidence, in their order.

        Kinds and labels are ranked together; asserted findings come first, and of equal ones the
        earlier row. An image and kind that had rows keeps at least a blank one.

        Parameters
        ----------
        most : int
            At least 1.

        Raises
        ------
        ArgumentError
            If `most` is not a whole number of at least 1.
        """
        most = whole_number(most, place="most", least=1, most=MOST_SEED)
        sure = np.where(np.isnan(self.confidence), np.inf, self.confidence)
        order = np.lexsort((-sure, self.blank, self.image.codes))
        image = self.image.codes[order]
        starts = np.searchsorted(image, image)
        rank = np.empty(len(self), dtype=np.intp)
        rank[order] = np.arange(len(self)) - starts
        origin = replace(self.origin or Origin(), strongest=most)
        return replace(self.without((rank >= most) & ~self.blank), origin=origin)

    def without(self, rows: NDArray[np.bool_]) -> Findings:
        """Return the table without `rows` (a mask).

        An image and kind that had rows keeps at least a blank one, since it was answered.
        """
        return _with_blanks(self, ~rows)

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with the columns of `FINDING_COLUMNS`."""
        import pandas as pd

        return pd.DataFrame(
            {
                "image": self.image.values(),
                "kind": self.kind.values(),
                "label": self.label.values(),
                "confidence": self.confidence,
                **dict(zip(BOX, self.box.T, strict=True)),
            }
        )


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


def on_common_images(tables: Sequence[Findings]) -> list[Findings]:
    """Return findings tables reduced to what can be compared.

    For each kind only the images are kept that every table has an answer for.
    """
    answered = [
        set(zip(t.kind.values().tolist(), t.image.values().tolist(), strict=True)) for t in tables
    ]
    common = set.intersection(*answered) if answered else set()
    return [
        t.take(
            np.array(
                [pair in common for pair in zip(t.kind.values(), t.image.values(), strict=True)],
                dtype=bool,
            )
        )
        for t in tables
    ]


def _frame_columns(frame: pd.DataFrame, columns: Sequence[str]) -> dict[str, Any]:
    optional = {"confidence", "ignore", *BOX}
    check_headings(frame.columns, columns)
    twice = [c for c in columns if (frame.columns == c).sum() > 1]
    if twice:
        raise TableError(
            f"the table has {(frame.columns == twice[0]).sum()} columns of this name",
            place=f"column {twice[0]}",
            next_step="Keep one of them.",
        )
    missing = [c for c in columns if c not in frame.columns and c not in optional]
    if missing:
        raise TableError(
            f"the table has no column {missing[0]!r}",
            got=[str(c) for c in frame.columns],
            allowed=columns,
            next_step="Rename the column to match.",
        )
    fill: dict[str, Any] = {"ignore": False}
    return {
        c: frame[c].tolist()
        if c in ("image", "kind", "label")
        else frame[c].to_numpy()
        if c in frame.columns
        else np.full(len(frame), fill.get(c, np.nan))
        for c in columns
    }


@dataclass(frozen=True, eq=False, kw_only=True)
class Annotations:
    """What people marked as truth, one a row, with the images they looked at.

    Build it with `from_columns` or `from_frame`; the constructor does not check.

    Attributes
    ----------
    image, kind, label : Coded, length n
        An empty label stands for "looked at, nothing there"; with `ignore`, for "something is
        there that is not known": the image is not covered for that kind (without a kind: any).
    box : ndarray of float64, shape (n, 4)
        Pixels of the upright original; a row of NaN where there is no box.
    ignore : ndarray of bool, shape (n,)
        Doubtful: can be neither found nor missed.
    vocabulary : mapping of str to tuple of str
        Declared labels by kind; a kind that is not a key has every label that occurs.
    details : tuple of Details or None, length n, or None
        What only some annotations have; the user's own columns are attributes.
    images : mapping of str to mapping of str to value
        By image what is known about it: ``width`` and ``height`` of the upright original, and the
        user's own columns.
    """

    image: Coded
    kind: Coded
    label: Coded
    box: NDArray[np.float64]
    ignore: NDArray[np.bool_]
    vocabulary: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    details: tuple[Details | None, ...] | None = None
    images: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)

    @classmethod
    def from_columns(
        cls,
        *,
        image: Iterable[str] | Coded,
        kind: Iterable[str] | Coded,
        label: Iterable[str] | Coded,
        x0: ArrayLike,
        y0: ArrayLike,
        x1: ArrayLike,
        y1: ArrayLike,
        ignore: ArrayLike,
        vocabulary: Mapping[str, Iterable[str]] | None = None,
        details: Sequence[Details | None] | None = None,
        images: Mapping[str, Mapping[str, Any]] | None = None,
        where: Where = row_place,
    ) -> Annotations:
        """Check columns and build a table; all must have the same length n, which may be 0.

        Raises
        ------
        TableError
            For the first cell that breaks the common shape, or an annotation of a kind judged
            by boxes that has no box.
        """
        box = stack_boxes(x0, y0, x1, y1, where)
        names = [
            codes_of(v, c, where) for v, c in ((image, "image"), (kind, "kind"), (label, "label"))
        ]
        flags = flags_of(ignore, "ignore", where)
        check_lengths(
            {"image": names[0], "kind": names[1], "label": names[2], "box": box, "ignore": flags}
        )
        check_names(names[0], where)
        check_kinds(names[1], where, blank=blank_rows(names[2]))
        check_boxes(box, where)
        check_boxed(names[1], names[2], box, where)
        declared = {kind: tuple(labels) for kind, labels in (vocabulary or {}).items()}
        return cls(
            image=names[0],
            kind=names[1],
            label=names[2],
            box=box,
            ignore=flags,
            vocabulary=declared,
            details=tuple(details) if details is not None else None,
            images=images or {},
        )

    @classmethod
    def from_frame(
        cls,
        frame: pd.DataFrame,
        *,
        vocabulary: Mapping[str, Iterable[str]] | None = None,
        where: Where = row_place,
    ) -> Annotations:
        """Build a table from a pandas frame with the columns of `ANNOTATION_COLUMNS`.

        The columns ``ignore`` and ``x0`` to ``y1`` may be missing; other columns become
        attributes of the annotations.

        Raises
        ------
        TableError
            If a needed column is missing or a cell breaks the common shape.
        """
        columns = _frame_columns(frame, ANNOTATION_COLUMNS)
        return cls.from_columns(
            **columns, vocabulary=vocabulary, details=_own_columns(frame), where=where
        )

    def with_images(self, facts: Mapping[str, Mapping[str, Any]]) -> Annotations:
        """Return the annotations with more known about their images; new values win."""
        merged = {n: {**self.images.get(n, {}), **facts.get(n, {})} for n in self.image.used()}
        return replace(self, images={name: known for name, known in merged.items() if known})

    def take(self, rows: NDArray[Any]) -> Annotations:
        """Return the table reduced to `rows` (indices or a mask); the vocabulary stays."""
        indices = np.flatnonzero(rows) if rows.dtype == np.bool_ else rows
        return replace(
            self,
            image=self.image.take(indices),
            kind=self.kind.take(indices),
            label=self.label.take(indices),
            box=self.box[indices],
            ignore=self.ignore[indices],
            details=tuple(self.details[i] for i in indices) if self.details is not None else None,
        )

    def __len__(self) -> int:
        return len(self.ignore)

    def __repr__(self) -> str:
        images = len(self.image.used())
        return f"<Annotations: {int((~self.blank).sum())} in {images} images>"

    @property
    def blank(self) -> NDArray[np.bool_]:
        """Rows that say "looked at, nothing there": ndarray of bool, shape (n,)."""
        return blank_rows(self.label)

    def covered(self, kind: str) -> list[str]:
        """Return the images that the annotations cover for `kind`, sorted.

        Every image with a row is, but those with a row of the kind (or of none) that has no label
        and is marked `ignore`.
        """
        rows = self.blank & self.ignore & (self.kind.onto([kind, ""]) >= 0)
        return sorted({*self.image.used()} - {*self.image.take(rows).used()})

    def not_covered(self) -> dict[str, int]:
        """Return how many images are not covered for a kind, by kind; ``""`` is every kind."""
        rows = self.blank & self.ignore
        pairs = {*zip(self.kind.take(rows).values(), self.image.take(rows).values(), strict=True)}
        return dict(sorted(Counter(str(kind) for kind, _ in pairs).items()))

    def labels(self, kind: str) -> tuple[str, ...]:
        """Return the labels in scope for `kind`, sorted: declared, or else those that occur."""
        if kind in self.vocabulary:
            return tuple(sorted(set(self.vocabulary[kind])))
        rows = (self.kind.onto([kind]) == 0) & ~self.blank
        return tuple(sorted(self.label.take(rows).used()))

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with the columns of `ANNOTATION_COLUMNS`."""
        import pandas as pd

        return pd.DataFrame(
            {
                "image": self.image.values(),
                "kind": self.kind.values(),
                "label": self.label.values(),
                **dict(zip(BOX, self.box.T, strict=True)),
                "ignore": self.ignore,
            }
        )


def not_covered_lines(counts: Mapping[str, int]) -> list[str]:
    """Return in words how many images are not covered for a kind; see `Annotations.not_covered`."""
    listed = ", ".join(f"{kind or 'every kind'} {count}" for kind, count in counts.items())
    text = "Images not covered, since an annotation of them could not be read: "
    return [f"{text}{listed}."] if listed else []


def _own_columns(frame: pd.DataFrame) -> list[Details | None] | None:
    """Return the columns that the common shape does not have, as attributes."""
    names = [c for c in frame.columns if c not in ANNOTATION_COLUMNS and isinstance(c, str)]
    if not names:
        return None
    rows = frame[names].astype(object).where(frame[names].notna(), None).to_dict("records")
    return [
        Details(attributes={str(n): v for n, v in row.items() if v is not None}) for row in rows
    ]
