"""``dotledger annotations``."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from dotledger.cli.options.common_options import (
    example,
    json_option,
    print_json,
    print_table,
    replace_option,
    say,
    say_problems,
)
from dotledger.cli.options.comparing_options import annotation_options, vocabulary_of
from dotledger.core.spelling import counted
from dotledger.safe_files import check_output, check_output_folder

if TYPE_CHECKING:
    from dotledger.formats.annotations.annotation_collecting import LoadReport

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
    help="Write them to a .csv, .jsonl, .parquet, .jsonld or .json (Croissant) file, or a folder "
    "of image copies.",
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

    PATH is a table, Web Annotations, a IIIF manifest, a Croissant description, ALTO or PAGE,
    images that carry IPTC Image Regions, or with --description any JSON or XML file or a folder
    of them.
    """
    from dotledger.formats.annotations.annotation_collecting import Loaded, report_of
    from dotledger.formats.annotations.annotation_files import (
        load_annotations,
        read_review,
        write_annotations,
    )

    if out is not None:
        check = check_output if Path(out).suffix else check_output_folder
        for file in _outputs(Path(out)):
            check(file, place="--out", inputs=(source, columns, images), replace=replace)
    if reviewed and description is not None:
        raise click.UsageError("--reviewed reads a table, --description another kind of file")
    if reviewed:
        review = read_review(source, columns=columns, vocabulary=vocabulary_of(vocabulary))
        loaded = Loaded(
            annotations=review.annotations, report=report_of(review.annotations, source)
        )
        words = ", ".join(f"{word} {count}" for word, count in sorted(review.counts.items()))
        say(f"Rows: {words}.")
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
        _say_written(written.files, Path(out))
        say_problems("no copy", written.left_out)


def _outputs(out: Path) -> list[Path]:
    """Return every file that is written, or the folder."""
    from dotledger.formats.croissant.croissant_writing import croissant_files

    beside = croissant_files(out).values() if out.suffix.lower() == ".json" else ()
    return [out, *beside]


def _say_written(files: Sequence[Path], out: Path) -> None:
    if not out.suffix:
        say(f"Written: {counted(len(files), 'image')} in {out}")
        return
    say(f"Written: {', '.join(map(str, files))}")
    if out.suffix.lower() == ".json":
        say("Before you publish it, add what only you know: license, creator, url, datePublished.")


def _show(report: LoadReport) -> None:
    from dotledger.report.terminal.terminal_tables import rows_table

    counts = [[kind, label, count] for (kind, label), count in report.by_label.items()]
    print_table(*report.lines(), "", rows_table("", ["kind", "label", "annotations"], counts))
    if report.refused:
        shown = report.refused[:_MOST_REFUSED]
        title = f"Refused, {len(shown)} of {len(report.refused)}"
        print_table("", rows_table(title, ["image", "reason", "value"], shown))
