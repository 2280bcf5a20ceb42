"""Why a label is wrong or missed in an image, for kinds judged by presence."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from dotledger.core.arrays import Ints
from dotledger.core.pairing.label_hierarchy import BROAD, NARROW
from dotledger.core.questions.error_reasons import (
    BELOW,
    BROADER,
    NARROWER,
    NO_ANSWER,
    NOTHING,
    UNANSWERED,
    UNSEEN,
    Case,
    Reasons,
)

if TYPE_CHECKING:
    from dotledger.core.pairing.measure_scope import Side
    from dotledger.core.questions.question_basis import Basis

__all__ = ["PresenceReasons"]


class PresenceReasons(Reasons):
    """Reasons for a kind judged by presence."""

    def __init__(self, basis: Basis, kind: str) -> None:
        super().__init__(basis, kind)
        scope = self.scope
        surest = np.argsort(-scope.confidence, kind="stable")
        self._said_row = _first_rows(scope.findings.take(surest))
        self._truth_row = _first_rows(scope.annotations)

    def wrong(self) -> list[Case]:
        """Return a case for each unit found that is not annotated."""
        findings = self.judged.findings
        rows = np.flatnonzero(self.judged.wrong() & self.passes)
        present = _by_image(findings.true_image, findings.true_label)
        return [
            self._wrong_case(
                int(findings.image[r]),
                int(findings.label[r]),
                float(findings.confidence[r]),
                present,
            )
            for r in rows
        ]

    def _unit(
        self,
        image: int,
        label: int,
        reason: str,
        about: str,
        confidence: float,
        row: int,
        other: str,
    ) -> Case:
        return Case(
            image=self.scope.images[image],
            kind=self.kind,
            label=self.scope.labels[label],
            reason=reason,
            about=about,
            confidence=confidence,
            other=other,
            overlap=math.nan,
            row=row,
            box=(math.nan,) * 4,
        )

    def _wrong_case(
        self, image: int, label: int, confidence: float, present: dict[int, list[int]]
    ) -> Case:
        scope = self.scope
        name = scope.labels[label]
        row = self._said_row[image, label]
        mine = self.names.index(name)
        for relation, reason, about in (
            (BROAD, BROADER, "the annotation says {}, more exactly"),
            (NARROW, NARROWER, "the annotation says only {}"),
        ):
            for true in present.get(image, []):
                if self.relation[mine, true] == relation:
                    text = about.format(scope.labels[true])
                    return self._unit(
                        image, label, reason, text, confidence, row, scope.labels[true]
                    )
        return self._unit(image, label, NOTHING, "not annotated in this image", confidence, row, "")

    def missed(self) -> list[Case]:
        """Return a case for each unit annotated that was not found."""
        findings = self.judged.findings
        hits = self.judged.hit
        found = dict(
            zip(
                zip(findings.image[hits].tolist(), findings.label[hits].tolist(), strict=True),
                hits.tolist(),
                strict=True,
            )
        )
        passing = np.flatnonzero(self.cut.passes(self.findings))
        rows = passing[(self.findings.kind.onto([self.kind])[passing] == 0)]
        images = self.findings.image.onto(self.scope.images)
        found_there = _by_image(images[rows], self.findings.label.codes[rows])
        units = zip(findings.true_image.tolist(), findings.true_label.tolist(), strict=True)
        return [
            self._missed_case(image, label, found.get((image, label), -1), found_there)
            for image, label in units
            if not ((image, label) in found and self.passes[found[image, label]])
        ]

    def _missed_case(
        self, image: int, label: int, below: int, found_there: dict[int, list[int]]
    ) -> Case:
        row = self._truth_row[image, label]
        if not self.scope.answered[image]:
            return self._unit(image, label, UNANSWERED, NO_ANSWER, math.nan, row, "")
        if below >= 0:
            confidence = float(self.judged.findings.confidence[below])
            text = f"found, but below the threshold (at {confidence:.2f})"
            return self._unit(image, label, BELOW, text, confidence, row, "")
        for relation, reason in ((BROAD, BROADER), (NARROW, NARROWER)):
            for code in found_there.get(image, []):
                if self.relation[code, label] == relation:
                    name = self.names[code]
                    text = f"found as {name}"
                    return self._unit(image, label, reason, text, math.nan, row, name)
        return self._unit(image, label, UNSEEN, "not found in this image", math.nan, row, "")


def _first_rows(side: Side) -> dict[tuple[int, int], int]:
    """Return the first row of each pair of image and label."""
    rows: dict[tuple[int, int], int] = {}
    for image, label, row in zip(
        side.image.tolist(), side.label.tolist(), side.row.tolist(), strict=True
    ):
        rows.setdefault((image, label), row)
    return rows


def _by_image(images: Ints, values: Ints) -> dict[int, list[int]]:
    """Return values by image, sorted."""
    found: dict[int, list[int]] = {}
    for image, value in sorted(zip(images.tolist(), values.tolist(), strict=True)):
        found.setdefault(image, []).append(value)
    return found
