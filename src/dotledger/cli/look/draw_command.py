"""``dotledger draw``."""

from __future__ import annotations

from pathlib import Path

import click

from dotledger.cli.options.common import (
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
)
from dotledger.core.spelling import counted, first_of
from dotledger.files import check_output_folder

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
@click.option("--overlap", type=float, default=0.5, show_default=True, help="Required overlap.")
@threshold_option
@kinds_option
@ledger_option
@batch_options
@replace_option
@json_option
def command(
    images: str,
    folder: str,
    findings: str | None,
    annotations: str | None,
    overlap: float,
    threshold: str | None,
    kinds: str | None,
    ledger: str,
    service: str | None,
    batch: int | None,
    replace: bool,
    as_json: bool,
) -> None:
    """Draw findings on their IMAGES (a folder, a pattern, or @LIST).

    With annotations, right findings are green, wrong ones red, and what was missed is dashed
    in yellow. Labels and unsafe content stand below the picture.
    """
    from dotledger.formats.annotations.front import read_annotations
    from dotledger.report.pictures.draw import draw

    check_output_folder(
        folder, place="--out", inputs=(images, findings, annotations), replace=replace
    )
    found = asked_findings(findings, ledger, service, batch)
    if kinds is not None:
        found = found.take(found.kind.onto(as_kinds(kinds) or []) >= 0)
    drawn = draw(
        found,
        images,
        folder,
        annotations=None if annotations is None else read_annotations(Path(annotations)),
        overlap=overlap,
        threshold=threshold_of(threshold),
        title=f"{service or findings or 'findings'}",
    )
    for line in drawn.matched:
        say(line)
    if drawn.not_found:
        count = counted(len(drawn.not_found), "image")
        say(f"not drawn, {count} with findings not among IMAGES: {first_of(drawn.not_found, 5)}")
    if drawn.others:
        count = counted(len(drawn.others), "other file")
        say(f"{count} in {folder} from before: {first_of(drawn.others, 5)}")
    if as_json:
        print_json(
            {
                "pictures": [str(path) for path in drawn.pictures],
                "contact_sheet": str(drawn.sheet),
                "not_found": list(drawn.not_found),
                "others": list(drawn.others),
            }
        )
    else:
        pictures = counted(len(drawn.pictures), "picture")
        print_table(f"{pictures} in {folder}; all together: {drawn.sheet}")
