"""``dotledger draw``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.options.common_options import (
    as_kinds,
    asked_findings,
    batch_options,
    example,
    json_option,
    kinds_option,
    ledger_option,
    print_json,
    print_table,
    replace_option,
    say,
    threshold_of,
    threshold_option,
    truth_of,
)
from dotledger.cli.options.provenance import provenance, provenance_lines
from dotledger.cli.options.writing_options import words_of, writing_options
from dotledger.core.spelling import counted, first_of
from dotledger.safe_files import check_output_folder

if TYPE_CHECKING:
    from dotledger.core.tables.findings_table import Findings

__all__ = ["command"]


@click.command(
    name="draw",
    epilog=example(
        "dotledger draw walk/images --service marl --annotations annotations.csv --out pictures"
    ),
)
@click.argument("images")
@click.option("--out", "folder", metavar="FOLDER", required=True, help="Where the pictures go.")
@click.option("--findings", metavar="FILE", help="A findings file; without it, the ledger.")
@click.option("--annotations", metavar="FILE", help="Ground truth: colours right, wrong, missed.")
@click.option("--images", "facts", metavar="FILE", help="A table about the images, for --sheet.")
@click.option("--overlap", type=float, default=0.5, show_default=True, help="Required overlap.")
@threshold_option
@kinds_option
@ledger_option
@batch_options
@click.option("--versus", metavar="FILE", help="Findings of another service, drawn next to these.")
@click.option(
    "--confidence",
    type=click.Choice(["share", "percent", "own"]),
    default="share",
    show_default=True,
    help="Written as 0.97, as 97 %, or as the service wrote it.",
)
@writing_options
@click.option("--rules", metavar="FILE", help="Write the verdict of rules above each picture.")
@click.option("--side", type=int, metavar="PIXELS", help="Longest side; by default full size.")
@click.option(
    "--sheet",
    metavar="ORDER",
    default="images",
    show_default=True,
    help="The contact sheet: images, worst (first), reason or label (what is wrong and missed), "
    "or slice:COLUMN of --images.",
)
@click.option(
    "--font",
    metavar="FILE",
    help="Write labels with this font; by default with one of the machine that has their letters.",
)
@replace_option
@json_option
def command(
    images: str,
    folder: str,
    findings: str | None,
    annotations: str | None,
    facts: str | None,
    overlap: float,
    threshold: str | None,
    kinds: str | None,
    ledger: str,
    service: str | None,
    batch: int | None,
    versus: str | None,
    confidence: Any,
    write: str | None,
    place: Any,
    words: str | None,
    rules: str | None,
    side: int | None,
    sheet: str,
    font: str | None,
    replace: bool,
    as_json: bool,
) -> None:
    """Draw findings on their IMAGES (a folder, a pattern, or @LIST).

    With annotations a solid line is right, dashes are wrong, dots are missed; the margin says why.
    Labels and unsafe content stand below the picture. --write takes a template with fields of the
    finding: label, kind, confidence, person, similarity or an attribute. The text between two
    commas is skipped if a finding lacks one of its fields.
    """
    from dotledger.formats.tables.findings_files import read_findings
    from dotledger.report.pictures.box_drawing import draw

    check_output_folder(
        folder, place="--out", inputs=(images, findings, annotations), replace=replace
    )
    found = asked_findings(findings, ledger, service, batch)
    if kinds is not None:
        found = found.take(found.kind.among(as_kinds(kinds) or []))
    drawn = draw(
        found,
        images,
        folder,
        annotations=truth_of(annotations, facts),
        overlap=overlap,
        threshold=threshold_of(threshold),
        versus=None if versus is None else read_findings(versus),
        confidence=confidence,
        write=write,
        place=place,
        words=words_of(words),
        rules=rules,
        outcomes=None if rules is None else _outcomes(findings, ledger, found),
        side=side,
        sheet=sheet,
        title=f"{service or findings or 'findings'}",
        font=font,
    )
    for line in drawn.matched:
        say(line)
    if drawn.not_found:
        count = counted(len(drawn.not_found), "image")
        say(f"not drawn, {count} with findings not among IMAGES: {first_of(drawn.not_found, 5)}")
    if drawn.lacking:
        say(f"letters that no font here has, drawn as squares: {drawn.lacking[:40]}")
    if drawn.others:
        count = counted(len(drawn.others), "other file")
        say(f"{count} in {folder} from before: {first_of(drawn.others, 5)}")
    about = provenance(found, file=findings, threshold=threshold, annotations=annotations)
    if as_json:
        print_json(
            "draw",
            {
                **about,
                "pictures": [str(path) for path in drawn.pictures],
                "contact_sheet": str(drawn.sheet),
                "not_found": list(drawn.not_found),
                "others": list(drawn.others),
            },
        )
    else:
        pictures = counted(len(drawn.pictures), "picture")
        print_table(*provenance_lines(about))
        print_table(f"{pictures} in {folder}; all together: {drawn.sheet}")


def _outcomes(findings: str | None, ledger: str, found: Findings) -> dict[str, Any] | None:
    """Return the outcome of each image, for its verdict; a findings file knows none."""
    if findings is not None or found.origin is None or found.origin.batch is None:
        return None
    from dotledger.ledger.batch_queries import find_batch, outcomes_of
    from dotledger.ledger.ledger_store import LedgerStore

    with LedgerStore(ledger, create=False, read_only=True) as opened:
        return outcomes_of(opened, find_batch(opened, batch=found.origin.batch))
