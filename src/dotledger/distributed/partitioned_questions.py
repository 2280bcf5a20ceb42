"""What is asked of a measure in parts, and what must be known of all parts before one is judged.

A finding is judged against the labels that are annotated anywhere, not only next to it; a threshold
may name what one part alone holds.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from dotledger.core.arguments import MOST_DRAWS, MOST_SEED, whole_number
from dotledger.core.arrays import Ints
from dotledger.core.measurement.measure_arguments import (
    checked_overlaps,
    thresholds_asked,
    wanted_kinds,
)
from dotledger.core.measures.resampling import Resampling
from dotledger.core.pairing.label_hierarchy import Broader
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.name_codes import Coded
from dotledger.core.tables.table_origin import Origin
from dotledger.core.tables.threshold_values import Threshold
from dotledger.errors import TableError

__all__ = ["PartFacts", "PartRequest", "Sets", "facts_of", "request_of", "united"]


@dataclass(frozen=True, kw_only=True)
class PartFacts:
    """What must be known of all parts before one is judged.

    Attributes
    ----------
    labels : mapping of str to frozenset of str
        By kind, the labels declared or annotated.
    declared : frozenset of str
        Kinds that some part declares labels for.
    kinds : frozenset of str
        Kinds that are annotated, or declared.
    found : frozenset of str
        Labels of findings; only looked for where a threshold names some.
    columns : frozenset of str
        What annotations and images can be sliced by.
    image_columns : frozenset of str
        Those of images.
    origins : tuple of Origin
        Of the findings, each that differs in more than what was cut once.
    """

    labels: Mapping[str, frozenset[str]] = field(default_factory=dict)
    declared: frozenset[str] = frozenset()
    kinds: frozenset[str] = frozenset()
    found: frozenset[str] = frozenset()
    columns: frozenset[str] = frozenset()
    image_columns: frozenset[str] = frozenset()
    origins: tuple[Origin, ...] = ()

    def plus(self, other: PartFacts) -> PartFacts:
        """Return what is known of both."""
        return PartFacts(
            labels=united(self.labels, other.labels),
            declared=self.declared | other.declared,
            kinds=self.kinds | other.kinds,
            found=self.found | other.found,
            columns=self.columns | other.columns,
            image_columns=self.image_columns | other.image_columns,
            origins=(*self.origins, *(o for o in other.origins if o not in self.origins)),
        )


Sets = Mapping[str, frozenset[str]]


def united(some: Sets, more: Sets) -> dict[str, frozenset[str]]:
    """Return by name what either has."""
    nothing: frozenset[str] = frozenset()
    return {n: some.get(n, nothing) | more.get(n, nothing) for n in {**some, **more}}


def facts_of(annotations: Annotations, found: Iterable[str], origin: Origin | None) -> PartFacts:
    """Return what one part adds to what is known of all.

    Parameters
    ----------
    found : iterable of str
        Labels of its findings; they are needed only where a threshold names some.

    Returns
    -------
    PartFacts
        To be added up with `PartFacts.plus`.
    """
    kinds = {*annotations.kind.used(), *annotations.vocabulary} - {""}
    of_images = {name for facts in annotations.images.values() for name in facts}
    own = {n for d in annotations.details or () if d is not None for n in d.attributes}
    return PartFacts(
        labels={kind: frozenset(annotations.labels(kind)) for kind in kinds},
        declared=frozenset(annotations.vocabulary),
        kinds=frozenset(kinds),
        found=frozenset(found),
        columns=frozenset(of_images | own),
        image_columns=frozenset(of_images),
        origins=() if origin is None else (replace(origin, cut=()),),
    )


@dataclass(frozen=True, kw_only=True)
class PartRequest:
    """What is asked of every part: arguments that are checked, and what is known of all parts.

    Attributes
    ----------
    facts : PartFacts
        Of all parts.
    kinds : tuple of str
        To be judged.
    every : bool
        Whether those are all that are annotated.
    overlaps, cuts : tuple
        Required overlaps and thresholds.
    count_unanswered : bool
        Whether images without an answer count.
    broader : mapping of str to tuple of str
        Broader labels that were given.
    floor : float or None
        The lowest confidence known.
    resampling : Resampling
        Of the intervals.
    """

    facts: PartFacts
    kinds: tuple[str, ...]
    every: bool
    overlaps: tuple[float, ...]
    cuts: tuple[Any, ...]
    count_unanswered: bool
    broader: Mapping[str, tuple[str, ...]]
    floor: float | None
    resampling: Resampling


def request_of(
    facts: PartFacts,
    *,
    overlap: float | Sequence[float] = 0.5,
    threshold: Threshold | Sequence[float] = None,
    kinds: Iterable[str] | None = None,
    count_unanswered: bool = False,
    broader: Broader | None = None,
    floor: float | None = None,
    words: Mapping[str, float] | None = None,
    draws: int = 1000,
    seed: int = 0,
) -> PartRequest:
    """Check what is asked, by what is known of all parts.

    Parameters
    ----------
    overlap, threshold, kinds, count_unanswered, broader, floor, words, draws, seed
        As `measure` takes them.

    Returns
    -------
    PartRequest
        To be given to `part_of` and `measured`.

    Raises
    ------
    ArgumentError
        If an argument is out of range.
    TableError
        If the parts are findings of different services or with different floors.
    """
    origin = _one_origin(facts.origins)
    floor = origin.floor if floor is None else floor
    named = _only_names(facts)
    cuts = thresholds_asked(threshold, *named, {**origin.words, **(words or {})}, floor)
    return PartRequest(
        facts=facts,
        kinds=wanted_kinds(named[1], kinds),
        every=kinds is None,
        overlaps=checked_overlaps(overlap),
        cuts=cuts,
        count_unanswered=count_unanswered,
        broader={} if broader is None else {n: tuple(b) for n, b in broader.items()},
        floor=floor,
        resampling=Resampling(
            draws=whole_number(draws, place="draws", least=0, most=MOST_DRAWS),
            seed=whole_number(seed, place="seed", least=0, most=MOST_SEED),
        ),
    )


def _one_origin(origins: Sequence[Origin]) -> Origin:
    """Return where all parts come from; batches may differ, services and floors may not."""
    kept = [replace(one, batch=None, reading=None) for one in origins]
    first = kept[0] if kept else Origin()
    for other in kept[1:]:
        if (other.service, other.floor, other.words) != (first.service, first.floor, first.words):
            raise TableError(
                "the parts do not hold findings of one service with one floor",
                place="parts",
                got=f"{other.service or 'no service'}, floor {other.floor}",
                allowed=[f"{first.service or 'no service'}, floor {first.floor}"],
                next_step="Measure each service by itself, then compare the results.",
            )
    return first


def _only_names(facts: PartFacts) -> tuple[Findings, Annotations]:
    """Return tables that hold nothing but the names that there are, to check arguments by."""
    empty: Ints = np.zeros(0, dtype=np.intp)
    nothing = Coded(empty, ())
    labels = sorted(set().union(*facts.labels.values()))
    findings = Findings(
        image=nothing,
        kind=nothing,
        label=Coded(empty, tuple(sorted(facts.found))),
        confidence=np.zeros(0),
        box=np.zeros((0, 4)),
    )
    annotations = Annotations(
        image=nothing,
        kind=nothing,
        label=Coded(empty, tuple(labels)),
        box=np.zeros((0, 4)),
        ignore=np.zeros(0, dtype=bool),
        vocabulary={kind: tuple(sorted(facts.labels.get(kind, ()))) for kind in facts.kinds},
    )
    return findings, annotations
