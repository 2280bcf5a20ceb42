"""Writing the report: one HTML file that needs nothing next to it."""

from __future__ import annotations

import base64
import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import msgspec

from dotledger.core.arguments import check_overlap
from dotledger.core.measurement.measure import measure
from dotledger.core.measurement.measure_result import Measure
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.image_name_matching import annotations_matched, match_images
from dotledger.core.tables.table_inputs import as_annotations, as_findings
from dotledger.core.tables.threshold_values import Threshold
from dotledger.errors import ArgumentError
from dotledger.images.image_gathering import Item, gather
from dotledger.ledger.batch_queries import find_batch, kept_sizes, sent_images
from dotledger.ledger.ledger_access import Ledger, opened_ledger
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger_findings import findings_of, kept_items
from dotledger.report.pages.batch_facts import SentFacts, sent_facts
from dotledger.report.pages.embedded_pictures import Shown, small_copy
from dotledger.report.pages.report_columns import PageRun, page_run
from dotledger.report.pages.report_page import Gallery, Pages, render
from dotledger.report.pictures.box_writing import BoxWriting, writing_for
from dotledger.safe_files import safe_file_name, whole_file

if TYPE_CHECKING:
    from dotledger.core.comparison.run_comparison import Comparison
    from dotledger.core.decisions.verdicts import Decisions

__all__ = ["IMAGES", "write_report"]

_CALL = "write_report(path, findings, annotations)"

IMAGES = ("embed", "link", "none")
"""Small copies of the images in the page itself, in a folder next to it, or not at all."""
PathLike = str | os.PathLike[str]
_AT_ONCE = 64


@dataclass(kw_only=True)
class _Run:
    """One run while the report is made."""

    name: str
    findings: Findings
    facts: SentFacts | None = None
    items: dict[str, Item] = field(default_factory=dict)
    sizes: dict[str, dict[str, float]] = field(default_factory=dict)
    all: Measure | None = None
    at: Measure | None = None


