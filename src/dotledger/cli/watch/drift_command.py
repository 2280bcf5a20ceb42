"""``dotledger drift``."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.options.common_options import (
    example,
    given_options,
    json_option,
    ledger_option,
    print_json,
    print_table,
    replace_option,
    threshold_of,
    threshold_option,
)
from dotledger.cli.options.provenance import provenance_lines, run_provenance
from dotledger.cli.watch.drift_rounds import watch_rounds
from dotledger.core.spelling import first_of

if TYPE_CHECKING:
    from dotledger.core.comparison.drift import Change, Drift
    from dotledger.core.comparison.drift_runs import RunFacts
    from dotledger.core.tables.findings_table import Findings

__all__ = ["command"]


@click.command(
    name="drift",
    epilog=example("dotledger drift flint flint@autumn\n  dotledger drift flint --since autumn"),
)
@click.argument("runs", metavar="RUN [RUN]", nargs=-1)
@ledger_option
@threshold_option
@click.option("--every", is_flag=True, help="Also what did not change.")
@click.option("--draws", type=int, default=2000, show_default=True, help="Exchanges.")
@click.option("--seed", type=int, default=0, show_default=True, help="Of the exchanges.")
@click.option(
    "--since",
    metavar="ROUND",
    help="Judge each later round by this one (a name, or the number of a batch); see below.",
)
@click.option("--looks", type=int, metavar="N", help="With --since: looks planned, at first 365.")
@click.option("--any-images", is_flag=True, help="With --since: batches of other images, too.")
@click.option("--page", metavar="FILE", help="With --since: write a page with a chart a figure.")
@replace_option
@json_option
def command(
    runs: tuple[str, ...],
    ledger: str,
    threshold: str | None,
    every: bool,
    draws: int,
    seed: int,
    since: str | None,
    as_json: bool,
    **watching: Any,
) -> int:
    """Test what changed between two runs, without annotations.

    A RUN is as of compare, or all batches of a month (flint@2026-11); the first is the earlier.
    All figures are tested together by a permutation test, which swaps the two answers to an
    image. Versions, settings,
    times, fields of answers and images without an answer are compared for runs in the ledger.

    With --since, RUN is a service. Each later round is judged once, and the ledger remembers it:
    look as often as you like, all planned looks together raise a false alarm in at most 5 of 100
    watches. The exit status is 1 if the newest round, or one judged just now, raised an alarm,
    and 3 if a later round has no answer at all.
    """
    if since is not None:
        if given := given_options(["draws"]):
            raise click.UsageError(
                f"{given[0]} is for two runs; a watch makes as many as it needs."
            )
        return watch_rounds(
            runs,
            ledger,
            since,
            threshold=threshold,
            seed=seed,
            every=every,
            as_json=as_json,
            **watching,
        )
    if len(runs) != 2:
        raise click.UsageError("Name two runs, the earlier one first; or one round with --since.")
    if given := given_options(["looks", "any_images", "page", "replace"]):
        raise click.UsageError(f"{given[0]} goes with --since.")
    _compare_two(runs, ledger, threshold, draws, seed, every=every, as_json=as_json)
    return 0


def _compare_two(
    texts: Sequence[str],
    ledger: str,
    threshold: str | None,
    draws: int,
    seed: int,
    *,
    every: bool,
    as_json: bool,
) -> None:
    from dotledger.core.comparison.drift import drift_of

    cut = threshold_of(threshold)
    first_run, second_run = (_run(text, ledger) for text in texts)
    found = drift_of(
        first_run.findings.cut(cut),
        second_run.findings.cut(cut),
        facts=(first_run.facts, second_run.facts) if first_run.facts and second_run.facts else None,
        draws=draws,
        seed=seed,
    )
    named = zip(texts, (first_run, second_run), strict=True)
    runs = [
        run_provenance(one.findings, name=name, file=one.file, threshold=threshold)
        for name, one in named
    ]
    about = {"about": {"runs": runs, "annotations": None}}
    if as_json:
        print_json("drift", {**about, **found.to_dict()})
    else:
        print_table(*provenance_lines(about), "")
        _show(found, every=every)


@dataclass(frozen=True, kw_only=True)
class _DriftRun:
    """One run: findings, and what only a ledger knows."""

    findings: Findings
    facts: RunFacts | None = None
    file: str | None = None


_FIELD = "answers with a field"
_MONTH = re.compile(r"(.+)@(\d{4}-\d{2})")


def _run(text: str, ledger: str) -> _DriftRun:
    """Return a run; of the ledger also the batches of a month, ``flint@2026-11``."""
    from dotledger.cli.options.common_options import asked_findings
    from dotledger.cli.options.comparing_options import batch_of, where_of

    if match := _MONTH.fullmatch(text):
        numbers = _of_month(ledger, match[1], match[2])
        if numbers:
            return _kept(ledger, numbers)
    where = where_of(batch_of(text, ledger))
    findings = asked_findings(where["findings"], ledger, where["service"], where["batch"])
    if where["findings"] is not None:
        return _DriftRun(findings=findings, file=where["findings"])
    return _kept(ledger, [findings.origin.batch])


def _of_month(ledger: str, service: str, month: str) -> list[int]:
    """Return the batches of a service that began in a month (UTC), unless it names a round."""
    from dotledger.ledger.ledger_access import Ledger

    with Ledger(ledger, create=False, read_only=True) as opened:
        known = [batch for batch in opened.batches() if batch.service == service]
    if any(batch.round == month for batch in known):
        return []
    return [batch.id for batch in known if batch.started.startswith(month)]


def _kept(ledger: str, numbers: list[int]) -> _DriftRun:
    from dotledger.api.drift_watch import run_of_batches
    from dotledger.ledger.ledger_store import LedgerStore

    with LedgerStore(ledger, create=False, read_only=True) as opened:
        findings, facts = run_of_batches(opened, numbers)
    return _DriftRun(findings=findings, facts=facts)


def _show(found: Drift, *, every: bool) -> None:
    from dotledger.report.terminal.terminal_tables import rows_table

    same = "the same" if found.paired else "different"
    print_table(f"{found.images[0]} and {found.images[1]} images, {same} in both runs.")
    print_table(*found.known)
    shown = found.changes if every else [one for one in found.found if one.what != _FIELD]
    if shown:
        header = ("", "of", "first", "second", "change", "p", "smallest seen")
        print_table("", rows_table("", header, [_cells(one) for one in shown]))
    if not found.found:
        print_table("", _nothing(found))
    for word, labels in (("came", found.came), ("went", found.went)):
        if labels:
            listed = [f"{name} ({count})" for name, count in labels.items()]
            print_table(f"Labels that {word}: {first_of(listed, 12)}.")
    for word, fields in found.shape.items():
        if fields:
            print_table(f"Fields of answers that {word}: {first_of(fields, 12)}.")
    print_table("", *found.notes)


def _nothing(found: Drift) -> str:
    if found.same:
        return "Both runs have the same labels, confidences and boxes."
    return "No significant change."


def _cells(one: Change) -> list[Any]:
    from dotledger.report.terminal.terminal_tables import DASH, number

    change = DASH if one.change != one.change else f"{one.change:+.3f}"
    mark = "" if one.beyond_chance else " (not significant)"
    chance = DASH
    if one.p_value == one.p_value:
        chance = "under 0.001" if one.p_value < 0.001 else f"{one.p_value:.3f}"
    least = DASH if one.smallest != one.smallest else f"{one.smallest:.3f}"
    return [one.what, one.of, number(one.first), number(one.second), change + mark, chance, least]
