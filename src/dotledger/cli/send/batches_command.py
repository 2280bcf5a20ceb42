"""``dotledger batches``."""

from __future__ import annotations

import time
from collections import Counter
from typing import TYPE_CHECKING, Any

import click
from msgspec import to_builtins

from dotledger.cli.options.common_options import (
    example,
    json_option,
    ledger_option,
    money,
    noticed,
    print_json,
    print_table,
)
from dotledger.core.spelling import counted

if TYPE_CHECKING:
    from dotledger.ledger.batch_queries import Batch
    from dotledger.ledger.ledger_store import LedgerStore

__all__ = ["command"]


@click.command(name="batches", epilog=example("dotledger batches 2 --ledger photos.ledger"))
@click.argument("batch", type=int, required=False)
@click.option("--by", type=click.Choice(["month"]), help="Calls, money and quotas by month.")
@ledger_option
@json_option
def command(batch: int | None, by: str | None, ledger: str, as_json: bool) -> None:
    """List the batches in a ledger, or show one BATCH in detail.

    In detail: outcomes by kind, failures by reason, how long calls took, retries, bytes, money.
    With --by month: calls and money of each service and month, and its remaining quota.
    """
    if by is not None:
        if batch is not None:
            raise click.UsageError("--by month is about all batches; leave the number out.")
        from dotledger.cli.send.usage_by_month import show_months

        show_months(ledger, as_json=as_json)
        return
    from dotledger.ledger.batch_queries import batches, find_batch
    from dotledger.ledger.ledger_store import LedgerStore

    with LedgerStore(ledger, create=False) as opened:
        if batch is None:
            _list(opened, batches(opened), as_json)
        else:
            _detail(opened, find_batch(opened, batch=batch), as_json)


def _list(ledger: LedgerStore, known: list[Batch], as_json: bool) -> None:
    from dotledger.report.terminal.terminal_tables import rows_table

    records = [_record(ledger, batch) for batch in known]
    if as_json:
        print_json("batches", {"batches": records})
        return
    rounds = any(r["round"] for r in records)
    header = ("batch", "service", *(["round"] if rounds else []), "images", "failed", "refused",
              "pending", "started", "ended")  # fmt: skip
    rows = [
        (
            str(r["batch"]),
            r["service"],
            *([r["round"]] if rounds else []),
            f"{r['images']:,}",
            *(f"{_most(r['outcomes'], o):,}" for o in ("failed", "refused", "pending")),
            r["started"][:16].replace("T", " "),
            r["ended"][:16].replace("T", " ") or _not_ended(r["senders"]),
        )
        for r in records
    ]
    print_table(rows_table("", header, rows))


def _most(outcomes: dict[str, dict[str, int]], outcome: str) -> int:
    """Return the images with an outcome, for the kind where they are most."""
    return max((counts[outcome] for counts in outcomes.values()), default=0)


def _record(ledger: LedgerStore, batch: Batch) -> dict[str, Any]:
    from dotledger.ledger.batch_queries import outcome_counts
    from dotledger.ledger.sender_crews import senders_of

    return {
        "batch": batch.id,
        "service": batch.service,
        "round": batch.round,
        "images": batch.images,
        "source": batch.source,
        "kinds": list(batch.kinds),
        "started": batch.started,
        "ended": batch.ended,
        "stopped_because": batch.stopped_because,
        "outcomes": outcome_counts(ledger, batch),
        "senders": [] if batch.ended else senders_of(ledger, batch.id, time.time()),
    }


def _not_ended(senders: list[dict[str, str]]) -> str:
    return f"{counted(len(senders), 'sender')} at work" if senders else "not ended"


