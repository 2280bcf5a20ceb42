"""Findings of several services as one run.

Boxes of one label in one image that overlap are taken for one thing: they are visited by falling
confidence, each joins the group whose mean box it overlaps most, and a group holds one finding of
each service (R. Solovyev, W. Wang and T. Gabruseva, "Weighted boxes fusion", 2021).
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from dotledger.core.arguments import check_overlap, real_number, whole_number
from dotledger.core.boxes.box_overlap import overlap as overlap_of
from dotledger.core.comparison.common_images import on_common_images
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.table_inputs import as_findings
from dotledger.core.tables.table_origin import Origin
from dotledger.errors import ArgumentError, ScopeError

__all__ = ["CONFIDENCES", "combine"]

CONFIDENCES = ("mean", "highest")
"""How the confidence of something that several services found is made."""


@dataclass
class _Group:
    """One thing, while findings join it."""

    box: Any
    weight: float
    services: dict[int, float]


def combine(
    tables: Mapping[str, Findings],
    *,
    least: int = 1,
    overlap: float = 0.5,
    confidence: str = "mean",
    weights: Mapping[str, float] | None = None,
) -> Findings:
    """Return the findings of several services as one table, to be measured like any other.

    Only images that all of them answered are kept, for each kind. Attributes and points are left
    out: they belong to one service's finding.

    Parameters
    ----------
    tables : mapping of str to Findings
        By name of the service; one label must mean the same in all.
    least : int, default 1
        How many services must have found something; 1 for any, as many as there are for all.
    overlap : float, default 0.5
        From which overlap on two boxes of a label are one thing.
    confidence : {"mean", "highest"}
        The mean over all services, where one that did not find it counts as 0; or the highest. Map
        confidences first (`ConfidenceMap`): one service's 0.9 is not another's.
    weights : mapping of str to float, optional
        By service, above 0: how much its boxes and confidences count; by default all alike.

    Returns
    -------
    Findings
        A finding without a confidence counts as 1 in a mean; where all are without, so is the
        result.

    Raises
    ------
    ArgumentError
        If an argument is out of range, or a weight names no table.
    ScopeError
        If no image was answered by all.

    Examples
    --------
    >>> import dotledger
    >>> found = dotledger.read_findings("found.csv")
    >>> both = dotledger.combine({"one": found, "other": found}, least=2)
    >>> len(both.image.used()) == len(found.image.used())
    True
    """
    if not isinstance(tables, Mapping):
        raise ArgumentError(
            "not findings by name", place="tables", got=tables, allowed=["{name: findings, ...}"]
        )
    tables = {name: as_findings(one, place=f"tables: {name}") for name, one in tables.items()}
    if not tables:
        raise ArgumentError("no findings to combine", place="tables", got=0)
    least = whole_number(least, place="least", least=1, most=len(tables))
    overlap = check_overlap(overlap)
    if confidence not in CONFIDENCES:
        raise ArgumentError("unknown way", place="confidence", got=confidence, allowed=CONFIDENCES)
    share = _weights(tables, weights or {})
    common = on_common_images(list(tables.values()))
    if not any(len(table) for table in common):
        raise ScopeError("no image was answered by all services", place="combine")
    rows: list[tuple[str, str, str, float, Any]] = []
    for image, kind, label, cases in _cases(common):
        if not label:
            rows.append((image, kind, "", math.nan, _NO_BOX))
            continue
        for group in _groups(cases, share, overlap):
            if len(group.services) >= least:
                value = _confidence(group, share, confidence)
                rows.append((image, kind, label, value, group.box))
    origin = Origin(service=" and ".join(tables))
    return _table(_without_needless_blanks(rows), origin)


_NO_BOX = np.full(4, math.nan)


def _weights(tables: Mapping[str, Any], given: Mapping[str, float]) -> list[float]:
    for name, value in given.items():
        if name not in tables:
            raise ArgumentError(
                "a weight names no service", place="weights", got=name, allowed=list(tables)
            )
        if not real_number(value, place=f"weights: {name}") > 0:
            raise ArgumentError(
                "out of range", place=f"weights: {name}", got=value, allowed=["above 0"]
            )
    return [float(given.get(name, 1.0)) for name in tables]


def _cases(tables: Sequence[Findings]) -> Iterator[tuple[str, str, str, list[Any]]]:
    """Yield image, kind and label with (service, confidence, box) of each finding of them.

    Every answered image and kind comes once with an empty label.
    """
    found: dict[tuple[str, str, str], list[Any]] = {}
    for service, table in enumerate(tables):
        columns = (table.image.values(), table.kind.values(), table.label.values())
        for row, (image, kind, label) in enumerate(zip(*columns, strict=True)):
            found.setdefault((image, kind, ""), [])
            if label:
                case = (service, float(table.confidence[row]), table.box[row])
                found.setdefault((image, kind, label), []).append(case)
    for (image, kind, label), cases in found.items():
        yield image, kind, label, cases


def _groups(cases: Sequence[Any], share: Sequence[float], required: float) -> list[_Group]:
    """Return groups of what is taken for one thing."""
    order = sorted(cases, key=_visiting)
    groups: list[_Group] = []
    for service, confidence, box in order:
        known = 1.0 if math.isnan(confidence) else confidence
        weight = max(known, 1e-9) * share[service]
        joined = _joined(groups, service, box, required)
        if joined is None:
            groups.append(_Group(box=box.copy(), weight=weight, services={service: confidence}))
            continue
        total = joined.weight + weight
        joined.box = (joined.box * joined.weight + box * weight) / total
        joined.weight = total
        joined.services[service] = confidence
    return groups


def _visiting(case: Any) -> tuple[Any, ...]:
    service, confidence, box = case
    first = math.inf if math.isnan(confidence) else confidence
    return (-first, *np.nan_to_num(box, nan=-1.0).tolist(), service)


def _joined(groups: Sequence[_Group], service: int, box: Any, required: float) -> _Group | None:
    """Return the group that a finding belongs to: that with the greatest overlap, if any."""
    open_to = [group for group in groups if service not in group.services]
    if np.isnan(box[0]):
        return next((group for group in open_to if np.isnan(group.box[0])), None)
    boxed = [group for group in open_to if not np.isnan(group.box[0])]
    if not boxed:
        return None
    overlaps = np.round(overlap_of(box, np.stack([group.box for group in boxed])), 9)
    best = int(np.argmax(overlaps))
    return boxed[best] if overlaps[best] >= round(required, 9) else None


def _confidence(group: _Group, share: Sequence[float], how: str) -> float:
    values = group.services
    if all(math.isnan(value) for value in values.values()):
        return math.nan
    known = {service: 1.0 if math.isnan(v) else v for service, v in values.items()}
    if how == "highest":
        return max(known.values())
    return sum(share[service] * value for service, value in known.items()) / sum(share)


def _without_needless_blanks(rows: Sequence[Any]) -> list[Any]:
    """Return the rows without the blank ones of images and kinds in which something was kept."""
    held = {row[:2] for row in rows if row[2]}
    return [row for row in rows if row[2] or row[:2] not in held]


def _table(rows: Sequence[Any], origin: Origin) -> Findings:
    boxes = np.stack([row[4] for row in rows]) if rows else np.zeros((0, 4))
    x0, y0, x1, y1 = boxes.T
    made = Findings.from_columns(
        image=[row[0] for row in rows],
        kind=[row[1] for row in rows],
        label=[row[2] for row in rows],
        confidence=[row[3] for row in rows],
        x0=x0,
        y0=y0,
        x1=x1,
        y1=y1,
    )
    return replace(made, origin=origin)
