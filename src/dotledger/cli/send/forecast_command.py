"""``dotledger forecast``."""

from __future__ import annotations

import math
from contextlib import nullcontext
from pathlib import Path
from typing import TYPE_CHECKING, Any

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
    replace_option,
    say_passed_over,
    say_problems,
    service_options,
    settings_of,
)
from dotledger.core.spelling import counted, first_of

if TYPE_CHECKING:
    from collections.abc import Sequence

    from dotledger.acting.image_repair import RepairedImage
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
@click.option(
    "--repair",
    "folder",
    metavar="FOLDER",
    help="Write whole copies of damaged images there, where that can be; they are not sent.",
)
@replace_option
@json_option
def command(
    images: tuple[str, ...],
    service: str,
    ledger: str,
    kinds: str | None,
    pairs: tuple[str, ...],
    folder: str | None,
    replace: bool,
    as_json: bool,
) -> int:
    """Estimate calls, time and cost of sending IMAGES; nothing is sent, no key is needed.

    Counts what would be sent, what the ledger already answers, what would be refused and why,
    calls, bytes, time at the allowed rate, price, and the share of the monthly quota. With --repair
    the exit status is 3 if some damaged image could not be saved.
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
    repaired = []
    if folder is not None:
        from dotledger.acting.image_repair import repair_images

        repaired = repair_images(gathered, folder, demands=plan.demands, replace=replace)
    if as_json:
        share = result.share_of_month
        facts: dict[str, Any] = {"share_of_month": None if math.isnan(share) else share}
        facts["trust"] = to_builtins(facts_of(description))
        facts["repaired"] = [one.to_dict() for one in repaired]
        print_json("forecast", to_builtins(result) | facts)
    else:
        _show(result, description.service)
        if folder is not None:
            print_table("", *_repaired_lines(repaired, folder))
        elif result.damaged:
            what = counted(result.damaged, "image")
            print_table("", f"Damaged: {what}. --repair FOLDER writes whole copies if it can.")
        print_table("", *facts_of(description).lines())
    return 3 if any(one.problem for one in repaired) else 0


def _repaired_lines(repaired: Sequence[RepairedImage], folder: str) -> list[str]:
    if not repaired:
        return ["No image is refused as damaged: nothing was written."]
    made = sum(one.path is not None for one in repaired)
    lines = [f"{counted(made, 'file')} written to {folder}; nothing was sent."]
    for one in repaired:
        what = [*one.done, *([one.problem] if one.problem else [])]
        lines.append(f"{one.path or one.name}: {'; '.join(what)}")
    return lines


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
