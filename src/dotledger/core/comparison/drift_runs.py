"""Two runs side by side, made ready for exchanging their answers: figures, facts, labels."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from dotledger.core.arrays import Ints
from dotledger.core.comparison.drift_figures import (
    RunSide,
    add_fields,
    add_kind,
    add_partners,
    order_of,
)
from dotledger.core.comparison.exchanged_figures import Figures
from dotledger.core.kinds import KINDS
from dotledger.core.tables.findings_table import Findings
from dotledger.errors import ScopeError

__all__ = ["ComparedRuns", "DriftPart", "RunFacts", "compare_runs"]


@dataclass(frozen=True, kw_only=True)
class RunFacts:
    """What a ledger knows about a run, apart from its findings.

    Attributes
    ----------
    asked : sequence of str
        Images that were to be sent: those without any answer are failed, refused, unread or
        pending.
    seconds : sequence of float
        How long each call took.
    fields : mapping of str to frozenset of str
        By image, the fields of its raw answers: see `fields_of`.
    versions : mapping of str to int
        What the service said of its own version, with the calls in which it did.
    settings : mapping of str to str
        Of the description.
    service : str
        Its name.
    described_as : str
        A digest of the description; two runs of one service may have had different ones.
    """

    asked: Sequence[str] = ()
    seconds: Sequence[float] = ()
    fields: Mapping[str, frozenset[str]] = field(default_factory=dict)
    versions: Mapping[str, int] = field(default_factory=dict)
    settings: Mapping[str, str] = field(default_factory=dict)
    service: str = ""
    described_as: str = ""


@dataclass(frozen=True, eq=False)
class DriftPart:
    """Figures of one unit (images, images asked for, calls), and which exchange each unit gets."""

    figures: Figures
    order: Ints


@dataclass(frozen=True, eq=False, kw_only=True)
class ComparedRuns:
    """Two runs, ready to be compared by exchanging.

    Attributes
    ----------
    images : (int, int)
        Looked at in each run.
    paired : bool
        Whether they are the same images.
    parts : tuple of DriftPart
        All figures; those of images first.
    listed : tuple of str
        Fields of answers that are looked at.
    same : bool
        Whether both runs have the same labels, confidences and boxes on the same images.
    came, went : dict of str to int
        Labels, as ``kind:label``, that only the second or only the first run has, with how often.
    known : tuple of str
        What is known to have changed, in words.
    notes : tuple of str
        What was left out.
    """

    images: tuple[int, int]
    paired: bool
    parts: tuple[DriftPart, ...]
    listed: tuple[str, ...]
    same: bool
    came: Mapping[str, int]
    went: Mapping[str, int]
    known: tuple[str, ...]
    notes: tuple[str, ...]


def compare_runs(
    first: Findings, second: Findings, facts: tuple[RunFacts, RunFacts] | None = None
) -> ComparedRuns:
    """Return two runs, ready to be compared.

    Parameters
    ----------
    first, second : Findings
        With a blank row for every image that was answered and holds nothing. If at least half of
        the images are the same, only those are looked at.
    facts : pair of RunFacts, optional
        What a ledger knows of both.

    Raises
    ------
    ScopeError
        If one of the runs has no image.
    """
    told = facts or (RunFacts(), RunFacts())
    answered = [sorted(table.image.used()) for table in (first, second)]
    if not answered[0] or not answered[1]:
        raise ScopeError("a run without images cannot be compared", place="drift")
    same = sorted(set(answered[0]) & set(answered[1]))
    paired = 2 * len(same) >= min(len(answered[0]), len(answered[1]))
    names = [same, same] if paired else answered
    sides = [RunSide(t, n) for t, n in zip((first, second), names, strict=True)]
    figures = Figures((len(names[0]), len(names[1])), paired=paired)
    for kind in sorted(set(sides[0].kinds) | set(sides[1].kinds)):
        add_kind(figures, sides, kind)
        if paired and KINDS[kind].judged == "boxes":
            add_partners(figures, sides, kind)
    listed = add_fields(figures, names, [facts.fields for facts in told])
    of_images = DriftPart(figures, order_of(sides, names, paired=paired))
    counts = [side.label_counts() for side in sides]
    return ComparedRuns(
        images=(len(names[0]), len(names[1])),
        paired=paired,
        parts=(of_images, *_of_calls(answered, told)),
        listed=tuple(listed),
        same=paired and _are_equal(sides),
        came={name: n for name, n in counts[1].items() if name not in counts[0]},
        went={name: n for name, n in counts[0].items() if name not in counts[1]},
        known=_known(told),
        notes=tuple(_left_out(answered, names, paired=paired)),
    )


def _are_equal(sides: Sequence[RunSide]) -> bool:
    """Tell whether two runs of the same images have the same labels, confidences and boxes."""
    labels = sorted({name for side in sides for name in side.kept.label.used()})
    one, other = (side.sorted_rows(labels) for side in sides)
    return np.array_equal(one, other)


def _of_calls(
    answered: Sequence[Sequence[str]], told: tuple[RunFacts, RunFacts]
) -> list[DriftPart]:
    """Return figures of what has other units: images asked for, and calls."""
    found = []
    asked = [sorted(set(facts.asked)) for facts in told]
    if all(asked):
        same = asked[0] == asked[1]
        figures = Figures((len(asked[0]), len(asked[1])), paired=same)
        done = [
            np.isin(np.array(own, dtype=object), np.array(list(names), dtype=object))
            for own, names in zip(asked, answered, strict=True)
        ]
        one, other = (side.astype(np.float64) for side in done)
        figures.add("images with an answer", "all", (one, other), shown="share")
        found.append(DriftPart(figures, np.arange(len(one) if same else len(one) + len(other))))
    if all(len(facts.seconds) > 1 for facts in told):
        times = [np.log(np.maximum(facts.seconds, 1e-3)) for facts in told]
        figures = Figures((len(times[0]), len(times[1])), paired=False)
        figures.add("typical seconds of a call", "all", (times[0], times[1]), shown="logarithm")
        found.append(DriftPart(figures, np.arange(sum(map(len, times)))))
    return found


def _known(told: tuple[RunFacts, RunFacts]) -> tuple[str, ...]:
    one, other = told
    found = []
    if one.service != other.service:
        found.append(f"The service: {one.service}, then {other.service}.")
    if set(one.versions) != set(other.versions):
        found.append(
            f"The service's version: {_listed(one.versions)}, then {_listed(other.versions)}."
        )
    for name in sorted({*one.settings, *other.settings}):
        before, after = one.settings.get(name, "none"), other.settings.get(name, "none")
        if before != after:
            found.append(f"The setting {name}: {before}, then {after}.")
    if not found and one.described_as != other.described_as:
        found.append("The description of the service is not the same in both runs.")
    return tuple(found)


def _listed(names: Iterable[str]) -> str:
    return ", ".join(sorted(names)) or "not said"


def _left_out(
    answered: Sequence[Sequence[str]], names: Sequence[Sequence[str]], *, paired: bool
) -> list[str]:
    if not paired:
        return [
            "The two runs are of different images: what changed may be the images, not the service."
        ]
    left = sum(len(every) - len(kept) for every, kept in zip(answered, names, strict=True))
    return [f"{left} images that only one run answered were left out."] if left else []
