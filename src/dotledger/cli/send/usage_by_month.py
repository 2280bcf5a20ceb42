"""``dotledger batches --by month``: calls and money by service and month."""

from __future__ import annotations

from typing import TYPE_CHECKING

from msgspec import to_builtins

from dotledger.cli.options.common_options import (
    money,
    print_json,
    print_table,
)

if TYPE_CHECKING:
    from dotledger.ledger.ledger_store import LedgerStore
    from dotledger.sending.policies.pricing import PriceNow

__all__ = ["show_months"]


def show_months(ledger: str, *, as_json: bool) -> None:
    """Show calls and money by service and month, and what is left of each quota.

    The quota is the one declared in the description of the service's newest batch.
    """
    from dotledger.ledger.ledger_store import LedgerStore
    from dotledger.ledger.usage_queries import usage
    from dotledger.report.terminal.terminal_tables import DASH, rows_table
    from dotledger.sending.policies.pricing import price_lines

    with LedgerStore(ledger, create=False) as opened:
        months = usage(opened)
        quotas = _quotas(opened)
        newest = {m.service: m.month for m in months}
        prices = {service: _prices(opened, service, month) for service, month in newest.items()}
    records = [
        to_builtins(m)
        | {"per_month": quota, "left": None if quota is None else quota - m.calls}
        | {"price_now": to_builtins(prices[m.service]) if m.month == newest[m.service] else None}
        for m in months
        for quota in [quotas.get(m.service)]
    ]
    if as_json:
        print_json("usage", {"months": records})
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
    for service, month in newest.items():
        currency = next(m.currency for m in months if m.service == service)
        for line in price_lines(prices[service], currency):
            print_table(f"{service}, {month}: {line}")


def _prices(ledger: LedgerStore, service: str, month: str) -> list[PriceNow]:
    """Return the steps of a service's prices that are in use at the end of a month."""
    from dotledger.errors import DescriptionError
    from dotledger.ledger.batch_queries import batches
    from dotledger.ledger.usage_queries import images_in_month
    from dotledger.sending.policies.pricing import price_now, units_used
    from dotledger.services.service_description import stored_description

    kept = [batch.description for batch in batches(ledger) if batch.service == service]
    try:
        described = stored_description(kept[-1])
        made = images_in_month(ledger, service, month)
        return price_now(described, units_used(described, made))
    except DescriptionError:
        return []


def _quotas(ledger: LedgerStore) -> dict[str, int | None]:
    from dotledger.json_codec import from_json
    from dotledger.ledger.batch_queries import batches

    return {
        batch.service: from_json(batch.description).get("limits", {}).get("per_month")
        for batch in batches(ledger)
    }
