"""``dotledger findings``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.common import (
    as_kinds,
    example,
    json_option,
    kinds_option,
    ledger_option,
    print_json,
    print_table,
    say,
)

if TYPE_CHECKING:
    from dotledger.core.tables import Findings

__all__ = ["command"]


@click.command(
    name="findings",
    epilog=example("dotledger findings --service flint --threshold 0.5 --out flint.csv"),
)
@ledger_option
@click.option("--service", help="The newest batch of this service.")
@click.option("--batch", type=int, help="This batch.")
@kinds_option
@click.option("--threshold", type=float, help="Leave out findings below this confidence.")
@click.option("--label", "labels", multiple=True, help="Only this label; may be repeated.")
@click.option("--most", type=int, default=40, show_default=True, help="Rows to show; 0 for all.")
@click.option(
    "--out", "out_file", metavar="FILE", help="Write all to a .csv, .jsonl or .parquet file."
)
@json_option
def command(
    ledger: str,
    service: str | None,
    batch: int | None,
    kinds: str | None,
    threshold: float | None,
    labels: tuple[str, ...],
    most: int,
    out_file: str | None,
    as_json: bool,
) -> None:
    """Show what a service found, or write it to a file.

    Files keep a row with an empty label for every image that was answered and holds nothing.
    """
    from dotledger.ledger.views import findings_of

    found = findings_of(
        ledger, batch=batch, service=service, kinds=as_kinds(kinds), threshold=threshold
    )
    if labels:
        found = found.take(found.label.onto(labels) >= 0)
    if out_file is not None:
        from dotledger.formats.tables import write_table

        say(f"{len(found)} rows written to {write_table(found, Path(out_file))}")
    elif as_json:
        print_json(_records(found))
    else:
        _show(found, most)


def _records(found: Findings) -> list[dict[str, Any]]:
    rows = found.frame().to_dict("records")
    plain: list[dict[str, Any]] = []
    for place, row in enumerate(rows):
        record = {str(k): None if v != v else v for k, v in row.items()}
        details = found.details[place] if found.details is not None else None
        plain.append(record | ({"details": details.to_dict()} if details else {}))
    return plain


def _show(found: Findings, most: int) -> None:
    from dotledger.report.tables import number, rows_table

    shown = found.take(~found.blank)
    images, kinds, labels = (c.values() for c in (shown.image, shown.kind, shown.label))
    stop = len(shown) if most <= 0 else min(most, len(shown))
    rows = [
        (images[i], kinds[i], labels[i], number(float(shown.confidence[i])), *_box(shown, i))
        for i in range(stop)
    ]
    header = ("image", "kind", "label", "confidence", "x0", "y0", "x1", "y1")
    print_table(rows_table("", header, rows))
    empty = int(found.blank.sum())
    print_table(f"{len(shown)} findings; {empty} times answered with nothing found.")
    if stop < len(shown):
        say(f"The first {stop} are shown; --most 0 shows all, --out FILE writes all.")


def _box(table: Findings, row: int) -> list[str]:
    from dotledger.report.tables import number

    return [number(float(value), 1) for value in table.box[row]]