def write_report(
    path: PathLike,
    findings: Findings | PathLike | None = None,
    annotations: Annotations | PathLike | None = None,
    *,
    ledger: Ledger | PathLike | None = None,
    service: str | None = None,
    batch: int | None = None,
    versus: str | Findings | PathLike | None = None,
    images: Any = None,
    facts: PathLike | None = None,
    overlap: float = 0.5,
    threshold: Threshold = None,
    rules: Any = None,
    how: Literal["embed", "link", "none"] = "embed",
    write: str | None = None,
    place: Literal["near", "above", "below", "inside"] = "near",
    words: Mapping[str, str] | None = None,
    private: bool = False,
    title: str = "",
    draws: int = 1000,
) -> Path:
    """Write a report: numbers, charts, the worst places and every image, on one page.

    A slider moves the threshold for the whole page: boxes, counts, precision, recall and F1. The
    same ledger gives the same bytes.

    Parameters
    ----------
    path : path-like
        An ``.html`` file; replaced if it exists.
    findings : Findings or path, optional
        Without it the batch of the ledger.
    annotations : Annotations or path, optional
        Ground truth; without it the page shows what was found.
    ledger : Ledger or path, optional
        Where the batch is: with outcomes, cost, pace and raw answers.
    service, batch : str, int, optional
        Which batch; by default the newest.
    versus : str, Findings or path, optional
        A second run: the name of a service in the ledger, or findings.
    images : anything that `gather` takes, optional
        By default where they were sent from.
    facts : path, optional
        A table about the images, such as scene and light: to filter by.
    overlap : float, default 0.5
        Required, for kinds with boxes.
    threshold : threshold, optional
        Where the slider begins; a number, or a thresholds file, whose thresholds are marked.
    rules : Rules or path, optional
        For verdicts on each image.
    how : {"embed", "link", "none"}
        Whether small copies of the images stand in the page, or in a folder next to it.
    write, place, words
        The text of each box, where it stands, and in which words; as `draw` takes them.
    private : bool, default False
        Leave out images, names of persons, lines of text and raw answers.
    title : str, optional
        By default the services' names.
    draws : int, default 1000
        For the 95 % intervals, over images.

    Returns
    -------
    Path
        The page that was written.

    Raises
    ------
    ArgumentError
        If neither findings nor a ledger is given, or an argument is out of range.
    LedgerError, TableError, GatherError
        If something cannot be read.
    MissingExtra
        If ``dot-ledger[report]`` is not installed.

    Examples
    --------
    >>> import dotledger
    >>> made = dotledger.write_report(
    ...     "report.html", "found.csv", "truth.csv", images="photos", draws=100
    ... )
    >>> made.read_text(encoding="utf-8").startswith("<!doctype html>")
    True
    """
    if how not in IMAGES:
        raise ArgumentError("unknown way", place="how", got=how, allowed=IMAGES)
    if findings is None and ledger is None:
        raise ArgumentError(
            "give findings or a ledger", place="findings", got="neither", allowed=["either"]
        )
    overlap = check_overlap(overlap)
    with ExitStack() as stack:
        opened = _opened(ledger, stack)
        runs = [_run(findings, opened, service, batch, private=private)]
        if versus is not None:
            runs.append(_versus(versus, opened, private=private))
            if runs[1].name == runs[0].name:
                runs[1].name += " (second)"
        details = [one for run in runs for one in run.findings.details or ()]
        writing = writing_for(details, write=write, place=place, words=words)
        readers = _readers(images, runs)
        truth = _annotations(annotations, facts, runs, readers)
        verdicts = _verdicts(_decided(rules, runs[0]))
        if private:
            truth, verdicts, readers = *_made_private(runs, truth, verdicts), {}
        for run in runs:
            _measure(run, truth, overlap, threshold, draws)
        how = "none" if private else how
        gallery = _gallery(runs, truth, readers, how, Path(path), private=private)
        page = render(
            Pages(
                title=title or " and ".join(run.name for run in runs),
                runs=[_columns(run, truth, gallery, writing, private=private) for run in runs],
                facts=[run.facts for run in runs],
                measures={run.name: run.all for run in runs if run.all is not None},
                at_start={run.name: run.at for run in runs if run.at is not None},
                gallery=gallery,
                overlap=overlap,
                verdicts=verdicts,
                comparison=_comparison(runs, truth, overlap, threshold, draws),
                readers=readers,
                private=private,
                place=place,
            )
        )
    with whole_file(Path(path)) as draft:
        draft.write_text(page, encoding="utf-8", newline="\n")
    return Path(path)


def _made_private(
    runs: Sequence[_Run],
    truth: Annotations | None,
    verdicts: Mapping[str, tuple[str, tuple[str, ...]]],
) -> tuple[Annotations | None, dict[str, tuple[str, tuple[str, ...]]]]:
    """Take out of runs, annotations and verdicts whatever a private report may not hold.

    Before anything is measured: what is made of them can then hold no more.
    """
    from dotledger.report.pages.private_copy import PrivateNames, private_facts, private_run_name

    order = [name for run in runs if run.facts for name in run.facts.by_image]
    order += [name for run in runs for name in run.findings.image.used()]
    names = PrivateNames(order)
    for number, run in enumerate(runs, 1):
        run.name = private_run_name(run.name, number, of_ledger=run.facts is not None)
        run.findings = names.findings(run.findings)
        run.facts = private_facts(run.facts, names)
        run.items, run.sizes = {}, names.by_image(run.sizes)
    if len(runs) > 1 and runs[0].name == runs[1].name:
        runs[1].name += " (second)"
    bare = {image: (verdict, ()) for image, (verdict, _) in verdicts.items()}
    return None if truth is None else names.annotations(truth), names.by_image(bare)


def _opened(ledger: Ledger | PathLike | None, stack: ExitStack) -> LedgerStore | None:
    return None if ledger is None else stack.enter_context(opened_ledger(ledger))


