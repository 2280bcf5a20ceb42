"""Annotations: what people marked as truth, with the images they looked at."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dotledger.core.tables.cells import (
    BOX,
    Where,
    blank_rows,
    check_boxed,
    check_boxes,
    check_kinds,
    check_lengths,
    check_names,
    codes_of,
    flags_of,
    row_place,
    stack_boxes,
)
from dotledger.core.tables.coded import Coded
from dotledger.core.tables.columns import ANNOTATION_COLUMNS, frame_columns
from dotledger.core.tables.details import Details

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Annotations", "not_covered_lines"]


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
        columns = frame_columns(frame, ANNOTATION_COLUMNS)
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
