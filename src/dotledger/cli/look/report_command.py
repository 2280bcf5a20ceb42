"""``dotledger report``."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from dotledger.cli.options.common_options import (
    batch_options,
    example,
    ledger_option,
    print_table,
    replace_option,
    say,
    service_name,
    threshold_of,
    threshold_option,
)
from dotledger.cli.options.writing_options import words_of, writing_options
from dotledger.errors import ArgumentError
from dotledger.safe_files import check_output

__all__ = ["command"]


@click.command(
    name="report",
    epilog=example(
        "dotledger report --ledger walk.ledger --service marl --annotations annotations.csv "
        "--out report.html"
    ),
)
@click.argument("images", nargs=-1)
@click.option("--out", "out_file", metavar="FILE", required=True, help="The page (.html).")
@click.option("--findings", metavar="FILE", help="A findings file; without it, the ledger.")
@ledger_option
@batch_options
@click.option(
    "--versus", metavar="SERVICE", help="A second run: a service of the ledger, or findings."
)
@click.option("--annotations", metavar="PATH", help="Ground truth.")
@click.option("--images", "facts", metavar="FILE", help="A table about the images, to filter by.")
@click.option("--overlap", type=float, default=0.5, show_default=True, help="Required overlap.")
@threshold_option
@click.option("--rules", metavar="FILE", help="For verdicts on each image.")
@click.option(
    "--how",
    type=click.Choice(["embed", "link", "none"]),
    default="embed",
    show_default=True,
    help="Thumbnails inside the page, in a folder next to it, or none.",
)
@writing_options
@click.option(
    "--private", is_flag=True, help="Leave out images, names of persons, texts, raw answers."
)
@click.option("--title", default="", help="Above the page.")
@replace_option
def command(
    images: tuple[str, ...],
    out_file: str,
    findings: str | None,
    ledger: str,
    service: str | None,
    batch: int | None,
    versus: str | None,
    annotations: str | None,
    facts: str | None,
    overlap: float,
    threshold: str | None,
    rules: str | None,
    how: Any,
    write: str | None,
    place: Any,
    words: str | None,
    private: bool,
    title: str,
    replace: bool,
) -> None:
    """Write one page with everything: numbers, charts, the worst places, every image.

    IMAGES (files, folders, lists) are by default where they were sent from.

    A slider on the page moves the threshold for all of it. The page needs nothing next to it and
    can be sent around; with --private it holds no images, names, texts or raw answers.
    """
    from dotledger.report.pages.html_report import write_report

    check_output(
        out_file,
        place="--out",
        inputs=(*images, findings, ledger, annotations, rules, facts),
        replace=replace,
    )
    if Path(out_file).suffix.lower() not in (".html", ".htm"):
        raise ArgumentError("the page is an .html file", place="--out", got=out_file)
    path = write_report(
        out_file,
        findings,
        annotations,
        ledger=None if findings is not None else ledger,
        service=service_name(service),
        batch=batch,
        versus=versus,
        images=list(images) or None,
        facts=facts,
        overlap=overlap,
        threshold=threshold_of(threshold),
        rules=rules,
        how=how,
        write=write,
        place=place,
        words=words_of(words),
        private=private,
        title=title,
    )
    print_table(f"{path}: {path.stat().st_size / 1e6:.1f} MB. Open it in a browser.")
    if annotations is None:
        say("without --annotations it shows what was found, and does not judge it")
