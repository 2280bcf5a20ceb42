"""Why a label is wrong or missed in an image, for kinds judged by presence."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from dotledger.core.arrays import Ints
from dotledger.core.pairing.broader import BROAD, NARROW
from dotledger.core.questions.reasons import (
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
    from dotledger.core.pairing.scope import Side
    from dotledger.core.questions.basis import Basis

__all__ = ["PresenceReasons"]


class PresenceReasons(Reasons):
    """Reasons for a kind judged by presence."""

    def __init__(self, basis: Basis, kind: str) -> None:
        super().__init__(basis, kind)
        scope = self.scope
        surest = np.argsort(-scope.confidence, kind="stable")
        self._said_row = _first_rows(scope.said.take(surest))
        self._truth_row = _first_rows(scope.truth)

    def wrong(self) -> list[Case]:
        """Return a case for each unit said that is not annotated."""
        said = self.judged.said
        rows = np.flatnonzero(self.judged.wrong() & self.passes)
        present = _by_image(said.true_image, said.true_label)
        return [
            self._wrong_case(
                int(said.image[r]), int(said.label[r]), float(said.confidence[r]), present
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
        self, image: int, label: int, sure: float, present: dict[int, list[int]]
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
                    return self._unit(image, label, reason, text, sure, row, scope.labels[true])
        return self._unit(image, label, NOTHING, "not annotated in this image", sure, row, "")

    def missed(self) -> list[Case]:
        """Return a case for each unit annotated that was not said."""
        said = self.judged.said
        hits = self.judged.hit
        found = dict(
            zip(
                zip(said.image[hits].tolist(), said.label[hits].tolist(), strict=True),
                hits.tolist(),
                strict=True,
            )
        )
        passing = np.flatnonzero(self.cut.passes(self.findings))
        rows = passing[(self.findings.kind.onto([self.kind])[passing] == 0)]
        images = self.findings.image.onto(self.scope.images)
        said_there = _by_image(images[rows], self.findings.label.codes[rows])
        units = zip(said.true_image.tolist(), said.true_label.tolist(), strict=True)
        return [
            self._missed_case(image, label, found.get((image, label), -1), said_there)
            for image, label in units
            if not ((image, label) in found and self.passes[found[image, label]])
        ]

    def _missed_case(
        self, image: int, label: int, below: int, said_there: dict[int, list[int]]
    ) -> Case:
        row = self._truth_row[image, label]
        if not self.scope.answered[image]:
            return self._unit(image, label, UNANSWERED, NO_ANSWER, math.nan, row, "")
        if below >= 0:
            sure = float(self.judged.said.confidence[below])
            text = f"found, but below the threshold (at {sure:.2f})"
            return self._unit(image, label, BELOW, text, sure, row, "")
        for relation, reason in ((BROAD, BROADER), (NARROW, NARROWER)):
            for code in said_there.get(image, []):
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
