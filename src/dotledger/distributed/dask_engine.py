"""Measuring on several processes or machines with Dask, by parts that add up.

Each part holds whole images. A worker reads one, judges it, and gives back what counts, curves and
intervals are made of; the result is then made here, by the same code as on one machine, and is the
same. Needs ``pip install 'dot-ledger[dask]'``. See ``docs/scale.md`` for when it is worth it.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import reduce
from pathlib import Path
from typing import TYPE_CHECKING, Any

from dotledger.api.inputs import findings_given, threshold_given
from dotledger.core.pairing.label_hierarchy import Broader
from dotledger.core.questions.error_diagnosis import diagnose
from dotledger.core.questions.slices import SLICES, SliceCodes, slice_codes
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.threshold_values import Threshold
from dotledger.distributed.distributed_measure import DistributedReasons, PartedMeasure, reasons_of
from dotledger.distributed.partial_measures import (
    Part,
    PartFacts,
    PartRequest,
    basis_of,
    facts_of,
    measured,
    part_of,
    request_of,
    with_parents,
)
from dotledger.distributed.partitioned_tables import PartFiles, parts_in, write_parts
from dotledger.errors import ArgumentError, MissingExtra
from dotledger.formats.annotations.annotation_files import read_annotations
from dotledger.formats.tables.origin_files import read_origin
from dotledger.safe_files import is_ledger

if TYPE_CHECKING:
    from dotledger.api.rereading import Reread

__all__ = ["PartFiles", "measure", "parts_in", "reread", "write_parts"]

PathLike = str | os.PathLike[str]
Given = PartFiles | Sequence[PathLike]
Vocabulary = Mapping[str, Iterable[str]]


def measure(
    parts: Sequence[Given],
    *,
    client: Any = None,
    overlap: float | Sequence[float] = 0.5,
    threshold: Threshold | Sequence[float] | PathLike = None,
    kinds: Iterable[str] | None = None,
    count_unanswered: bool = False,
    broader: Broader | None = None,
    floor: float | None = None,
    words: Mapping[str, float] | None = None,
    vocabulary: Vocabulary | None = None,
    draws: int = 1000,
    seed: int = 0,
) -> PartedMeasure:
    """Compare findings with annotations that lie in parts, each read and judged by a worker.

    Kinds are paired by falling confidence. Counts, measures and intervals are those that
    `dotledger.measure` gives for all parts in one table.

    Parameters
    ----------
    parts : sequence of PartFiles, or of paths of findings, annotations and perhaps images
        Where every worker finds them. Each part holds all rows of its images; see `parts_in`.
    client : distributed.Client, optional
        By default the one that is in use.
    overlap, threshold, kinds, count_unanswered, broader, floor, words, draws, seed
        As `dotledger.measure` takes them. Intervals are drawn here, not by workers: leave them
        out with ``draws=0`` where there are tens of millions of findings.
    vocabulary : mapping of str to iterable of str, optional
        Labels in scope by kind; by default those annotated in any part.

    Returns
    -------
    PartedMeasure
        A `Measure` whose `by` and `why` ask the parts again. Undefined measures are NaN.

    Raises
    ------
    ArgumentError
        If an argument is out of range, there are no parts, or no client.
    TableError
        If a file breaks the common shape, an image is in two parts, or the parts hold findings of
        different services.
    ScopeError
        If a part's findings and annotations have no image in common.
    MissingExtra
        Without the package ``distributed``.

    Examples
    --------
    >>> from distributed import Client
    >>> from dotledger.distributed import dask_engine as dask
    >>> parts = dask.write_parts("found.csv", "truth.csv", "in-parts", parts=4)
    >>> with Client(n_workers=1, threads_per_worker=1, processes=False) as client:
    ...     result = dask.measure(parts, client=client, threshold=0.5)
    >>> result.kinds["face"].pooled.misses
    19
    """
    files = [_files(one) for one in parts]
    if not files:
        raise ArgumentError("there are no parts", place="parts", next_step="See parts_in.")
    crew = _Crew(files, _client(client), None if vocabulary is None else _plain(vocabulary))
    asked = threshold_given(threshold)
    named = isinstance(asked, Mapping) or hasattr(asked, "thresholds_for")
    facts = reduce(PartFacts.plus, crew.each(_facts, named))
    request = request_of(
        facts,
        overlap=overlap,
        threshold=asked,
        kinds=kinds,
        count_unanswered=count_unanswered,
        broader=broader,
        floor=floor,
        words=words,
        draws=draws,
        seed=seed,
    )
    judged: list[Part] = crew.each(_judged, request)
    return measured(request, judged, _Questions(crew, with_parents(request, judged)))


def reread(
    ledgers: Sequence[PathLike],
    service: PathLike | None = None,
    *,
    client: Any = None,
    names: PathLike | None = None,
) -> list[Reread]:
    """Read the stored answers of several ledgers again, one ledger a worker at a time.

    Parameters
    ----------
    ledgers : sequence of path-like
        Files, or addresses of databases, that every worker reaches; of each the newest batch.
    service, names : path-like, optional
        As `dotledger.reread` takes them.
    client : distributed.Client, optional
        By default the one that is in use.

    Returns
    -------
    list of Reread
        One for each ledger, in the order given; empty without ledgers.

    Raises
    ------
    LedgerError
        If one of them cannot be read or written. The others keep their new readings.
    """
    given = [os.fspath(one) for one in ledgers]
    crew = _Crew(given, _client(client), None) if given else None
    options = [None if one is None else os.fspath(one) for one in (service, names)]
    return [] if crew is None else crew.each(_reread, options)


def _files(given: Given) -> PartFiles:
    if isinstance(given, str | os.PathLike) or not 2 <= len(given) <= 3:
        raise ArgumentError(
            "a part is findings and annotations, and perhaps images",
            place="parts",
            got=given,
            next_step="Give tuples of paths, or what parts_in gives of a folder.",
        )
    return PartFiles(*(os.fspath(one) for one in given))


def _plain(vocabulary: Vocabulary) -> dict[str, tuple[str, ...]]:
    return {kind: tuple(labels) for kind, labels in vocabulary.items()}


def _client(given: Any) -> Any:
    """Return the client to work with."""
    try:
        import distributed
    except ImportError:
        raise MissingExtra(
            "measuring in parts needs the package distributed",
            next_step="Run: pip install 'dot-ledger[dask]'",
        ) from None
    if given is not None:
        return given
    try:
        return distributed.get_client()
    except ValueError:
        raise ArgumentError(
            "there is no Dask client",
            place="client",
            next_step="Make one first: client = distributed.Client().",
        ) from None


@dataclass(frozen=True, eq=False)
class _Crew:
    """The parts, and who works on them."""

    parts: Sequence[Any]
    client: Any
    vocabulary: Mapping[str, tuple[str, ...]] | None

    def each(self, work: Callable[..., Any], asked: Any) -> list[Any]:
        """Have each part worked on; return what comes of it, in order.

        Results are taken as they come and let go of on the workers: what is there of them at a
        time is little, whatever the number of parts.
        """
        from distributed import as_completed

        # What is asked goes to each worker once, not next to each part.
        shared = self.client.scatter([(asked, self.vocabulary)], broadcast=True, hash=False)[0]
        waiting = {
            self.client.submit(work, part, shared, pure=False): place
            for place, part in enumerate(self.parts)
        }
        found: list[Any] = [None] * len(waiting)
        done: Any = as_completed(list(waiting))  # type: ignore[no-untyped-call]
        try:
            for future in done:
                found[waiting.pop(future)] = future.result()
        finally:
            self.client.cancel(list(waiting))
        return found


@dataclass(frozen=True, eq=False)
class _Questions:
    """Asks what `PartedMeasure` is asked and has no columns for."""

    crew: _Crew
    request: PartRequest

    def slice_names(self) -> list[str]:
        from dotledger.core.kinds import KINDS

        boxed = any(KINDS[kind].judged == "boxes" for kind in self.request.kinds)
        sizes = {"width", "height", "sent_width", "sent_height"}
        return [*(SLICES if boxed else ()), *sorted(self.request.facts.columns - sizes - {*SLICES})]

    def slices(self, name: str, edges: Sequence[float] | None) -> list[Mapping[str, SliceCodes]]:
        return self.crew.each(_sliced, (self.request, name, edges))

    def reasons(self, near: float, small: float) -> list[DistributedReasons]:
        return self.crew.each(_reasons, (self.request, near, small))


# What workers run. Each opens its part anew: to keep all of them in memory is what a part is for
# not to need.


def _facts(part: PartFiles, shared: tuple[bool, Any]) -> PartFacts:
    named, vocabulary = shared
    annotations = _annotations(part, vocabulary)
    if named or _is_ledger(part.findings):
        findings = _findings(part)
        return facts_of(annotations, findings.label.used(), findings.origin)
    return facts_of(annotations, (), read_origin(Path(part.findings)))


def _judged(part: PartFiles, shared: tuple[PartRequest, Any]) -> Part:
    request, vocabulary = shared
    return part_of(request, _findings(part), _annotations(part, vocabulary))


def _sliced(part: PartFiles, shared: tuple[Any, Any]) -> dict[str, SliceCodes]:
    (request, name, edges), vocabulary = shared
    basis = basis_of(request, _findings(part), _annotations(part, vocabulary))
    of_images = name in request.facts.image_columns
    return {
        kind: slice_codes(basis, kind, name, edges, of_images=of_images)
        for kind, scope in basis.scopes.items()
        if scope.boxed or name not in SLICES
    }


def _reasons(part: PartFiles, shared: tuple[Any, Any]) -> DistributedReasons:
    (request, near, small), vocabulary = shared
    basis = basis_of(request, _findings(part), _annotations(part, vocabulary))
    return reasons_of(diagnose(basis, near=near, small=small))


def _reread(ledger: str, shared: tuple[Sequence[str | None], Any]) -> Reread:
    from dotledger.api.public_calls import reread as again

    service, names = shared[0]
    return again(ledger, service, names=names)


def _annotations(part: PartFiles, vocabulary: Vocabulary | None) -> Annotations:
    images = part.images or None
    return read_annotations(part.annotations, images=images, vocabulary=vocabulary)


def _findings(part: PartFiles) -> Findings:
    if _is_ledger(part.findings):
        from dotledger.ledger_findings import findings_of

        return findings_of(part.findings)
    return findings_given(part.findings)


def _is_ledger(place: str) -> bool:
    return "://" in place or is_ledger(Path(place))