def _run(
    findings: Findings | PathLike | None,
    ledger: LedgerStore | None,
    service: str | None,
    batch: int | None,
    *,
    private: bool,
) -> _Run:
    if findings is not None:
        return _of_findings(findings)
    assert ledger is not None
    kept = find_batch(ledger, batch=batch, service=service)
    sent = sent_images(ledger, kept)
    items = dict(zip([one.name for one in sent], kept_items(sent, ledger), strict=True))
    return _Run(
        name=kept.service,
        findings=findings_of(ledger, batch=kept.id),
        facts=sent_facts(ledger, kept, raw=not private),
        items=items,
        sizes=kept_sizes(ledger, kept),
    )


def _of_findings(given: Findings | PathLike) -> _Run:
    if isinstance(given, str | os.PathLike):
        from dotledger.formats.tables.findings_files import read_findings

        return _Run(name=Path(given).stem, findings=read_findings(given))
    found = as_findings(given, _CALL)
    name = found.origin.service if found.origin and found.origin.service else "findings"
    return _Run(name=name, findings=found)


def _versus(
    versus: str | Findings | PathLike, ledger: LedgerStore | None, *, private: bool
) -> _Run:
    is_name = isinstance(versus, str) and not Path(versus).suffix
    if is_name and ledger is not None:
        return _run(None, ledger, str(versus), None, private=private)
    return _of_findings(versus)


def _readers(images: Any, runs: Sequence[_Run]) -> dict[str, Callable[[], bytes]]:
    if images is not None:
        return {item.name: item.read for item in gather(images).items}
    return {name: item.read for run in reversed(runs) for name, item in run.items.items()}


def _annotations(
    given: Annotations | PathLike | None,
    facts: PathLike | None,
    runs: Sequence[_Run],
    readers: Mapping[str, Callable[[], bytes]],
) -> Annotations | None:
    """Return the annotations under the images' names, with their sizes; match the runs, too."""
    from dotledger.formats.annotations.annotation_files import read_annotations, read_image_facts

    names = list(readers)
    if names:
        for run in runs:
            run.findings, _ = match_images(run.findings, names)
    if given is None:
        return None
    if isinstance(given, str | os.PathLike):
        truth = read_annotations(given)
    else:
        truth = as_annotations(given, _CALL)
    truth = truth if facts is None else truth.with_images(read_image_facts(facts))
    truth = annotations_matched(truth, names) if names else truth
    for run in reversed(runs):
        truth = truth.with_images(
            {n: {"width": s["width"], "height": s["height"]} for n, s in run.sizes.items()}
        )
    return truth


def _measure(
    run: _Run, truth: Annotations | None, overlap: float, threshold: Threshold, draws: int
) -> None:
    if truth is None:
        return
    run.all = measure(run.findings, truth, overlap=overlap, draws=draws)
    run.at = measure(run.findings, truth, overlap=overlap, threshold=threshold, draws=draws)


def _gallery(
    runs: Sequence[_Run],
    truth: Annotations | None,
    readers: Mapping[str, Callable[[], bytes]],
    how: str,
    path: Path,
    *,
    private: bool,
) -> Gallery:
    """Return every image of the page, in the order of the first run, with its small copy."""
    outcomes = {n: o for run in reversed(runs) if run.facts for n, o in run.facts.by_image.items()}
    own = dict.fromkeys(name for run in runs for name in run.findings.image.used())
    names = list(dict.fromkeys([*outcomes, *own, *(truth.image.used() if truth else [])]))
    side = 880 if len(names) <= 150 else 560 if len(names) <= 400 else 360
    sources, sizes, problems = [], [], {}
    folder = path.with_name(f"{path.stem}-images")
    for place, (name, shown) in enumerate(_small_copies(names, readers, how, side)):
        known = next((run.sizes[name] for run in runs if name in run.sizes), None)
        if isinstance(shown, Shown):
            sources.append(_source(shown, how, folder, f"{place:05}-{name}"))
            sizes.append((shown.width, shown.height))
        else:
            sources.append("")
            sizes.append((int(known["width"]), int(known["height"])) if known else (0, 0))
            if shown and how != "none":
                problems[name] = shown
    raw: dict[str, list[str]] = {}
    if not private:
        for run in runs:
            for name, text in (run.facts.raw if run.facts else {}).items():
                raw.setdefault(name, []).append(f"{run.name}\n{text}")
    facts = {} if truth is None else {n: dict(truth.images.get(n, {})) for n in names}
    return Gallery(
        names=tuple(names),
        sources=tuple(sources),
        sizes=tuple(sizes),
        outcomes=outcomes,
        problems=problems,
        raw={name: "\n\n".join(parts) for name, parts in raw.items()},
        facts=facts,
    )


