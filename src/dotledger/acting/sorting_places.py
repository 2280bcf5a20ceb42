"""Where each image goes: by its labels, persons, verdict, outcome or review."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np

from dotledger.acting.output_folders import NOBODY, NOTHING, UNDECIDED, UNSEEN, Place
from dotledger.core.kinds import worst_outcome
from dotledger.core.tables.finding_details import plain_name
from dotledger.core.tables.findings_table import Findings

if TYPE_CHECKING:
    from dotledger.core.decisions.verdicts import Decisions
    from dotledger.core.tables.threshold_values import Threshold

__all__ = [
    "places_by_label",
    "places_by_outcome",
    "places_by_person",
    "places_by_review",
    "places_by_verdict",
]


def places_by_label(
    findings: Findings,
    *,
    kind: str | None = None,
    threshold: Threshold = None,
    strongest: bool = False,
    least: float | None = None,
) -> dict[str, list[Place]]:
    """Return the places of each answered image by its labels; an image with two goes to both.

    Parameters
    ----------
    findings : Findings
        With a blank row for what was answered and holds nothing.
    strongest : bool, default False
        Only the strongest finding of each image counts.
    least : float, optional
        With `strongest`: at least this, or the image is undecided.

    Returns
    -------
    dict of str to list of (place, why)
        ``nothing found`` or ``undecided`` where no finding counts.
    """
    if kind is not None:
        findings = findings.take(findings.kind.among([kind]))
    had = set(findings.image.take(~findings.blank).used())
    kept = findings.cut(threshold)
    kept = kept.strongest(1, least=least) if strongest else kept
    best: dict[tuple[str, str], float] = {}
    rows = kept.take(~kept.blank)
    columns = (rows.image.values(), rows.label.values(), rows.confidence)
    for image, label, confidence in zip(*columns, strict=True):
        value = 2.0 if np.isnan(confidence) else float(confidence)
        best[image, label] = max(best.get((image, label), -1.0), value)
    found: dict[str, list[Place]] = {name: [] for name in findings.image.used()}
    for (image, label), value in sorted(best.items()):
        found[image].append((label, "asserted" if value > 1 else f"{value:.2f}"))
    for image, places in found.items():
        if not places:
            places.append((UNDECIDED, "nothing sure enough") if image in had else (NOTHING, ""))
    return found


def places_by_person(
    findings: Findings, *, threshold: Threshold = None, least_similarity: float = 0.0
) -> dict[str, list[Place]]:
    """Return the places of each answered image by the names of its persons; letter case apart.

    Parameters
    ----------
    findings : Findings
        Faces whose details name a person.
    least_similarity : float, default 0
        A name that is less similar counts as none, and so does one without a similarity where any
        is asked for.

    Returns
    -------
    dict of str to list of (place, why)
        ``nobody named`` where faces have no name, ``nothing found`` where there is no face.
    """
    faces = findings.take(findings.kind.among(["face"]))
    kept = faces.cut(threshold)
    spelt: dict[str, str] = {}
    found: dict[str, dict[str, str]] = {name: {} for name in faces.image.used()}
    images = kept.image.values()
    for row in np.flatnonzero(~kept.blank).tolist():
        details = kept.details[row] if kept.details is not None else None
        name, similarity = details.person() if details is not None else ("", None)
        if (0.0 if similarity is None else similarity) < least_similarity:
            name = ""
        place = spelt.setdefault(plain_name(name), " ".join(name.split())) or NOBODY
        why = "" if similarity is None or not name else f"similarity {similarity:.2f}"
        found[images[row]].setdefault(place, why)
    return {image: list(places.items()) or [(NOTHING, "")] for image, places in found.items()}


def places_by_outcome(outcomes: Mapping[str, Mapping[str, str]]) -> dict[str, list[Place]]:
    """Return the place of each image by the outcome; of several kinds the worst.

    Returns
    -------
    dict of str to list of (place, why)
        One place each, with every kind's outcome.
    """
    return {
        image: [
            (
                worst_outcome(kinds.values(), "pending"),
                ", ".join(f"{kind} {outcome}" for kind, outcome in kinds.items()),
            )
        ]
        for image, kinds in outcomes.items()
    }


def places_by_review(
    images: Sequence[str], reviews: Mapping[str, Mapping[str, str]]
) -> dict[str, list[Place]]:
    """Return the places of each image by what persons decided on it.

    Parameters
    ----------
    images : sequence of str
        That were to be reviewed; those without a decision go to ``not reviewed``.
    reviews : mapping of str to mapping of str to str
        By image and reviewer, ``pass`` or ``block``.

    Returns
    -------
    dict of str to list of (place, why)
        ``disagreed`` where two reviewers decided otherwise.
    """
    found: dict[str, list[Place]] = {}
    for image in images:
        mine = reviews.get(image, {})
        words = sorted(set(mine.values()))
        place = words[0] if len(words) == 1 else "disagreed" if words else UNSEEN
        found[image] = [(place, ", ".join(f"{who}: {word}" for who, word in sorted(mine.items())))]
    return found


def places_by_verdict(decisions: Decisions) -> dict[str, list[Place]]:
    """Return the place of each image by its verdict, with the reasons."""
    return {one.image: [(one.verdict, "; ".join(one.reasons))] for one in decisions}