def _detail(ledger: LedgerStore, batch: Batch, as_json: bool) -> None:
    from dotledger.core.kinds import shown_outcomes
    from dotledger.core.tables.table_origin import asked_with
    from dotledger.ledger.batch_queries import failures
    from dotledger.ledger.finding_queries import notes_of
    from dotledger.ledger.usage_queries import call_figures, preparations, versions_of
    from dotledger.ledger_findings import asked_settings
    from dotledger.report.terminal.terminal_tables import number, rows_table

    record = _record(ledger, batch)
    figures = call_figures(ledger, batch)
    failed = failures(ledger, batch)
    prepared = preparations(ledger, batch)
    noted = notes_of(ledger, batch)
    versions = versions_of(ledger, batch)
    settings = dict(asked_settings(batch))
    asked = _asked(batch)
    if as_json:
        rows = [dict(zip(("image", "kind", "outcome", "reason"), r, strict=True)) for r in failed]
        steps = [{"image": name, "steps": list(done)} for name, done in prepared]
        calls = {k: None if v != v else v for k, v in to_builtins(figures).items()}
        print_json(
            "batch",
            record
            | {
                "versions": versions,
                "settings": settings,
                "asked": asked,
                "calls": calls,
                "failures": rows,
                "prepared": steps,
                "notes": len(noted),
            },
        )
        return
    counts = record["outcomes"]
    shown = shown_outcomes(counts.values())
    print_table(
        f"Batch {batch.id}: {counted(batch.images, 'image')} of {batch.source} to {batch.service}",
        f"Started {batch.started[:19]}, {_ended(batch.ended, record['senders'])}.",
        *(f"Sending: {one['who']}, last seen {one['seen'][11:19]}." for one in record["senders"]),
        *([f"Stopped: {batch.stopped_because}."] if batch.stopped_because else []),
        *([f"Round: {batch.round}."] if batch.round else []),
        f"Asked for {', '.join(batch.kinds)}"
        + (f"; {asked_with(settings, ())}." if settings else "."),
        *(f"Call {one['call']}: {one['request']}, for {', '.join(one['kinds'])}." for one in asked),
        *(
            f"The service says it is version {name} ({counted(count, 'call')})."
            for name, count in versions.items()
        ),
        "",
        rows_table(
            "", ("kind", *shown), [(k, *(f"{counts[k][o]:,}" for o in shown)) for k in counts]
        ),
        "",
        f"{counted(figures.calls, 'call')}, tried again {counted(figures.retries, 'time')}, "
        f"{figures.sent_bytes / 1e6:.1f} MB sent"
        + (f", {money(figures.money, batch.currency)}." if batch.currency else "."),
        f"Seconds for one call: median {number(figures.median, 3)}, "
        f"95 % under {number(figures.p95, 3)}, longest {number(figures.longest, 3)}.",
    )
    by_image = {(name, outcome, reason) for name, _, outcome, reason in failed}
    reasons = Counter((outcome, reason) for _, outcome, reason in by_image)
    if reasons:
        print_table("", rows_table("", ("outcome", "images", "reason"), _most_frequent(reasons)))
    if noted:
        print_table("", *noticed(noted))
    if prepared:
        print_table("", f"Not sent as they are: {counted(len(prepared), 'image')}, such as")
        print_table(*(f"  {name}: {'; '.join(steps)}" for name, steps in prepared[:5]))


def _asked(batch: Batch) -> list[dict[str, Any]]:
    """Return which calls a batch makes, and for which kinds; none where that is not known."""
    from dotledger.errors import DescriptionError
    from dotledger.services.service_description import stored_description

    try:
        described = stored_description(batch.description)
    except DescriptionError:
        return []
    return [
        {
            "call": call.name,
            "request": f"{call.method} {described.filled(call.path)}",
            "kinds": [kind for kind in call.kinds if kind in batch.kinds],
        }
        for call in described.call
        if set(call.kinds) & set(batch.kinds) and not described.connect.code
    ]


def _ended(when: str, senders: list[dict[str, str]]) -> str:
    if when:
        return f"ended {when[:19]}"
    return "not finished" if senders else "not finished, and nobody sends it (stopped or killed)"


def _most_frequent(reasons: Counter[tuple[str, str]]) -> list[tuple[str, str, str]]:
    return [(outcome, f"{n:,}", reason) for (outcome, reason), n in reasons.most_common(12)]
