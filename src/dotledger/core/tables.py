"""The common shape: findings and annotations as columnar tables."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dotledger.core.details import Details
from dotledger.core.headings import check_headings
from dotledger.core.kinds import KINDS
from dotledger.core.names import Coded
from dotledger.errors import TableError

if TYPE_CHECKING:
    import pandas as pd

__all__ = [
    "ANNOTATION_COLUMNS",
    "FINDING_COLUMNS",
    "Annotations",
    "Findings",
    "Passing",
    "on_common_images",
]

FINDING_COLUMNS = ("image", "kind", "label", "confidence", "x0", "y0", "x1", "y1")
ANNOTATION_COLUMNS = ("image", "kind", "label", "x0", "y0", "x1", "y1", "ignore")
_BOX = ("x0", "y0", "x1", "y1")

Where = Callable[[int, str], str]
"""Names a cell for people, from a row (0-based) and a column."""


class Passing(Protocol):
    """Anything that tells which findings pass, such as `dotledger.core.thresholds.Thresholds`."""

    def passes(self, findings: Findings) -> NDArray[np.bool_]:
        """Return which findings pass: ndarray of bool, shape (n,)."""


def _row_place(row: int, column: str) -> str:
    return f"row {row}, column {column}"


def _first(mask: Any) -> int:
    return int(np.argmax(mask))


def _codes(values: Iterable[Any] | Coded, column: str, where: Where) -> Coded:
    if isinstance(values, Coded):
        return values
    rows = list(values)
    if set(map(type, rows)) - {str}:
        rows = _as_text(rows, column, where)
    return Coded.of(rows)


def _as_text(rows: list[Any], column: str, where: Where) -> list[str]:
    for position, value in enumerate(rows):
        if isinstance(value, str):
            rows[position] = str(value)
        elif value is None or (isinstance(value, float) and value != value) or _is_missing(value):
            rows[position] = ""
        else:
            raise TableError(
                "a name must be text", place=where(position, column), got=value, row=position
            )
    return rows


def _is_missing(value: Any) -> bool:
    """Tell whether a cell is pandas' NA or NaT, without importing pandas."""
    return type(value).__name__ in ("NAType", "NaTType")


def _numbers(values: Any, column: str, where: Where) -> NDArray[np.float64]:
    try:
        array = np.asarray(_in_digits(values), dtype=np.float64)
    except (TypeError, ValueError):
        array = np.array(
            [_number(v, i, column, where) for i, v in enumerate(values)], dtype=np.float64
        )
    if array.ndim != 1:
        raise TableError(
            "a column holds one number a row", place=where(0, column), got=f"shape {array.shape}"
        )
    _refuse(np.isinf(array), array, column, where, "a number must be finite")
    return array


def _in_digits(values: Any) -> Any:
    """Return short floats as the numbers they are written as: 0.9 in 32 bits is 0.9, not less.

    Otherwise a confidence of exactly the threshold would fall below it.
    """
    dtype = getattr(values, "dtype", None)
    if dtype not in (np.float32, np.float16):
        return values
    return np.asarray(values).astype(str).astype(np.float64)


def _number(value: Any, row: int, column: str, where: Where) -> float:
    if _is_missing(value) or value is None or (isinstance(value, str) and not value.strip()):
        return np.nan
    try:
        return float(value)
    except (TypeError, ValueError):
        raise TableError("not a number", place=where(row, column), got=value, row=row) from None


def _refuse(
    bad: NDArray[np.bool_], values: Any, column: str, where: Where, message: str, **more: Any
) -> None:
    if bad.any():
        row = _first(bad)
        raise TableError(message, place=where(row, column), got=values[row], row=row, **more)


def _check_kinds(kind: Coded, where: Where, *, blank: NDArray[np.bool_] | None) -> None:
    known = np.array([name in KINDS for name in kind.names], dtype=bool)
    bad = ~known[kind.codes] if len(known) else np.zeros(0, dtype=bool)
    if blank is not None:
        empty = np.array([not name for name in kind.names], dtype=bool)
        bad &= ~(blank & (empty[kind.codes] if len(empty) else bad))
    _refuse(bad, kind.values(), "kind", where, "unknown kind", allowed=KINDS)


