"""Options of commands that compare findings with annotations, and what they ask for."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from dotledger.cli.options.common_options import (
    batch_options,
    ledger_option,
    service_name,
    settings_of,
)
from dotledger.cli.options.label_names import mapped_names, mapping_facts, mapping_lines
from dotledger.cli.options.provenance import provenance
from dotledger.core.kinds import check_kinds
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings

if TYPE_CHECKING:
    from dotledger.core.tables.box_clipping import Clipped

__all__ = [
    "Compared",
    "annotation_options",
    "batch_of",
    "compared_tables",
    "comparing_options",
    "vocabulary_of",
    "where_of",
]

Function = TypeVar("Function", bound=Callable[..., Any])

_TRUTH = (
    click.option(
        "--columns",
        metavar="FILE",
        help="How the table of annotations is written: a TOML file, or OURS=THEIRS,...",
    ),
    click.option("--description", metavar="FILE", help="Import description of JSON or XML files."),
    click.option(
        "--images",
        metavar="PATH",
        help="What is known about images: a table with sizes and columns, or their folder.",
    ),
    click.option(
        "--vocabulary",
        multiple=True,
        metavar="KIND=LABELS",
        help="Labels looked for, with commas; by default those that occur.",
    ),
)

_COMPARING = (
    click.option("--findings", metavar="FILE", help="A findings file; without it, the ledger."),
    click.option(
        "--findings-columns", metavar="FILE", help="How the findings file is written; as --columns."
    ),
    click.option("--annotations", metavar="PATH", required=True, help="The ground truth."),
    *_TRUTH,
    click.option("--names", metavar="FILE", help="Apply a mapping of label names to findings."),
    click.option(
        "--merge", type=float, metavar="T", help="Merge boxes of a label that overlap so much."
    ),
    click.option(
        "--match",
        default="exact,spelling,case,folders,ending",
        show_default=True,
        metavar="RULES",
        help="How images that are named differently may be matched.",
    ),
    ledger_option,
    batch_options,
)


def _with(options: Sequence[Any], function: Function) -> Function:
    for option in reversed(options):
        function = option(function)
    return function


def annotation_options(function: Function) -> Function:
    """Add the options that say how ground truth is read."""
    return _with(_TRUTH, function)


def comparing_options(function: Function) -> Function:
    """Add the options that say which findings and annotations are compared."""
    return _with(_COMPARING, function)


@dataclass(frozen=True, kw_only=True)
class Compared:
    """What the options ask for.

    Attributes
    ----------
    findings, annotations
        With label names mapped and image names matched.
    broader : dict of str to tuple of str
        Broader labels of the mapping.
    report : dict
        What loading read, as plain values.
    lines : list of str
        The same in words.
    files : (str or None, str)
        Where findings (None: the ledger) and annotations were read from.
    """

    findings: Findings
    annotations: Annotations
    broader: dict[str, tuple[str, ...]]
    report: dict[str, Any]
    lines: list[str]
    files: tuple[str | None, str]

    def suspicious(self) -> list[str]:
        """Return what looks wrong in the findings as a whole; `measure` notes it by itself."""
        from dotledger.core.measurement.measure_notes import suspicious_lines

        return suspicious_lines(self.findings, self.annotations)

    def about(self, threshold: str | None = None) -> dict[str, Any]:
        """Return whose numbers these are, with the threshold as it was given."""
        return provenance(
            self.findings, file=self.files[0], threshold=threshold, annotations=self.files[1]
        )


# Image names are matched by rules only where a command reads files; `measure` compares them
# exactly, since it cannot ask.
def compared_tables(
    *,
    findings: str | None,
    findings_columns: str | None,
    annotations: str,
    columns: str | None,
    description: str | None,
    images: str | None,
    vocabulary: Sequence[str],
    names: str | None,
    merge: float | None,
    match: str,
    ledger: str,
    service: str | None,
    batch: int | None,
) -> Compared:
    """Read what the options of `comparing_options` name."""
    from dotledger.core.tables.box_clipping import clip_findings
    from dotledger.core.tables.image_name_matching import match_images
    from dotledger.formats.annotations.annotation_files import load_annotations

    service = service_name(service)
    loaded = load_annotations(
        Path(annotations),
        columns=columns,
        description=description,
        images=images,
        vocabulary=vocabulary_of(vocabulary),
    )
    annotated = loaded.annotations
    if findings is not None:
        from dotledger.formats.tables.findings_files import read_findings

        found = read_findings(Path(findings), columns=findings_columns, images=annotated.images)
    else:
        from dotledger.ledger_findings import findings_and_sizes

        found, sizes = findings_and_sizes(ledger, batch=batch, service=service)
    found, matched = match_images(found, annotated.image.used(), _words(match))
    if findings is None:
        known = {matched.names.get(name, name): size for name, size in sizes.items()}
        annotated = annotated.with_images(
            {n: {**s, **annotated.images.get(n, {})} for n, s in known.items()}
        )
    inside = clip_findings(found, annotated.images)
    found, lines = inside.table, _clip_lines(inside)
    broader: dict[str, tuple[str, ...]] = {}
    report: dict[str, Any] = {"annotations": loaded.report.to_dict()}
    if names is not None:
        mapped, mapping = mapped_names(found, names, service or "")
        found, broader = mapped.findings, dict(mapping.broader)
        lines += mapping_lines(mapped, names)
        report["names"] = mapping_facts(mapped)
    if merge is not None:
        found, count = _merged(found, merge)
        lines.append(f"Repeated boxes merged: {count}.")
    report["image_names"] = dict(matched.by_rule)
    return Compared(
        findings=found,
        annotations=annotated,
        broader=broader,
        report={**report, "ambiguous_image_names": list(matched.ambiguous)},
        lines=[*loaded.report.lines(), *matched.lines(), *lines],
        files=(findings, annotations),
    )


def _clip_lines(inside: Clipped[Findings]) -> list[str]:
    counts = (
        ("Boxes of findings clipped to their image", len(inside.clipped)),
        ("Findings set aside, wholly outside their image", len(inside.outside)),
    )
    return [f"{text}: {count}." for text, count in counts if count]


def vocabulary_of(pairs: Sequence[str]) -> dict[str, list[str]] | None:
    """Return ``KIND=LABEL,LABEL`` pairs as labels by kind; None without any.

    Raises
    ------
    ArgumentError
        If a pair is not written so, or a kind is not known.
    """
    found = {kind: _words(labels) for kind, labels in settings_of(pairs, "--vocabulary").items()}
    check_kinds(found, place="--vocabulary")
    return found or None


def _words(text: str) -> list[str]:
    return [part.strip() for part in text.split(",") if part.strip()]


def _merged(findings: Findings, overlap: float) -> tuple[Findings, int]:
    from dotledger.core.arguments import check_overlap
    from dotledger.core.tables.duplicate_merging import merge_repeats

    check_overlap(overlap, place="--merge")
    kept, into = merge_repeats(findings, overlap=overlap)
    return kept, len(into) - len(kept)


def where_of(text: str) -> dict[str, Any]:
    """Return where a run is: a file, a batch, or a service's newest batch."""
    is_file = Path(text).suffix.lower() in (".csv", ".jsonl", ".parquet") or Path(text).is_file()
    if is_file:
        return {"findings": text, "service": None, "batch": None}
    if text.isdigit():
        return {"findings": None, "service": None, "batch": int(text)}
    return {"findings": None, "service": text, "batch": None}


def batch_of(text: str, ledger: str) -> str:
    """Return ``flint@spring``, a run with its round, as the number of its batch."""
    service, at, name = text.partition("@")
    if not at or Path(text).is_file():
        return text
    from dotledger.ledger.batch_queries import find_batch
    from dotledger.ledger.ledger_store import LedgerStore

    with LedgerStore(ledger, create=False, read_only=True) as opened:
        return str(find_batch(opened, service=service or None, round=name).id)
