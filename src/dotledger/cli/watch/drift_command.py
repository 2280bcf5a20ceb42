"""``dotledger drift``."""

from __future__ import annotations

from collections.abc import Sequence
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

    A RUN is as of compare; FIRST is the earlier. Each change is held against what drawing images
    again would make. Times and fields of answers are compared for runs out of the ledger.
    """
    from dotledger.core.comparing.drift import drift_of

    runs = [_run(text, ledger) for text in (first, second)]
    cut = threshold_of(threshold)
    found = drift_of(
        runs[0][0].cut(cut),
        runs[1][0].cut(cut),
        seconds=(runs[0][1], runs[1][1]) if runs[0][1] and runs[1][1] else None,
        shape=_shape(runs, ledger),
        draws=draws,
        seed=seed,
    )
    if as_json:
        print_json(found.to_dict())
    else:
        _show(found, every=every)


def _run(text: str, ledger: str) -> tuple[Any, list[float], int | None]:
    """Return findings, seconds of each call, and the batch, if it is out of the ledger."""
    from dotledger.cli.choose.compare_command import batch_of, where_of
    from dotledger.cli.options.common import asked_findings

    where = where_of(batch_of(text, ledger))
    findings = asked_findings(where["findings"], ledger, where["service"], where["batch"])
    if where["findings"] is not None:
        return findings, [], None
    from dotledger.ledger.batches import find_batch
    from dotledger.ledger.store import Ledger
    from dotledger.ledger.usage import call_seconds

    with Ledger(ledger, create=False, read_only=True) as opened:
        batch = find_batch(opened, batch=findings.origin.batch)
        return findings, call_seconds(opened, batch), batch.id


def _shape(runs: Sequence[Any], ledger: str) -> dict[str, tuple[str, ...]] | None:
    if any(batch is None for _, _, batch in runs):
        return None
    from dotledger.core.comparing.drift import shape_changes

    return shape_changes(*(_answers(ledger, batch) for _, _, batch in runs))


def _answers(ledger: str, batch: int) -> list[Any]:
    """Return the first answers of a batch that are JSON."""
    from itertools import islice

    import orjson

    from dotledger.face import raw_answers

    found = []
    for _, _, answer in islice(raw_answers(Path(ledger), batch=batch), _MOST_ANSWERS):
        try:
            found.append(orjson.loads(answer))
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
