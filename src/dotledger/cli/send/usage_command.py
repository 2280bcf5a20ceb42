"""``dotledger usage``."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click
from msgspec import to_builtins

from dotledger.cli.options.common import (
    example,
    json_option,
    ledger_option,
    money,
    print_json,
    print_table,
)

if TYPE_CHECKING:
    from dotledger.ledger.store import Ledger

__all__ = ["command"]


@click.command(name="usage", epilog=example("dotledger usage --ledger photos.ledger"))
@ledger_option
@json_option
def command(ledger: str, as_json: bool) -> None:
    """Show calls and money by service and month, and what is left of each quota.

    The quota is the one declared in the description of the service's newest batch.
    """
    from dotledger.ledger.store import Ledger
    from dotledger.ledger.usage import usage
    from dotledger.report.terminal.tables import DASH, rows_table

    with Ledger(ledger, create=False) as opened:
        months = usage(opened)
        quotas = _quotas(opened)
    records = [
        to_builtins(m) | {"per_month": quota, "left": None if quota is None else quota - m.calls}
        for m in months
        for quota in [quotas.get(m.service)]
    ]
    if as_json:
        print_json(records)
        return
    header = ("service", "month", "calls", "failed", "images", "money", "left of quota")
    rows = [
        (
            r["service"],
            r["month"],
            f"{r['calls']:,}",
            f"{r['failed']:,}",
            f"{r['images']:,}",
            money(r["money"], r["currency"]),
            DASH if r["left"] is None else f"{r['left']:,}",
        )
        for r in records
    ]
    print_table(rows_table("", header, rows))


def _quotas(ledger: Ledger) -> dict[str, int | None]:
    import orjson

    from dotledger.ledger.batches import batches

    return {
        batch.service: orjson.loads(batch.description).get("limits", {}).get("per_month")
        for batch in batches(ledger)
    }