def _check_boxes(box: NDArray[np.float64], where: Where) -> None:
    given = ~np.isnan(box)
    partial = given.any(axis=1) & ~given.all(axis=1)
    if partial.any():
        row = _first(partial)
        column = _BOX[int(np.argmin(given[row]))]
        raise TableError(
            "a box needs all four numbers or none",
            place=where(row, column),
            got=tuple(box[row].tolist()),
            row=row,
        )
    for low, high, column in ((0, 2, "x1"), (1, 3, "y1")):
        bad = box[:, low] >= box[:, high]
        if bad.any():
            row = _first(bad)
            raise TableError(
                f"a box must have {_BOX[low]} < {column}",
                place=where(row, column),
                got=tuple(box[row].tolist()),
                row=row,
                next_step="Boxes are corners in pixels; convert other conventions first.",
            )


def _check_confidences(confidence: NDArray[np.float64], where: Where) -> None:
    bad = (confidence < 0) | (confidence > 1)
    _refuse(
        bad,
        confidence,
        "confidence",
        where,
        "a confidence is out of range",
        allowed=["0 to 1", "empty for none"],
    )


def _check_lengths(columns: Mapping[str, Any]) -> None:
    lengths = {name: len(column) for name, column in columns.items()}
    if len(set(lengths.values())) > 1:
        raise TableError("columns differ in length", got=lengths)


def _blank(label: Coded) -> NDArray[np.bool_]:
    empty = np.array([not name for name in label.names], dtype=bool)
    return empty[label.codes] if len(empty) else np.zeros(0, dtype=bool)


