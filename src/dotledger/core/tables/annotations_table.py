"""Annotations: what people marked as truth, with the images they looked at."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dotledger.core.tables.cell_checks import (
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
from dotledger.core.tables.column_checks import (
    ANNOTATION_COLUMNS,
    as_pandas,
    details_of,
    frame_columns,
)
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.name_codes import Coded
from dotledger.core.tables.table_rows import Rows, details_columns, joined

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Annotations", "not_covered_lines"]


@dataclass(frozen=True, eq=False, kw_only=True)
class Annotations(Rows):
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

    Examples
    --------
    >>> import dotledger
    >>> truth = dotledger.Annotations.from_columns(
    ...     image=["a.jpg", "b.jpg"], kind=["object", "object"], label=["lantern", ""],
    ...     x0=[0, None], y0=[0, None], x1=[9, None], y1=[9, None], ignore=[False, False],
    ... )
    >>> truth
    <Annotations: 1 in 2 images>
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
        frame: Any,
        *,
        vocabulary: Mapping[str, Iterable[str]] | None = None,
        where: Where = row_place,
    ) -> Annotations:
        """Build a table from a frame with the columns of `ANNOTATION_COLUMNS`.

        Any eager dataframe that narwhals knows is taken.

        The columns ``ignore`` and ``x0`` to ``y1`` may be missing; other columns become
        attributes of the annotations.

        Raises
        ------
        TableError
            If a needed column is missing or a cell breaks the common shape.
        """
        plain = as_pandas(frame)
        columns = frame_columns(plain, ANNOTATION_COLUMNS)
        details = _own_columns(plain, details_of(plain, where))
        return cls.from_columns(**columns, vocabulary=vocabulary, details=details, where=where)

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

    def without(self, rows: NDArray[np.bool_]) -> Annotations:
        """Return the table without `rows` (a mask); images stay looked at, by a blank row."""
        kept = self.take(~rows)
        there = set(kept.image.used())
        lost = [name for name in self.image.used() if name not in there]
        whole = Annotations.concat([kept, _blank_of(lost)]) if lost else kept
        return replace(whole, vocabulary=self.vocabulary, images=self.images)

    def __repr__(self) -> str:
        images = len(self.image.used())
        return f"<Annotations: {int((~self.blank).sum())} in {images} images>"

    def covered(self, kind: str) -> list[str]:
        """Return the images that the annotations cover for `kind`, sorted.

        Every image with a row is, but those with a row of the kind (or of none) that has no label
        and is marked `ignore`.
        """
        rows = self.blank & self.ignore & self.kind.among([kind, ""])
        images = self.image.used()
        if rows.any():
            left_open = set(self.image.take(rows).used())
            images = [name for name in images if name not in left_open]
        return sorted(images)  # in the order of the table, which is quick where that is sorted

    def not_covered(self) -> dict[str, int]:
        """Return how many images are not covered for a kind, by kind; ``""`` is every kind."""
        rows = self.blank & self.ignore
        pairs = {*zip(self.kind.take(rows).values(), self.image.take(rows).values(), strict=True)}
        return dict(sorted(Counter(str(kind) for kind, _ in pairs).items()))

    def labels(self, kind: str) -> tuple[str, ...]:
        """Return the labels in scope for `kind`, sorted: declared, or else those that occur."""
        if kind in self.vocabulary:
            return tuple(sorted(set(self.vocabulary[kind])))
        rows = self.kind.among([kind]) & ~self.blank
        return tuple(sorted(self.label.take(rows).used()))

    def filter(
        self,
        *,
        kind: str | Iterable[str] | None = None,
        label: str | Iterable[str] | None = None,
        image: str | Iterable[str] | None = None,
    ) -> Annotations:
        """Return annotations of some kinds, labels and images; by default all.

        Images that were looked at stay covered: where all annotations are filtered away, a blank
        row stays, in `frame` too. With `label` the vocabulary becomes those labels.
        """
        rows = self._chosen(kind, image)
        labels = None if label is None else (label,) if isinstance(label, str) else tuple(label)
        if labels is not None:
            rows &= self.label.among(labels) | self.blank
        kept = self.take(rows)
        wanted = None if image is None else {image} if isinstance(image, str) else {*image}
        looked_at = [n for n in self.image.used() if wanted is None or n in wanted]
        lost = [n for n in looked_at if n not in set(kept.image.used())]
        whole = Annotations.concat([kept, _blank_of(lost)]) if lost else kept
        if labels is None:
            return replace(whole, vocabulary=self.vocabulary, images=self.images)
        kinds = {*self.kind.used(), *self.vocabulary} - {""}
        vocabulary = {k: tuple(n for n in self.labels(k) if n in labels) for k in kinds}
        return replace(whole, vocabulary=vocabulary, images=self.images)

    @classmethod
    def concat(cls, tables: Iterable[Annotations]) -> Annotations:
        """Return several tables one below the other; vocabularies and images are united.

        A kind for which only some tables declare a vocabulary has what they declare and what
        occurs in the others.
        """
        parts = list(tables)
        kinds = sorted({kind for part in parts for kind in part.vocabulary})
        none = np.zeros((0, 4))
        details = any(part.details is not None for part in parts)
        return cls(
            image=joined([part.image for part in parts]),
            kind=joined([part.kind for part in parts]),
            label=joined([part.label for part in parts]),
            box=np.vstack([none, *(part.box for part in parts)]),
            ignore=np.concatenate([np.zeros(0, dtype=np.bool_), *(part.ignore for part in parts)]),
            vocabulary={
                kind: tuple(sorted({n for part in parts for n in part.labels(kind)}))
                for kind in kinds
            },
            details=tuple(one for p in parts for one in p.details or (None,) * len(p))
            if details
            else None,
            images={name: facts for part in parts for name, facts in part.images.items()},
        )

    def frame(self, *, details: str | None = None) -> pd.DataFrame:
        """Return a pandas frame with the columns of `ANNOTATION_COLUMNS`.

        Parameters
        ----------
        details : {"json", "columns"}, optional
            Also what annotations have beside, own columns among it: in one column ``details`` of
            JSON, or a column for each attribute and point; `from_frame` takes both back.

        Raises
        ------
        ArgumentError
            If `details` is another word.
        """
        import pandas as pd

        columns = self._shape_columns() | {"ignore": self.ignore}
        shaped = {name: columns[name] for name in ANNOTATION_COLUMNS}
        return pd.DataFrame(shaped | details_columns(self, details))


def _blank_of(images: list[str]) -> Annotations:
    """Return rows that say of images that they were looked at."""
    none = np.full(len(images), np.nan)
    return Annotations.from_columns(
        image=images, kind=[""] * len(images), label=[""] * len(images),
        x0=none, y0=none, x1=none, y1=none, ignore=[False] * len(images),
    )  # fmt: skip


def not_covered_lines(counts: Mapping[str, int]) -> list[str]:
    """Return in words how many images are not covered for a kind; see `Annotations.not_covered`.

    Parameters
    ----------
    counts : mapping of str to int
        Images by kind; the empty kind stands for every kind.
    """
    listed = ", ".join(f"{kind or 'every kind'} {count}" for kind, count in counts.items())
    text = "Images not covered, since an annotation of them could not be read: "
    return [f"{text}{listed}."] if listed else []


def _own_columns(
    frame: pd.DataFrame, kept: list[Details | None] | None
) -> list[Details | None] | None:
    """Return the columns that the common shape does not have, as attributes."""
    shape = (*ANNOTATION_COLUMNS, "details")
    names = [c for c in frame.columns if c not in shape and isinstance(c, str)]
    if not names:
        return kept
    rows = frame[names].astype(object).where(frame[names].notna(), None).to_dict("records")
    own = [{str(n): v for n, v in row.items() if v is not None} for row in rows]
    base = kept or [None] * len(own)
    return [
        (one or Details())._replace(attributes={**(one.attributes if one else {}), **cells})
        for one, cells in zip(base, own, strict=True)
    ]
