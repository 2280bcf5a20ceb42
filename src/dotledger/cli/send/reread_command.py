"""``dotledger reread``."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING

import click
from msgspec import to_builtins

from dotledger.cli.options.common_options import (
    described,
    example,
    json_option,
    ledger_option,
    noticed,
    print_json,
    print_table,
    say,
)
from dotledger.core.spelling import counted

if TYPE_CHECKING:
    from dotledger.api.rereading import Reread

__all__ = ["command"]

_COLUMNS = ("image", "kind", "label", "confidence", "x0", "y0", "x1", "y1")


@click.command(
    name="reread", epilog=example("dotledger reread --service marl.toml --ledger photos.ledger")
)
@click.option(
    "--service", "file", metavar="SERVICE", help="The edited description, or a service's name."
)
@click.option("--names", metavar="FILE", help="A mapping of label names to apply.")
@ledger_option
@click.option("--batch", type=int, help="This batch; by default the newest of the service.")
@click.option("--most", type=int, default=30, show_default=True, help="Differences to show.")
@json_option
def command(
    file: str | None, names: str | None, ledger: str, batch: int | None, most: int, as_json: bool
) -> None:
    """Read stored answers again by an edited description or mapping; nothing is sent.

    The new reading is kept next to the old ones (see `findings --reading`), and what differs is
    counted and listed. Without --service the description kept with the batch is used.
    """
    from dotledger.api.rereading import reread
    from dotledger.formats.label_name_files import read_names
    from dotledger.ledger.batch_queries import find_batch
    from dotledger.ledger.ledger_store import LedgerStore
    from dotledger.services.service_description import stored_description

    edited = described(file, ledger) if file else None
    with LedgerStore(ledger, create=False) as opened:
        found = find_batch(
            opened, batch=batch, service=None if batch or not edited else edited.service
        )
        about = ", ".join(filter(None, (file, names))) or "the same description"
        result = reread(
            opened,
            found,
            edited or stored_description(found.description),
            names=read_names(Path(names)) if names else None,
            about=about,
            now=time.time(),
        )
    if as_json:
        print_json("reread", to_builtins(result))
    else:
        _show(result, found.id, most)


def _carried(images: int) -> list[str]:
    if not images:
        return []
    return [
        f"The raw answers of {counted(images, 'image')} were removed from the ledger: they cannot "
        "be read again, and their findings are those of the earlier reading."
    ]


def _show(result: Reread, batch: int, most: int) -> None:
    from dotledger.report.terminal.terminal_tables import number, rows_table

    gone = sum(d.state == "was" for d in result.differences)
    come = len(result.differences) - gone
    print_table(
        f"Batch {batch}, reading {result.reading}: {result.answers} answers, "
        f"{result.unreadable} of them unread or unreadable.",
        f"{result.same} findings unchanged, {gone} gone, {come} new.",
        *_carried(result.carried),
        *(f"Suspicious: {what}" for what in result.suspicions),
        *noticed(result.notes),
    )
    rows = [
        (
            *(d.state, d.image, d.kind, d.label, number(d.confidence)),
            *(number(value, 1) for value in d.box or (None,) * 4),
        )
        for d in result.differences[:most]
    ]
    if rows:
        print_table("", rows_table("", ("", *_COLUMNS), rows))
    if len(result.differences) > most:
        say(f"The first {most} of {len(result.differences)} are shown; --json has all.")