def _flags(values: Any, column: str, where: Where) -> NDArray[np.bool_]:
    words = {
        "": False,
        "0": False,
        "false": False,
        "no": False,
        "1": True,
        "true": True,
        "yes": True,
    }
    array = np.asarray(values)
    if array.dtype == np.bool_:
        return array
    result = np.zeros(len(array), dtype=bool)
    for row, value in enumerate(array.tolist()):
        nothing = value is None or _is_missing(value) or value != value
        plain = "" if nothing else str(value).strip().lower()
        plain = plain.removesuffix(".0")
        if plain not in words:
            raise TableError(
                "not a yes or no",
                place=where(row, column),
                got=value,
                row=row,
                allowed=["true", "false", "1", "0", "yes", "no", "empty for false"],
            )
        result[row] = words[plain]
    return result


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
    """

    image: Coded
    kind: Coded
    label: Coded
    confidence: NDArray[np.float64]
    box: NDArray[np.float64]
    details: tuple[Details | None, ...] | None = None

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
        where: Where = _row_place,
    ) -> Findings:
        """Check columns and build a table; all must have the same length n, which may be 0.

        Raises
        ------
        TableError
            For the first cell that breaks the common shape, named by row and column.
        """
        confidences = _numbers(confidence, "confidence", where)
        box = _stack_boxes(x0, y0, x1, y1, where)
        names = [
            _codes(v, c, where) for v, c in ((image, "image"), (kind, "kind"), (label, "label"))
        ]
        _check_lengths(
            {
                "image": names[0],
                "kind": names[1],
                "label": names[2],
                "confidence": confidences,
                "box": box,
            }
        )
        _check_names(names[0], where)
        _check_kinds(names[1], where, blank=None)
        _check_boxes(box, where)
        _check_confidences(confidences, where)
        return cls(
            image=names[0],
            kind=names[1],
            label=names[2],
            confidence=confidences,
            box=box,
            details=tuple(details) if details is not None else None,
        )

    @classmethod
    def from_frame(cls, frame: pd.DataFrame, *, where: Where = _row_place) -> Findings:
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
        return _blank(self.label)

    def take(self, rows: NDArray[Any]) -> Findings:
        """Return the table reduced to `rows` (indices or a mask)."""
        indices = np.flatnonzero(rows) if rows.dtype == np.bool_ else rows
        details = self.details
        return Findings(
            image=self.image.take(indices),
            kind=self.kind.take(indices),
            label=self.label.take(indices),
            confidence=self.confidence[indices],
            box=self.box[indices],
            details=tuple(details[i] for i in indices) if details is not None else None,
        )

    def cut(self, threshold: float | Passing | None) -> Findings:
        """Return what passes `threshold`; a finding without a confidence always does.

        An image and kind that had rows keeps at least a blank one, since it was answered.

        Parameters
        ----------
        threshold : float, Thresholds or None
            A number from 0 to 1, or thresholds by kind or label.
        """
        if threshold is None:
            return self
        if isinstance(threshold, int | float):
            return self.without(self.confidence < threshold)
        return self.without(~threshold.passes(self))

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
                **dict(zip(_BOX, self.box.T, strict=True)),
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
    return Findings(
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


def _stack_boxes(x0: Any, y0: Any, x1: Any, y1: Any, where: Where) -> NDArray[np.float64]:
    columns = {c: _numbers(v, c, where) for c, v in zip(_BOX, (x0, y0, x1, y1), strict=True)}
    _check_lengths(columns)
    return np.stack(list(columns.values()), axis=1)


def _check_names(image: Coded, where: Where) -> None:
    empty = np.array([not name for name in image.names], dtype=bool)
    if empty.any():
        row = _first(empty[image.codes])
        raise TableError("an image needs a name", place=where(row, "image"), got="", row=row)


def _frame_columns(frame: pd.DataFrame, columns: Sequence[str]) -> dict[str, Any]:
    optional = {"confidence", "ignore", *_BOX}
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
        An empty label stands for "looked at, nothing there".
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
        where: Where = _row_place,
    ) -> Annotations:
        """Check columns and build a table; all must have the same length n, which may be 0.

        Raises
        ------
        TableError
            For the first cell that breaks the common shape, or an annotation of a kind judged
            by boxes that has no box.
        """
        box = _stack_boxes(x0, y0, x1, y1, where)
        names = [
            _codes(v, c, where) for v, c in ((image, "image"), (kind, "kind"), (label, "label"))
        ]
        flags = _flags(ignore, "ignore", where)
        _check_lengths(
            {"image": names[0], "kind": names[1], "label": names[2], "box": box, "ignore": flags}
        )
        _check_names(names[0], where)
        _check_kinds(names[1], where, blank=_blank(names[2]))
        _check_boxes(box, where)
        _check_boxed(names[1], names[2], box, where)
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
        where: Where = _row_place,
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
        return _blank(self.label)

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
                **dict(zip(_BOX, self.box.T, strict=True)),
                "ignore": self.ignore,
            }
        )


def _own_columns(frame: pd.DataFrame) -> list[Details | None] | None:
    """Return the columns that the common shape does not have, as attributes."""
    names = [c for c in frame.columns if c not in ANNOTATION_COLUMNS and isinstance(c, str)]
    if not names:
        return None
    rows = frame[names].astype(object).where(frame[names].notna(), None).to_dict("records")
    return [
        Details(attributes={str(n): v for n, v in row.items() if v is not None}) for row in rows
    ]


def _check_boxed(kind: Coded, label: Coded, box: NDArray[np.float64], where: Where) -> None:
    boxed = np.array([n in KINDS and KINDS[n].judged == "boxes" for n in kind.names], dtype=bool)
    if not len(boxed):
        return
    bad = boxed[kind.codes] & ~_blank(label) & np.isnan(box[:, 0])
    if bad.any():
        row = _first(bad)
        raise TableError(
            "an annotation of this kind needs a box",
            place=where(row, "x0"),
            got="",
            row=row,
            next_step="Give x0, y0, x1, y1, or use the kind 'label' for what has no place.",
        )
