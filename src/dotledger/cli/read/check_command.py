"""``dotledger check``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.options.common_options import (
    asked_findings,
    batch_options,
    example,
    json_option,
    ledger_option,
    print_json,
    print_table,
    say_problems,
    service_name,
)
from dotledger.cli.options.provenance import provenance, provenance_lines

if TYPE_CHECKING:
    from dotledger.core.questions.box_conventions import Fit, ImageSize

__all__ = ["command"]


@click.command(
    name="check",
    epilog=example("dotledger check --annotations truth.csv --service marl --ledger photos.ledger"),
)
@click.option("--annotations", metavar="FILE", required=True, help="The ground truth.")
@click.option("--findings", metavar="FILE", help="A findings file; without it, the ledger.")
@click.option("--images", metavar="FOLDER", help="With --findings: where the images are.")
@ledger_option
@batch_options
@json_option
def command(
    annotations: str,
    findings: str | None,
    images: str | None,
    ledger: str,
    service: str | None,
    batch: int | None,
    as_json: bool,
) -> None:
    """Say whether boxes would fit the truth better under another convention.

    Centre for corner, x and y swapped, pixels of another size, orientation applied twice or not
    at all, percent for fractions: the mean overlap under each, the best first.
    """
    from dotledger.core.questions.box_conventions import better_convention, check_conventions
    from dotledger.formats.annotations.annotation_files import read_annotations

    found = asked_findings(findings, ledger, service, batch)
    annotated = read_annotations(Path(annotations))
    sizes = _sizes_of_files(images) if findings else _sizes_of_batch(ledger, service, batch)
    fits = check_conventions(found, annotated, sizes)
    about = provenance(found, file=findings, annotations=annotations)
    if as_json:
        rows = [
            {
                "read_as": f.name,
                "mean_overlap": _plain(f.mean_overlap),
                "as_now": _plain(f.as_now),
                "boxes_moved": f.changed,
            }
            for f in fits
        ]
        best = better_convention(fits)
        print_json("check", {**about, "conventions": rows, "better": best.name if best else None})
    else:
        print_table(*provenance_lines(about), "")
        _show(fits)


def _plain(value: float) -> float | None:
    return None if value != value else value


def _show(fits: list[Fit]) -> None:
    from dotledger.core.questions.box_conventions import better_convention
    from dotledger.report.terminal.terminal_tables import number, rows_table

    now = next(fit for fit in fits if fit.name == "as now")
    shown = fits[:6] if now in fits[:6] else [*fits[:6], now]
    rows = [
        (fit.name, f"{fit.changed:,}", number(fit.mean_overlap), number(fit.as_now))
        for fit in shown
    ]
    header = ("boxes read as", "boxes moved", "mean overlap", "as now")
    print_table(rows_table("Judged on the images whose boxes move", header, rows), "")
    better = better_convention(fits)
    if now.mean_overlap != now.mean_overlap:
        print_table("Nothing to compare: no image has both boxes and annotated boxes.")
    elif better is None:
        print_table(f"No other convention fits clearly better than {number(now.mean_overlap)}.")
    else:
        print_table(
            f"Read as {better.name} the mean overlap is {number(better.mean_overlap)} on the "
            f"images whose boxes move; as now {number(better.as_now)}."
        )


def _sizes_of_batch(ledger: str, service: str | None, batch: int | None) -> dict[str, ImageSize]:
    from dotledger.core.questions.box_conventions import ImageSize
    from dotledger.ledger.batch_queries import find_batch, kept_sizes
    from dotledger.ledger.ledger_store import Ledger

    with Ledger(ledger, create=False) as opened:
        found = find_batch(opened, batch=batch, service=service_name(service))
        return {name: ImageSize(**size) for name, size in kept_sizes(opened, found).items()}


def _sizes_of_files(folder: str | None) -> Any:
    from dotledger.core.questions.box_conventions import ImageSize
    from dotledger.errors import ArgumentError, ImageError
    from dotledger.images.image_facts import read_facts
    from dotledger.images.image_gathering import gather

    if folder is None:
        raise ArgumentError("the images are needed for their sizes", place="--images")
    sizes = {}
    bad: list[tuple[str, str]] = []
    for item in gather(folder).items:
        try:
            facts = read_facts(item.read())
        except (ImageError, OSError) as error:
            bad.append((item.name, str(error)))
            continue
        size = (facts.width, facts.height)
        sizes[item.name] = ImageSize(
            width=size[0],
            height=size[1],
            sent_width=size[0],
            sent_height=size[1],
            orientation=facts.orientation,
        )
    say_problems("size not known", bad)
    if not sizes:
        raise ArgumentError("the size of no image can be read", place="--images", got=folder)
    return sizes
