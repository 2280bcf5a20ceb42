"""What must come out for single images."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from dotledger.core.kinds import KINDS, VERDICTS
from dotledger.core.spelling import nearest
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.threshold_values import Threshold
from dotledger.errors import ArgumentError

__all__ = ["Expectation", "Unmet", "expectations_from", "unmet_expectations"]


@dataclass(frozen=True, kw_only=True)
class Expectation:
    """How many findings one image must have, or which verdict.

    Attributes
    ----------
    image, kind : str
        Which; every expectation names both, but for a verdict no kind.
    label : str
        Empty for any.
    at_least : int
        0 or more.
    at_most : int or None
        0 for "none at all"; None for no limit.
    verdict : str
        ``pass``, ``hold`` or ``block``, instead of kind and counts.
    reason : str
        Why it matters, shown where it fails.
    """

    image: str
    kind: str = ""
    label: str = ""
    at_least: int = 0
    at_most: int | None = None
    verdict: str = ""
    reason: str = ""

    def __post_init__(self) -> None:
        """Raise ArgumentError for what nothing could meet, or everything would."""
        place = f"expectation for {self.image}"
        if self.verdict:
            self._check_verdict(place)
            return
        if self.kind not in KINDS:
            raise ArgumentError("unknown kind", place=place, got=self.kind, allowed=KINDS)
        if self.at_least < 0 or (self.at_most is not None and self.at_most < self.at_least):
            raise ArgumentError(
                "at_least and at_most contradict each other",
                place=place,
                got=f"{self.at_least} to {self.at_most}",
                allowed=["0 or more, at_most not below at_least"],
            )
        if self.at_least == 0 and self.at_most is None:
            raise ArgumentError(
                "nothing is expected",
                place=place,
                got=self.what,
                allowed=["at_least = 1", "at_most = 0"],
            )

    def _check_verdict(self, place: str) -> None:
        if self.verdict not in VERDICTS:
            raise ArgumentError("unknown verdict", place=place, got=self.verdict, allowed=VERDICTS)
        if self.kind or self.label or self.at_least or self.at_most is not None:
            raise ArgumentError(
                "a verdict is expected of the whole image", place=place, got=self.what
            )

    @property
    def what(self) -> str:
        """In words: ``object lantern``."""
        if self.verdict and not self.kind:
            return "verdict"
        return f"{self.kind} {self.label}".strip()

    @property
    def wanted(self) -> str:
        """In words: ``at least 2``."""
        if self.verdict:
            return self.verdict
        if self.at_most is None:
            return f"at least {self.at_least}"
        if self.at_least == 0:
            return "none" if self.at_most == 0 else f"at most {self.at_most}"
        same = self.at_least == self.at_most
        return f"{self.at_least}" if same else f"{self.at_least} to {self.at_most}"


@dataclass(frozen=True, kw_only=True)
class Unmet:
    """An expectation that is not met.

    Attributes
    ----------
    expectation : Expectation
        What was expected.
    found : int or None
        How many were found; None if the image has no answer for that kind.
    message : str
        What came in its place, and what the threshold cut.
    """

    expectation: Expectation
    found: int | None
    message: str

    def to_dict(self) -> dict[str, Any]:
        """Return plain values."""
        return {**vars(self.expectation), "found": self.found, "message": self.message}


def unmet_expectations(
    findings: Findings,
    expectations: Iterable[Expectation],
    *,
    threshold: Threshold = None,
    verdicts: Mapping[str, str] | None = None,
) -> list[Unmet]:
    """Return the expectations that findings do not meet.

    Parameters
    ----------
    findings : Findings
        With every image that was answered.
    verdicts : mapping of str to str, optional
        By image, where a verdict is expected.

    Returns
    -------
    list of Unmet
        In the order given; empty if all are met. An image without an answer meets none.

    Raises
    ------
    ArgumentError
        If a verdict is expected and there are none.
    """
    images, kinds, labels = (
        column.values().tolist() for column in (findings.image, findings.kind, findings.label)
    )
    kept = findings.cut(threshold)
    passing = Counter(
        zip(kept.image.values(), kept.kind.values(), kept.label.values(), strict=True)
    )
    rows: dict[tuple[str, str], list[int]] = {}
    for row, (image, kind) in enumerate(zip(images, kinds, strict=True)):
        rows.setdefault((image, kind), []).append(row)
    found = []
    for one in expectations:
        if one.verdict:
            found += _unmet_verdict(one, verdicts)
            continue
        here = rows.get((one.image, one.kind))
        if here is None:
            near = nearest(one.image, findings.image.used())
            hint = f"; did you mean {near[0]!r}?" if near and near[0] != one.image else ""
            message = f"no answer for this image and kind{hint}"
            found.append(Unmet(expectation=one, found=None, message=message))
            continue
        names = {labels[row] for row in here if labels[row]}
        wanted = [one.label] if one.label else sorted(names)
        count = sum(passing[one.image, one.kind, name] for name in wanted)
        if count < one.at_least or (one.at_most is not None and count > one.at_most):
            message = _message(findings, one, here, count)
            found.append(Unmet(expectation=one, found=count, message=message))
    return found


def _unmet_verdict(one: Expectation, verdicts: Mapping[str, str] | None) -> list[Unmet]:
    if verdicts is None:
        raise ArgumentError(
            "a verdict is expected, and there are no rules",
            place=f"expectation for {one.image}",
            got=one.verdict,
            next_step="Name a rules file: rules = 'rules.toml'.",
        )
    given = verdicts.get(one.image)
    if given == one.verdict:
        return []
    why = f"; {one.reason}" if one.reason else ""
    message = f"{given or 'no answer'}, {one.verdict} expected{why}"
    return [Unmet(expectation=one, found=None, message=message)]


def _message(findings: Findings, one: Expectation, rows: Sequence[int], count: int) -> str:
    labels = findings.label.take(np.asarray(rows)).values()
    mine = [r for r, name in zip(rows, labels, strict=True) if name and name == (one.label or name)]
    confidences = sorted(
        (math.inf if math.isnan(c) else c for c in findings.confidence[mine].tolist()), reverse=True
    )
    shown = ", ".join("asserted" if c == math.inf else f"{c:.2f}" for c in confidences[:5])
    cut = len(mine) - count
    tail = f"; {cut} more below the threshold" if cut > 0 else ""
    listed = f" (confidences {shown})" if shown else ""
    why = f"; {one.reason}" if one.reason else ""
    return f"{count} found, {one.wanted} expected{listed}{tail}{why}"


def expectations_from(annotations: Annotations, *, nothing_else: bool = False) -> list[Expectation]:
    """Return what annotations expect of each image: as many of each label as are annotated.

    Parameters
    ----------
    nothing_else : bool, default False
        Also that labels of the vocabulary that are not annotated in an image are not found there;
        labels with ignored annotations are left open.
    """
    counts: Counter[tuple[str, str, str]] = Counter()
    open_to: set[tuple[str, str, str]] = set()
    columns = (annotations.image, annotations.kind, annotations.label)
    values = [column.values().tolist() for column in columns]
    for image, kind, label, ignore in zip(*values, annotations.ignore.tolist(), strict=True):
        if not label:
            continue
        if ignore:
            open_to.add((image, kind, label))
        else:
            counts[image, kind, label] += 1
    presence = {kind for kind, one in KINDS.items() if one.judged == "presence"}
    found = [
        Expectation(image=i, kind=k, label=n, at_least=1 if k in presence else count)
        for (i, k, n), count in sorted(counts.items())
        if KINDS[k].judged != "carried"
    ]
    if nothing_else:
        found += _absent(annotations, {*counts, *open_to})
    return found


def _absent(annotations: Annotations, there: set[tuple[str, str, str]]) -> list[Expectation]:
    kinds = {*annotations.kind.used(), *annotations.vocabulary} - {""}
    wanted: Mapping[str, tuple[str, ...]] = {
        kind: annotations.labels(kind) for kind in kinds if KINDS[kind].judged != "carried"
    }
    return [
        Expectation(image=image, kind=kind, label=label, at_most=0)
        for kind, labels in sorted(wanted.items())
        for image in sorted(annotations.covered(kind))
        for label in labels
        if (image, kind, label) not in there
    ]