def _small_copies(
    names: Sequence[str], readers: Mapping[str, Callable[[], bytes]], how: str, side: int
) -> Iterator[tuple[str, Shown | str]]:
    """Yield each image with its small copy, made by several threads: decoders let go of Python."""

    def made(name: str) -> tuple[str, Shown | str]:
        if name not in readers:
            return name, "not among the images"
        return name, "" if how == "none" else small_copy(readers[name], side)

    with ThreadPoolExecutor(min(8, os.cpu_count() or 1)) as pool:
        # A part at a time: no more pictures are held than that.
        for start in range(0, len(names), _AT_ONCE):
            yield from pool.map(made, names[start : start + _AT_ONCE])


def _source(shown: Shown, how: str, folder: Path, name: str) -> str:
    if how == "embed":
        return "data:image/jpeg;base64," + base64.b64encode(shown.data).decode()
    folder.mkdir(parents=True, exist_ok=True)
    file = folder / f"{safe_file_name(name)}.jpg"
    if not file.exists() or file.read_bytes() != shown.data:
        with whole_file(file) as draft:
            draft.write_bytes(shown.data)
    from urllib.parse import quote

    return f"{quote(folder.name)}/{quote(file.name)}"


def _columns(
    run: _Run,
    truth: Annotations | None,
    gallery: Gallery,
    writing: BoxWriting,
    *,
    private: bool,
) -> PageRun:
    origin = run.findings.origin
    shown = origin.shown if origin is not None and not private else ()
    table = run.all.basis.annotations if run.all is not None else truth
    return page_run(
        run.name,
        run.findings,
        gallery.names,
        measured=run.all,
        annotations=table,
        private=private,
        writing=msgspec.structs.replace(writing, shown=shown),
    )


def _decided(rules: Any, run: _Run) -> Decisions | None:
    if rules is None:
        return None
    from dotledger.core.decisions.decide import decide
    from dotledger.core.decisions.rule_conditions import Rules
    from dotledger.formats.rules_files import read_rules
    from dotledger.images.image_prints import prints_of

    known = rules if isinstance(rules, Rules) else read_rules(rules)
    return decide(
        run.findings,
        known,
        outcomes=run.facts.by_image if run.facts else None,
        sizes={name: (one["width"], one["height"]) for name, one in run.sizes.items()},
        prints=prints_of(run.items.values()) if known.looks_at_copies else None,
    )


def _verdicts(
    decided: Decisions | None,
) -> dict[str, tuple[str, tuple[str, ...]]]:
    return {} if decided is None else {one.image: (one.verdict, one.reasons) for one in decided}


def _comparison(
    runs: Sequence[_Run],
    truth: Annotations | None,
    overlap: float,
    threshold: Threshold,
    draws: int,
) -> Comparison | None:
    if len(runs) < 2 or truth is None:
        return None
    from dotledger.core.comparison.run_comparison import compare_runs

    tables = {run.name: run.findings for run in runs}
    thresholds = None if threshold is None else dict.fromkeys(tables, threshold)
    return compare_runs(tables, truth, overlap=overlap, thresholds=thresholds, draws=draws)
