"""Attributes, landmark points and persons' names, judged on true-positive pairs.

Each has a count of its own: pairs that lack either side are not counted.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from dotledger.core.arrays import ratio
from dotledger.core.displays import Displayed
from dotledger.core.measures.measure_rows import defined
from dotledger.core.measures.share_limits import interval_of_cases, share_interval
from dotledger.core.tables.finding_details import (
    NAME,
    Details,
    attribute_list,
    entries_of,
    plain_name,
)

if TYPE_CHECKING:
    import pandas as pd

    from dotledger.core.questions.question_basis import Basis

__all__ = ["AttributeRow", "DetailMeasure", "NameRow", "PointRow", "details_of"]


@dataclass(frozen=True, kw_only=True)
class AttributeRow:
    """One attribute.

    Attributes
    ----------
    judged : {"exact", "tolerance", "range", "set"}
        A choice is right if equal, letter case apart; a number if within the tolerance; a range
        answered if the truth lies in it; a list if it has the same entries.
    pairs, right : int
        Pairs with both sides, and how many of them are right.
    mean_absolute_error : float
        Of numbers; NaN otherwise.
    interval : (float, float)
        Of the share right, 95 %, over images; NaN with fewer than two.
    images : int
        That the pairs are in.
    entries_found, entries_annotated, entries_common : int
        Of lists, over all pairs: entries that the service gave, that are annotated, and both.
    precision_interval, recall_interval : (float, float)
        Of `set_precision` and `set_recall`, 95 %, over images; NaN with fewer than two, and if it
        is not a list.
    """

    judged: str
    pairs: int
    right: int
    mean_absolute_error: float
    interval: tuple[float, float] = (math.nan, math.nan)
    images: int = 0
    entries_found: int = 0
    entries_annotated: int = 0
    entries_common: int = 0
    precision_interval: tuple[float, float] = (math.nan, math.nan)
    recall_interval: tuple[float, float] = (math.nan, math.nan)

    @property
    def share_right(self) -> float:
        """Right / pairs; NaN without pairs."""
        return ratio(self.right, self.pairs)

    @property
    def set_precision(self) -> float:
        """Entries in common / entries found; NaN if none is found, or if it is not a list."""
        return ratio(self.entries_common, self.entries_found)

    @property
    def set_recall(self) -> float:
        """Entries in common / entries annotated; NaN where none is annotated."""
        return ratio(self.entries_common, self.entries_annotated)

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        plain = dict(vars(self))
        for name in ("interval", "precision_interval", "recall_interval"):
            plain[name] = None if math.isnan(plain[name][0]) else list(plain[name])
        shares = ("share_right", "set_precision", "set_recall", "mean_absolute_error")
        return {**plain, **{name: defined(getattr(self, name)) for name in shares}}


@dataclass(frozen=True, kw_only=True)
class PointRow:
    """One landmark point: distance / diagonal of the annotated box.

    Attributes
    ----------
    pairs : int
        With the point on both sides.
    mean_distance, largest_distance : float
        In diagonals; NaN without pairs.
    """

    pairs: int
    mean_distance: float
    largest_distance: float

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        return {name: defined(value) for name, value in vars(self).items()}


@dataclass(frozen=True, kw_only=True)
class NameRow:
    """Persons' names on faces that are annotated with one.

    Attributes
    ----------
    right, wrong, no_name : int
        Compared without regard to letter case.
    """

    right: int
    wrong: int
    no_name: int


@dataclass(frozen=True, kw_only=True, repr=False)
class DetailMeasure(Displayed):
    """Details of one kind.

    Attributes
    ----------
    attributes : mapping of str to AttributeRow
        By attribute that some pair has on both sides.
    points : mapping of str to PointRow
        By landmark that some pair has on both sides.
    names : NameRow or None
        None if no paired annotation has a name.
    """

    attributes: Mapping[str, AttributeRow]
    points: Mapping[str, PointRow]
    names: NameRow | None

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        return {
            "attributes": {name: row.to_dict() for name, row in self.attributes.items()},
            "points": {name: row.to_dict() for name, row in self.points.items()},
            "names": None if self.names is None else dict(vars(self.names)),
        }

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with one row for each attribute, point and for names."""
        import pandas as pd

        columns = ["what", "name", "judged", "pairs", "right", "share_right", "share_right_low"]
        columns += ["share_right_high", "images", "mean_absolute_error"]
        columns += ["mean_distance", "largest_distance", "set_precision", "set_recall"]
        rows: list[dict[str, Any]] = [
            {
                **{n: v for n, v in vars(row).items() if n in columns},
                "set_precision": row.set_precision,
                "set_recall": row.set_recall,
                "what": "attribute",
                "name": name,
                "share_right": row.share_right,
                "share_right_low": row.interval[0],
                "share_right_high": row.interval[1],
            }
            for name, row in self.attributes.items()
        ]
        rows += [{"what": "point", "name": n, **vars(row)} for n, row in self.points.items()]
        if self.names is not None:
            total = self.names.right + self.names.wrong + self.names.no_name
            facts = {"what": "name", "name": NAME, "judged": "exact", "pairs": total}
            share = ratio(self.names.right, total)
            rows.append({**facts, "right": self.names.right, "share_right": share})
        return pd.DataFrame(rows, columns=columns)


