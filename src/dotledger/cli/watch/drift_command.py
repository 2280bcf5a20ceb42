"""``dotledger drift``."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.options.common import (
    example,
    json_option,
    ledger_option,
    print_json,
    print_table,
    threshold_of,
    threshold_option,
)
from dotledger.core.spelling import first_of

if TYPE_CHECKING:
    from dotledger.core.comparing.drift import Change, Drift
    from dotledger.core.tables.findings import Findings

__all__ = ["command"]

_MOST_ANSWERS = 500


@click.command(name="drift", epilog=example("dotledger drift flint flint@autumn"))
@click.argument("first", metavar="RUN")
@click.argument("second", metavar="RUN")
@ledger_option
@threshold_option
@click.option("--every", is_flag=True, help="Also what did not change.")
@click.option("--draws", type=int, default=1000, show_default=True, help="Of images.")
@click.option("--seed", type=int, default=0, show_default=True, help="Of the draws.")
@json_option
def command(
    first: str,
    second: str,
    ledger: str,
    threshold: str | None,
    every: bool,
    draws: int,
    seed: int,
    as_json: bool,
) -> None:
    """Tell what changed between two runs where nothing is annotated.

    A RUN is as of compare, or all batches of a month (flint@2026-11); the first is the earlier.
    Each change is held against what drawing images again would make. Times, fields of answers and
    images without an answer are compared for runs out of the ledger.
    """
    from dotledger.core.comparing.drift import drift_of

    runs = [_run(text, ledger) for text in (first, second)]
    cut = threshold_of(threshold)
    first_run, second_run = runs
    both = bool(first_run.batches and second_run.batches)
    found = drift_of(
        first_run.findings.cut(cut),
        second_run.findings.cut(cut),
        seconds=(first_run.seconds, second_run.seconds) if both else None,
        asked=(first_run.asked, second_run.asked) if both else None,
        shape=_shape(runs, ledger) if both else None,
        draws=draws,
        seed=seed,
    )
    if as_json:
        print_json("drift", found.to_dict())
    else:
        _show(found, every=every)


@dataclass(frozen=True, kw_only=True)
class _Run:
    """One run: findings, and what only a ledger knows."""

    findings: Findings
    seconds: list[float] = field(default_factory=list)
    batches: list[int] = field(default_factory=list)
    asked: int = 0


_MONTH = re.compile(r"(.+)@(\d{4}-\d{2})")


def _run(text: str, ledger: str) -> _Run:
    """Return a run; of the ledger also the batches of a month, ``flint@2026-11``."""
    from dotledger.cli.options.common import asked_findings
    from dotledger.cli.options.comparing import batch_of, where_of

    if match := _MONTH.fullmatch(text):
        numbers = _of_month(ledger, match[1], match[2])
        if numbers:
            return _kept(ledger, numbers)
    where = where_of(batch_of(text, ledger))
    findings = asked_findings(where["findings"], ledger, where["service"], where["batch"])
    if where["findings"] is not None:
        return _Run(findings=findings)
    return _kept(ledger, [findings.origin.batch])


def _of_month(ledger: str, service: str, month: str) -> list[int]:
    """Return the batches of a service that began in a month (UTC), unless it names a round."""
    from dotledger.face import batches

    known = [batch for batch in batches(ledger) if batch.service == service]
    if any(batch.round == month for batch in known):
        return []
    return [batch.id for batch in known if batch.started.startswith(month)]


def _kept(ledger: str, numbers: list[int]) -> _Run:
    from dotledger.core.tables.findings import Findings
    from dotledger.kept import findings_of
    from dotledger.ledger.batches import find_batch
    from dotledger.ledger.store import Ledger
    from dotledger.ledger.usage import call_seconds

    tables, seconds, asked = [], [], 0
    with Ledger(ledger, create=False, read_only=True) as opened:
        for number in numbers:
            batch = find_batch(opened, batch=number)
            tables.append(findings_of(opened, batch=number))
            seconds += call_seconds(opened, batch)
            asked += batch.images
    findings = tables[0] if len(tables) == 1 else Findings.concat(tables)
    return _Run(findings=findings, seconds=seconds, batches=numbers, asked=asked)


def _shape(runs: Sequence[_Run], ledger: str) -> dict[str, tuple[str, ...]]:
    from dotledger.core.comparing.drift import shape_changes

    return shape_changes(*(_answers(ledger, run.batches[-1]) for run in runs))


def _answers(ledger: str, batch: int) -> list[Any]:
    """Return the first answers of a batch that are JSON."""
    from itertools import islice

    from dotledger.face import raw_answers
    from dotledger.jsons import from_json

    found = []
    for _, _, answer in islice(raw_answers(Path(ledger), batch=batch), _MOST_ANSWERS):
        try:
            found.append(from_json(answer))
        except ValueError:
            continue
    return found


def _show(found: Drift, *, every: bool) -> None:
    from dotledger.report.terminal.tables import rows_table

    same = "the same" if found.paired else "different"
    print_table(f"{found.images[0]} and {found.images[1]} images, {same} in both runs.")
    shown = found.changes if every else found.found
    if shown:
        header = ("", "of", "first", "second", "change", "by chance")
        print_table("", rows_table("", header, [_cells(one) for one in shown]))
    if not found.found:
        print_table("", "Nothing changed by more than drawing images again would make.")
    for word, labels in (("came", found.came), ("went", found.went)):
        if labels:
            listed = [f"{name} ({count})" for name, count in labels.items()]
            print_table(f"Labels that {word}: {first_of(listed, 12)}.")
    for word, fields in found.shape.items():
        if fields:
            print_table(f"Fields of answers that {word}: {first_of(fields, 12)}.")
    print_table("", *found.notes)


def _cells(one: Change) -> list[Any]:
    from dotledger.report.terminal.tables import DASH, number

    known = one.low == one.low
    change = f"{one.change:+.2f}" + (f" ({one.low:+.2f} to {one.high:+.2f})" if known else "")
    if one.by_chance == one.by_chance:  # a distance has no direction
        change = change.replace("+", "")
    chance = DASH if one.by_chance != one.by_chance else f"up to {one.by_chance:.2f}"
    mark = "" if one.beyond_chance else " (no change)"
    return [one.what, one.of, number(one.first), number(one.second), change + mark, chance]
