"""Which annotations two runs find, and in which images that differs."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from dotledger.core.arrays import Flags, Ints
from dotledger.core.comparison.differences import holm, mcnemar
from dotledger.core.comparison.run_alignment import JudgedRun

__all__ = ["FoundBy", "found_by", "image_changes"]


@dataclass(frozen=True, kw_only=True)
class FoundBy:
    """How many annotations two runs find.

    Attributes
    ----------
    both, first_only, second_only, neither : int
        At the thresholds compared.
    p_value : float
        Of McNemar's exact test: how likely at least such a lopsided disagreement is if both are
        equally good. Annotations of one image are taken as independent.
    adjusted : float
        The same, adjusted by Holm's method for how many labels there are.
    """

    both: int
    first_only: int
    second_only: int
    neither: int
    p_value: float
    adjusted: float

    def to_dict(self) -> dict[str, Any]:
        """Return plain values."""
        return dict(vars(self))


def found_by(first: JudgedRun, second: JudgedRun) -> dict[str, FoundBy]:
    """Return what both, one or neither finds, by kind and by ``kind:label``.

    Returns
    -------
    dict of str to FoundBy
        Labels without an annotation are left out; p-values of labels are adjusted together.
    """
    counts: dict[str, tuple[int, int, int, int]] = {}
    for kind, scope in first.basis.scopes.items():
        label, one, other = _found(first, kind), _hit(first, kind), _hit(second, kind)
        counts[kind] = _four(one, other)
        for code, name in enumerate(scope.labels):
            rows = label == code
            if rows.any():
                counts[f"{kind}:{name}"] = _four(one[rows], other[rows])
    values = {name: mcnemar(four[1], four[2]) for name, four in counts.items()}
    labels = [name for name in counts if ":" in name]
    adjusted = dict(zip(labels, holm([values[name] for name in labels]), strict=True))
    return {
        name: FoundBy(
            both=four[0],
            first_only=four[1],
            second_only=four[2],
            neither=four[3],
            p_value=values[name],
            adjusted=adjusted.get(name, values[name]),
        )
        for name, four in counts.items()
    }


def _four(one: Flags, other: Flags) -> tuple[int, int, int, int]:
    return (
        int((one & other).sum()),
        int((one & ~other).sum()),
        int((~one & other).sum()),
        int((~one & ~other).sum()),
    )


def _found(run: JudgedRun, kind: str) -> Ints:
    """Return the label of each countable annotation, in an order all runs share."""
    return run.basis.judged[kind].findings.true_label


def _hit(run: JudgedRun, kind: str) -> Flags:
    """Return which countable annotations are found: ndarray of bool, in the same order."""
    judged, scope = run.basis.judged[kind], run.basis.scopes[kind]
    findings, passes = judged.findings, run.passes[kind]
    hits = judged.hit[passes[judged.hit]]
    if findings.units is not None:
        width = max(findings.labels, 1)
        units = findings.true_image * width + findings.true_label
        return np.isin(units, findings.image[hits] * width + findings.label[hits])
    found = np.zeros(len(scope.ignore), dtype=bool)
    found[judged.annotation[passes[judged.hit]]] = True
    return found[~scope.ignore]


def image_changes(first: JudgedRun, second: JudgedRun) -> list[dict[str, Any]]:
    """Return the images in which two runs differ, the largest changes first.

    Returns
    -------
    list of dict
        ``image``, ``kind``, ``gained`` and ``lost`` (annotations only the second, or only the
        first finds), ``wrong_first``, ``wrong_second``.
    """
    found: list[dict[str, Any]] = []
    for kind, scope in first.basis.scopes.items():
        one, other = _hit(first, kind), _hit(second, kind)
        image = first.basis.judged[kind].findings.true_image
        size = len(scope.images)
        gained = np.bincount(image[other & ~one], minlength=size)
        lost = np.bincount(image[one & ~other], minlength=size)
        wrong = [_wrong(run, kind, size) for run in (first, second)]
        for place in np.flatnonzero((gained > 0) | (lost > 0) | (wrong[0] != wrong[1])):
            found.append(
                {
                    "image": scope.images[place],
                    "kind": kind,
                    "gained": int(gained[place]),
                    "lost": int(lost[place]),
                    "wrong_first": int(wrong[0][place]),
                    "wrong_second": int(wrong[1][place]),
                }
            )
    return sorted(found, key=_size_of_change)


def _size_of_change(row: Mapping[str, Any]) -> tuple[Any, ...]:
    net = row["gained"] - row["lost"]
    wrong = row["wrong_second"] - row["wrong_first"]
    return -abs(net), -abs(wrong), -row["gained"], row["image"], row["kind"]


def _wrong(run: JudgedRun, kind: str, images: int) -> Ints:
    judged = run.basis.judged[kind]
    rows = judged.wrong() & run.passes[kind]
    return np.bincount(judged.findings.image[rows], minlength=images)