def details_of(basis: Basis, kind: str, tolerances: Mapping[str, float]) -> DetailMeasure:
    """Judge what paired findings and annotations have beside label and box.

    Parameters
    ----------
    basis : Basis
        What was compared and judged; pairs at its first overlap and threshold count.
    tolerances : mapping of str to float
        By attribute that is a number: how far off still counts as right.
    """
    pairs = list(_pairs(basis, kind))
    attributes: dict[str, list[tuple[str, bool, float, int]]] = {}
    lists: dict[str, list[tuple[set[str], set[str], int]]] = {}
    points: dict[str, list[float]] = {}
    for found, true, diagonal, image in pairs:
        for name in (found.attributes.keys() & true.attributes.keys()) - {NAME}:
            sides = found.attributes[name], true.attributes[name]
            if any(attribute_list(side) is not None for side in sides):
                lists.setdefault(name, []).append(
                    (entries_of(sides[0]), entries_of(sides[1]), image)
                )
                continue
            judged = judge_attribute(
                found.attributes[name], true.attributes[name], tolerances.get(name, 0.0)
            )
            if judged is not None:
                attributes.setdefault(name, []).append((*judged, image))
        for name in found.points.keys() & true.points.keys():
            distance = math.dist(found.points[name], true.points[name])
            points.setdefault(name, []).append(distance / diagonal)
    return DetailMeasure(
        attributes={
            name: _list_row(lists[name]) if name in lists else _attribute_row(attributes[name])
            for name in sorted({*attributes, *lists})
        },
        points={
            name: PointRow(
                pairs=len(d), mean_distance=math.fsum(d) / len(d), largest_distance=max(d)
            )
            for name, d in sorted(points.items())
        },
        names=_names(pairs),
    )


def _pairs(basis: Basis, kind: str) -> Iterator[tuple[Details, Details, float, int]]:
    """Yield the details of both sides of each pair, the annotated box's diagonal, and its image."""
    findings, annotations = basis.findings, basis.annotations
    if annotations.details is None:
        return
    scope, judged = basis.scopes[kind], basis.judged[kind]
    keep = basis.passing(kind)[judged.hit]
    rows = zip(scope.findings.row[judged.hit[keep]], judged.annotation[keep], strict=True)
    box = scope.annotations.box
    diagonal = np.hypot(box[:, 2] - box[:, 0], box[:, 3] - box[:, 1])
    for row, annotated in rows:
        true = annotations.details[scope.annotations.row[annotated]]
        found = findings.details[row] if findings.details is not None else None
        if true is not None:
            image = int(scope.annotations.image[annotated])
            yield found or Details(), true, float(diagonal[annotated]), image


def judge_attribute(found: Any, true: Any, tolerance: float) -> tuple[str, bool, float] | None:
    """Judge one attribute on one pair.

    Parameters
    ----------
    found : value
        As read from the service: a choice, a number, or a mapping with ``value``, with ``low`` and
        ``high``, or with ``leading``.

    Returns
    -------
    (str, bool, float) or None
        How it was judged, whether it is right, and for numbers the error (else NaN); None if the
        two cannot be compared.
    """
    wanted = _value(true)
    if isinstance(found, Mapping) and "low" in found:
        number = _number(wanted)
        return (
            None if number is None else ("range", found["low"] <= number <= found["high"], math.nan)
        )
    given = _value(found)
    ends = _number(given), _number(wanted)
    if ends[0] is not None and ends[1] is not None:
        error = abs(ends[0] - ends[1])
        return "tolerance", error <= tolerance, error
    return "exact", _text(given) == _text(wanted), math.nan


def _value(attribute: Any) -> Any:
    if isinstance(attribute, Mapping):
        return attribute.get("value", attribute.get("leading"))
    return attribute


def _number(value: Any) -> float | None:
    if isinstance(value, bool):
        return None
    try:
        return float(value)
    except (TypeError, ValueError):
        return None


_TRUTHS = {"yes": "true", "no": "false"}


def _text(value: Any) -> str:
    text = str(value).strip().casefold()
    return _TRUTHS.get(text, text)


def _attribute_row(judged: list[tuple[str, bool, float, int]]) -> AttributeRow:
    errors = [error for _, _, error, _ in judged if not math.isnan(error)]
    images = [image for *_, image in judged]
    return AttributeRow(
        judged=judged[0][0],
        pairs=len(judged),
        right=sum(right for _, right, _, _ in judged),
        mean_absolute_error=ratio(math.fsum(errors), len(errors)),
        interval=interval_of_cases(images, [right for _, right, _, _ in judged]),
        images=len(set(images)),
    )


def _list_row(judged: list[tuple[set[str], set[str], int]]) -> AttributeRow:
    images = [image for *_, image in judged]
    common = [len(found & true) for found, true, _ in judged]
    found, true = [len(one) for one, _, _ in judged], [len(other) for _, other, _ in judged]
    _, place = np.unique(np.asarray(images), return_inverse=True)
    x, of_found, of_true = (np.bincount(place, one) for one in (common, found, true))
    return AttributeRow(
        judged="set",
        pairs=len(judged),
        right=sum(found == true for found, true, _ in judged),
        mean_absolute_error=math.nan,
        interval=interval_of_cases(images, [found == true for found, true, _ in judged]),
        images=len(set(images)),
        entries_found=sum(found),
        entries_annotated=sum(true),
        entries_common=sum(common),
        precision_interval=share_interval(x, of_found),
        recall_interval=share_interval(x, of_true),
    )


def _names(pairs: list[tuple[Details, Details, float, int]]) -> NameRow | None:
    """Compare names where one is annotated."""
    verdicts = [
        (_person(found.attributes.get(NAME)), _person(true.attributes[NAME]))
        for found, true, _, _ in pairs
        if _person(true.attributes.get(NAME))
    ]
    if not verdicts:
        return None
    right = sum(found == true for found, true in verdicts)
    none = sum(not found for found, _ in verdicts)
    return NameRow(right=right, wrong=len(verdicts) - right - none, no_name=none)


def _person(value: Any) -> str:
    """Return a person's name for comparing; empty if there is none."""
    name = value.get(NAME, "") if isinstance(value, Mapping) else value
    return "" if name is None else plain_name(str(name))
