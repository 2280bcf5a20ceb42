"""``dotledger drift``."""

from __future__ import annotations

import re
from dataclasses import dataclass
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
    from dotledger.core.comparing.drift import Change, Drift, RunFacts
    from dotledger.core.tables.findings import Findings

__all__ = ["command"]

_MOST_ANSWERS = 500


@click.command(name="drift", epilog=example("dotledger drift flint flint@autumn"))
@click.argument("first", metavar="RUN")
@click.argument("second", metavar="RUN")
@ledger_option
@threshold_option
@click.option("--every", is_flag=True, help="Also what did not change.")
@click.option("--draws", type=int, default=2000, show_default=True, help="Exchanges.")
@click.option("--seed", type=int, default=0, show_default=True, help="Of the exchanges.")
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
    All figures are tested together, by swapping the two answers to an image. Versions, settings,
    times, fields of answers and images without an answer are compared for runs out of the ledger.
    """
    from dotledger.core.comparing.drift import drift_of

    runs = [_run(text, ledger) for text in (first, second)]
    cut = threshold_of(threshold)
    first_run, second_run = runs
    found = drift_of(
        first_run.findings.cut(cut),
        second_run.findings.cut(cut),
        facts=(first_run.facts, second_run.facts) if first_run.facts and second_run.facts else None,
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
    facts: RunFacts | None = None


_FIELD = "answers with a field"
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
    from dotledger.core.comparing.drift import RunFacts
    from dotledger.core.tables.findings import Findings
    from dotledger.kept import findings_of
    from dotledger.ledger.batches import find_batch, sent_images
    from dotledger.ledger.store import Ledger
    from dotledger.ledger.usage import call_seconds, versions_of

    tables, seconds, versions = [], [], dict[str, int]()
    asked: list[str] = []
    with Ledger(ledger, create=False, read_only=True) as opened:
        for number in numbers:
            batch = find_batch(opened, batch=number)
            tables.append(findings_of(opened, batch=number))
            seconds += call_seconds(opened, batch)
            asked += [sent.name for sent in sent_images(opened, batch)]
            for version, calls in versions_of(opened, batch).items():
                versions[version] = versions.get(version, 0) + calls
    facts = RunFacts(
        asked=asked,
        seconds=seconds,
        fields=_fields(ledger, numbers[-1]),
        versions=versions,
        settings=batch.settings,
        service=batch.service,
        described_as=batch.fingerprint,
    )
    findings = tables[0] if len(tables) == 1 else Findings.concat(tables)
    return _Run(findings=findings, facts=facts)


def _fields(ledger: str, batch: int) -> dict[str, frozenset[str]]:
    """Return the fields of the first answers of a batch that are JSON, by image."""
    from itertools import islice

    from dotledger.core.comparing.drift_figures import fields_of
    from dotledger.face import raw_answers
    from dotledger.jsons import from_json

    found: dict[str, frozenset[str]] = {}
    for image, _, answer in islice(raw_answers(Path(ledger), batch=batch), _MOST_ANSWERS):
        try:
            found[image] = found.get(image, frozenset()) | fields_of(from_json(answer))
        except ValueError:
            continue
    return found


def _show(found: Drift, *, every: bool) -> None:
    from dotledger.report.terminal.tables import rows_table

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
    from dotledger.report.terminal.tables import DASH, number

    change = DASH if one.change != one.change else f"{one.change:+.3f}"
    mark = "" if one.beyond_chance else " (not significant)"
    chance = DASH
    if one.p_value == one.p_value:
        chance = "under 0.001" if one.p_value < 0.001 else f"{one.p_value:.3f}"
    least = DASH if one.smallest != one.smallest else f"{one.smallest:.3f}"
    return [one.what, one.of, number(one.first), number(one.second), change + mark, chance, least]
