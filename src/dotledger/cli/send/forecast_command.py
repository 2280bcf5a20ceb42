"""``dotledger forecast``."""

from __future__ import annotations

import math
from contextlib import nullcontext
from pathlib import Path
from typing import TYPE_CHECKING

import click
from msgspec import to_builtins

from dotledger.cli.options.common_options import (
    as_kinds,
    described,
    example,
    json_option,
    ledger_option,
    money,
    print_json,
    print_table,
    say_passed_over,
    say_problems,
    service_options,
    settings_of,
)
from dotledger.core.spelling import counted, first_of

if TYPE_CHECKING:
    from dotledger.sending.cost_forecast import Forecast

__all__ = ["command"]

_MOST_NAMES = 3


@click.command(
    name="forecast",
    epilog=example("dotledger forecast photos --service myservice.toml --ledger photos.ledger"),
)
@click.argument("images", nargs=-1, required=True)
@service_options
@ledger_option
@json_option
def command(
    images: tuple[str, ...],
    service: str,
    ledger: str,
    kinds: str | None,
    pairs: tuple[str, ...],
    as_json: bool,
) -> None:
    """Estimate calls, time and cost of sending IMAGES; nothing is sent, no key is needed.

    Counts what would be sent, what the ledger already answers, what would be refused and why,
    calls, bytes, time at the allowed rate, price, and the share of the monthly quota.
    """
    import time

    from dotledger.images.image_gathering import gather
    from dotledger.ledger.ledger_records import timestamp
    from dotledger.ledger.ledger_store import LedgerStore
    from dotledger.sending.cost_forecast import forecast
    from dotledger.sending.policies.send_plan import make_plan
    from dotledger.services.description_trust import facts_of

    description = described(service, ledger).with_settings(settings_of(pairs))
    gathered = gather(images, missing="list")
    say_problems("cannot be read", gathered.problems)
    say_passed_over(gathered.passed_over)
    plan = make_plan(description, gathered, kinds=as_kinds(kinds))
    there = Path(ledger).exists() or "://" in ledger
    with LedgerStore(ledger, create=False) if there else nullcontext() as opened:
        result = forecast(plan, opened, month=timestamp(time.time())[:7])
    if as_json:
        share = result.share_of_month
        facts = {"share_of_month": None if math.isnan(share) else share}
        facts["trust"] = to_builtins(facts_of(description))
        print_json("forecast", to_builtins(result) | facts)
    else:
        _show(result, description.service)
        print_table("", *facts_of(description).lines())


def _show(result: Forecast, service: str) -> None:
    from dotledger.report.terminal.terminal_tables import duration, rows_table
    from dotledger.sending.policies.pricing import price_lines

    rows = [
        ("would be sent", f"{result.to_send:,}"),
        ("answered in the ledger already", f"{result.answered:,}"),
        ("same bytes under another name", f"{result.repeated:,}"),
        ("would be refused", f"{result.refused:,}"),
    ]
    print_table(
        rows_table(f"{counted(result.images, 'image')} to {service}", ("images", ""), rows), ""
    )
    rate = (
        f"{duration(result.seconds)} at the allowed rate" if result.seconds else "no rate declared"
    )
    price = money(result.money, result.currency) if result.currency else "no price declared"
    most = "" if result.least_calls == result.calls else " at most"
    calls = f"{counted(result.calls, 'call')}{most}"
    lines = [f"{calls}, {result.bytes / 1e6:,.1f} MB, {rate}, {price}{most}."]
    if most:
        waiting = result.calls - result.least_calls
        lines.append(f"{waiting:,} of them only where another call finds what they wait for.")
    lines += price_lines(result.prices, result.currency)
    if result.per_month:
        lines.append(
            f"This month: {counted(result.used_this_month, 'call')} made, then "
            f"{result.used_this_month + result.calls:,} of {result.per_month:,} "
            f"({result.share_of_month:.1%})."
        )
        over = min(result.calls, result.used_this_month + result.calls - result.per_month)
        if over > 0:
            lines.append(f"The quota does not suffice: {counted(over, 'call')} would wait.")
    lines += [
        f"Before sending: {what}: {counted(count, 'image')}."
        for what, count in result.prepared.items()
    ]
    for reason, names in result.reasons.items():
        lines.append(f"Refused: {reason}: {first_of(names, _MOST_NAMES)}")
    print_table(*lines)
