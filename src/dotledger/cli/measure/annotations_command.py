"""``dotledger annotations``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from dotledger.cli.options.common import (
    example,
    json_option,
    print_json,
    print_table,
    replace_option,
    say,
    say_problems,
)
from dotledger.cli.options.comparing import annotation_options, vocabulary_of
from dotledger.files import check_output, check_output_folder

if TYPE_CHECKING:
    from dotledger.formats.annotations.collecting import LoadReport

__all__ = ["command"]

_MOST_REFUSED = 20


@click.command(
    name="annotations",
    epilog=example("dotledger annotations annotations.csv --images images --out truth.jsonld"),
)
@click.argument("source", metavar="PATH")
@annotation_options
@click.option(
    "--reviewed", is_flag=True, help="PATH holds findings with a column 'review' that you filled."
)
@click.option(
    "--out",
    metavar="PATH",
    help="Write them to a .csv, .jsonl, .parquet or .jsonld file, or a folder of image copies.",
)
@replace_option
@json_option
def command(
    source: str,
    columns: str | None,
    description: str | None,
    images: str | None,
    vocabulary: tuple[str, ...],
    reviewed: bool,
    out: str | None,
    replace: bool,
    as_json: bool,
) -> None:
    """Read ground truth, say what was read, and write it in another form if wanted.

    PATH is a table, a file of Web Annotations, images that carry IPTC Image Regions, or with
    --description any JSON or XML file or a folder of them.
    """
    from dotledger.formats.annotations.collecting import Loaded, report_of
    from dotledger.formats.annotations.front import load_annotations, read_review, write_annotations

    if out is not None:
        check = check_output if Path(out).suffix else check_output_folder
        check(out, place="--out", inputs=(source, columns, images), replace=replace)
    if reviewed and description is not None:
        raise click.UsageError("--reviewed reads a table, --description another kind of file")
    if reviewed:
        review = read_review(source, columns=columns, vocabulary=vocabulary_of(vocabulary))
        loaded = Loaded(
            annotations=review.annotations, report=report_of(review.annotations, source)
        )
        counted = ", ".join(f"{word} {count}" for word, count in sorted(review.counts.items()))
        say(f"Rows: {counted}.")
        if review.left_out:
            say(f"Images with rows nobody has looked at, left out: {len(review.left_out)}.")
    else:
        loaded = load_annotations(
            Path(source),
            columns=columns,
            description=description,
            images=images,
            vocabulary=vocabulary_of(vocabulary),
        )
    if as_json:
        print_json("annotations", loaded.report.to_dict())
    else:
        _show(loaded.report)
    if out is not None:
        written = write_annotations(loaded.annotations, out, images=images)
        files = written.files
        say(f"Written: {files[0] if len(files) == 1 else f'{len(files)} images in {out}'}")
        say_problems("no copy", written.left_out)


def _show(report: LoadReport) -> None:
    from dotledger.report.terminal.tables import rows_table

    counts = [[kind, label, count] for (kind, label), count in report.by_label.items()]
    print_table(*report.lines(), "", rows_table("", ["kind", "label", "annotations"], counts))
    if report.refused:
        shown = report.refused[:_MOST_REFUSED]
        title = f"Refused, {len(shown)} of {len(report.refused)}"
        print_table("", rows_table(title, ["image", "reason", "value"], shown))
