"""The figures of two runs that drift looks at: counts, confidences, places of boxes, fields."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from dotledger.core.arrays import Floats, Ints
from dotledger.core.comparison.box_partners import partners_of
from dotledger.core.comparison.exchanged_figures import Figures
from dotledger.core.kinds import KINDS
from dotledger.core.measures.image_cases import sparse_rows
from dotledger.core.measures.resampling import Places, placed, places_of_images
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.name_codes import Coded

__all__ = ["RunSide", "add_fields", "add_kind", "add_partners", "fields_of", "order_of"]

_BINS = 200
"""Confidences are told apart to 1/200: a shift smaller than that changes no decision."""
_FEW = 5
"""Labels found less often in both runs are not looked at: nothing could be said of them."""
_MOST_FIELDS = 60
_NOBODY = Coded(np.zeros(0, dtype=np.intp), ())
_NOTHING_ANNOTATED = Annotations(
    image=_NOBODY,
    kind=_NOBODY,
    label=_NOBODY,
    box=np.zeros((0, 4)),
    ignore=np.zeros(0, dtype=bool),
)


class RunSide:
    """One run over its images: counts by image, confidences by bin and image."""

    def __init__(self, table: Findings, names: Sequence[str]) -> None:
        image = table.image.onto(names)
        self.table = table.take(image >= 0)
        self.images = len(names)
        self.names = names
        kept = self.table.take(~self.table.blank)
        self.image: Ints = kept.image.onto(names)
        self.kept = kept
        self.kinds = [kind for kind in table.kind.used() if kind]

    def rows(self, kind: str, label: str | None = None) -> Ints:
        """Return the findings of a kind, or of one of its labels."""
        rows = self.kept.kind.among([kind])
        if label is not None:
            rows &= self.kept.label.among([label])
        return np.flatnonzero(rows)

    def labels(self, kind: str) -> list[str]:
        """Return the labels of a kind."""
        return self.kept.take(self.rows(kind)).label.used()

    def by_image(self, rows: Ints, value: Floats | None = None) -> Floats:
        """Return how many of some rows each image has, or the sums of their values."""
        return np.bincount(self.image[rows], value, minlength=self.images).astype(np.float64)

    def confident(self, rows: Ints) -> Ints:
        """Return the rows that have a confidence."""
        return rows[~np.isnan(self.kept.confidence[rows])]

    def bins(self, rows: Ints) -> Any:
        """Return how many findings each image has in each bin of confidence: (bins, images)."""
        at = np.minimum((self.kept.confidence[rows] * _BINS).astype(np.intp), _BINS - 1)
        return sparse_rows(at, self.image[rows], (_BINS, self.images))

    def sorted_rows(self, labels: Sequence[str]) -> Floats:
        """Return images, kinds, labels, confidences and boxes as numbers, in an order of their own.

        Two runs of the same images whose rows are equal found the same, in whatever order.
        """
        kept = self.kept
        names = [self.image, kept.kind.onto(list(KINDS)), kept.label.onto(labels)]
        rows = np.nan_to_num(np.column_stack([*names, kept.confidence, kept.box]), nan=-1.0)
        ordered: Floats = rows[np.lexsort(rows.T)]
        return ordered

    def label_counts(self) -> dict[str, int]:
        """Return how often each label was found, as ``kind:label``."""
        kinds, labels = self.kept.kind.values(), self.kept.label.values()
        names = [f"{kind}:{label}" for kind, label in zip(kinds, labels, strict=True)]
        found, counts = np.unique(np.array(names, dtype=object), return_counts=True)
        return dict(zip(found.tolist(), counts.tolist(), strict=True))


def add_kind(figures: Figures, sides: Sequence[RunSide], kind: str) -> None:
    """Add counts and confidences of a kind, and counts of its labels."""
    rows = [side.rows(kind) for side in sides]
    _add_counts(figures, sides, rows, kind)
    certain = [side.confident(r) for side, r in zip(sides, rows, strict=True)]
    every, known = (_each(sides, one) for one in (rows, certain))
    figures.add("findings with a confidence", kind, known, every, shown="share")
    values = [side.kept.confidence[r] for side, r in zip(sides, certain, strict=True)]
    figures.add("mean confidence", kind, _each(sides, certain, values), known, shown="share")
    bins = tuple(side.bins(r) for side, r in zip(sides, certain, strict=True))
    figures.add_distribution("distance of confidences", kind, (bins[0], bins[1]))
    labels = sorted(set(sides[0].labels(kind)) | set(sides[1].labels(kind)))
    for label in labels if len(labels) > 1 else []:
        own = [side.rows(kind, label) for side in sides]
        if max(len(own[0]), len(own[1])) >= _FEW:
            _add_counts(figures, sides, own, f"{kind}:{label}")


def _add_counts(
    figures: Figures, sides: Sequence[RunSide], rows: Sequence[Ints], name: str
) -> None:
    each = _each(sides, rows)
    there = (each[0] > 0).astype(np.float64), (each[1] > 0).astype(np.float64)
    figures.add("images with a finding", name, there, shown="share")
    figures.add("findings per image", name, each, shown="count")


def _each(
    sides: Sequence[RunSide], rows: Sequence[Ints], values: Sequence[Floats] | None = None
) -> tuple[Floats, Floats]:
    given = values or (None, None)
    one, other = (s.by_image(r, v) for s, r, v in zip(sides, rows, given, strict=True))
    return one, other


def add_partners(figures: Figures, sides: Sequence[RunSide], kind: str) -> None:
    """Add how boxes of two runs of the same images lie on each other, and where all of them lie."""
    one, other = sides
    pairs = partners_of(one.table, other.table, kind)
    image = one.table.image.onto(one.names)[pairs.first]
    count = np.bincount(image, minlength=one.images).astype(np.float64)
    boxed = [np.flatnonzero(_boxed(side, kind)) for side in sides]
    every = _each(sides, boxed)
    alone = every[0] - count, every[1] - count
    figures.add("boxes without a partner", kind, alone, every, shown="share")
    for what, moved in pairs.moved(one.table, other.table).items():
        shift = np.bincount(image, moved, minlength=one.images)
        # Half of the shift on either side: exchanging the answers turns its sign.
        figures.add(what, kind, (-shift / 2, shift / 2), (count, count), shown="moved")
    places = [_place(side.kept.box[rows]) for side, rows in zip(sides, boxed, strict=True)]
    for number, what in enumerate(
        ("log area of all boxes", "mean x of all boxes", "mean y of all boxes")
    ):
        values = [place[number] for place in places]
        figures.add(what, kind, _each(sides, boxed, values), every)


def _boxed(side: RunSide, kind: str) -> Any:
    box = side.kept.box
    proper = (box[:, 2] > box[:, 0]) & (box[:, 3] > box[:, 1])
    return side.kept.kind.among([kind]) & proper


def _place(box: Floats) -> tuple[Floats, Floats, Floats]:
    """Return log areas and centres in pixels: a box may move too far to have a partner."""
    wide, high = box[:, 2] - box[:, 0], box[:, 3] - box[:, 1]
    return np.log(wide * high), (box[:, 0] + box[:, 2]) / 2, (box[:, 1] + box[:, 3]) / 2


def add_fields(
    figures: Figures,
    names: Sequence[Sequence[str]],
    fields: Sequence[Mapping[str, frozenset[str]]],
) -> list[str]:
    """Add the share of answers that have a field, for fields that some have and others have not.

    Parameters
    ----------
    fields : sequence of mapping of str to frozenset of str
        Of both runs: by image, the fields of its answers.

    Returns
    -------
    list of str
        The fields that were added, at most 60.
    """
    if not all(fields):
        return []
    asked = [
        np.array([name in known for name in listed], dtype=np.float64)
        for known, listed in zip(fields, names, strict=True)
    ]
    every = [own for known in fields for own in known.values()]
    some = sorted(frozenset().union(*every) - frozenset.intersection(*every))[:_MOST_FIELDS]
    for path in some:
        own = [
            np.array([path in known.get(name, ()) for name in listed], dtype=np.float64)
            for known, listed in zip(fields, names, strict=True)
        ]
        figures.add(
            "answers with a field", path, (own[0], own[1]), (asked[0], asked[1]), shown="share"
        )
    return some


def order_of(sides: Sequence[RunSide], names: Sequence[Sequence[str]], *, paired: bool) -> Ints:
    """Return which exchanges each image gets, by what both runs found in them together.

    Returns
    -------
    ndarray of intp, shape (images,)
        Of different images: those of the first run, then those of the second.
    """
    none = _NOTHING_ANNOTATED
    if paired:
        both = Findings.concat([side.table for side in sides])
        return placed(names[0], places_of_images(names[0], none, both))
    keys = [
        places_of_images(own, none, side.table).keys for side, own in zip(sides, names, strict=True)
    ]
    every = [f"{n}/{name}" for n, own in enumerate(names) for name in own]
    return placed(every, Places(tuple(every), np.vstack(keys)))


def fields_of(answer: Any) -> frozenset[str]:
    """Return the fields of a parsed answer; lists count as one place.

    Returns
    -------
    frozenset of str
        Paths such as ``found[].score``.

    Examples
    --------
    >>> sorted(fields_of({"a": [{"b": 1}]}))
    ['a', 'a[].b']
    """
    return frozenset(_fields(answer))


def _fields(value: Any, path: str = "") -> set[str]:
    if isinstance(value, dict):
        found: set[str] = set()
        for name, inner in value.items():
            here = f"{path}.{name}" if path else str(name)
            found |= {here} | _fields(inner, here)
        return found
    if isinstance(value, list):
        return set().union(*(_fields(inner, f"{path}[]") for inner in value))
    return set()
