"""``dotledger gate``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.options.common_options import (
    example,
    json_option,
    print_json,
    print_table,
    replace_option,
    say,
    settings_of,
    threshold_of,
)
from dotledger.cli.options.comparing_options import compared_tables, comparing_options
from dotledger.cli.options.provenance import provenance_lines
from dotledger.safe_files import check_output

if TYPE_CHECKING:
    from dotledger.core.comparison.release_gates import Verdicts

__all__ = ["command"]

_COUNTS = ("misses", "false_positives", "unmet_expectations")


@click.command(
    name="gate",
    epilog=example(
        "dotledger gate gates.toml --findings flint.csv --annotations annotations.csv "
        "--junit gates.xml"
    ),
)
@click.argument("gates", metavar="FILE")
@comparing_options
@click.option("--threshold", help="Overrides the threshold in FILE; same syntax as measure.")
@click.option(
    "--against",
    multiple=True,
    metavar="NAME=RUN",
    help="An earlier run that gates call NAME, as of compare: spring=flint@spring; repeatable.",
)
@click.option("--draws", type=int, default=1000, show_default=True, help="For intervals; 0: none.")
@click.option("--junit", metavar="FILE", help="Write JUnit XML, for a build server.")
@click.option("--markdown", metavar="FILE", help="Write a summary in Markdown.")
@replace_option
@json_option
def command(
    gates: str,
    threshold: str | None,
    against: tuple[str, ...],
    draws: int,
    junit: str | None,
    markdown: str | None,
    replace: bool,
    as_json: bool,
    **tables: Any,
) -> int:
    """Check the conditions that a release must meet.

    Prints each gate with its number, limit and counts. The exit status is 1 if any does not hold;
    what cannot be judged does not hold, unless the file says otherwise.
    """
    from dotledger.api.choosing import check_gates
    from dotledger.formats.gates_files import read_gates

    inputs = [gates, *(tables[n] for n in ("findings", "annotations", "images", "ledger"))]
    for path, place in ((junit, "--junit"), (markdown, "--markdown")):
        if path is not None:
            check_output(path, place=place, inputs=inputs, replace=replace)
    read_gates(gates)  # before anything else is read
    compared = compared_tables(**tables)
    before = {n: _earlier(run, tables) for n, run in settings_of(against, "--against").items()}
    verdicts = check_gates(
        compared.findings,
        compared.annotations,
        gates,
        before=before,
        threshold=threshold_of(threshold),
        failed_share=_failed_share(compared.findings, tables["ledger"]),
        draws=draws,
    )
    _write(verdicts, junit, markdown)
    about = compared.about(threshold)
    if as_json:
        print_json("gate", {**about, **verdicts.to_dict()})
    else:
        for line in compared.lines:
            say(line)
        print_table(*provenance_lines(about), *compared.suspicious())
        _show(verdicts)
    return 0 if verdicts.holds else 1


def _earlier(run: str, tables: dict[str, Any]) -> Any:
    from dotledger.cli.options.comparing_options import batch_of, where_of

    return compared_tables(**{**tables, **where_of(batch_of(run, tables["ledger"]))}).findings


def _failed_share(findings: Any, ledger: str) -> float:
    """Return the share of the batch's images and kinds that failed or were not read."""
    batch = findings.origin.batch if findings.origin else None
    if batch is None or not ("://" in ledger or Path(ledger).exists()):
        return float("nan")
    from dotledger.ledger.batch_queries import find_batch, outcome_counts
    from dotledger.ledger.ledger_store import LedgerStore

    with LedgerStore(ledger, create=False, read_only=True) as opened:
        found = find_batch(opened, batch=batch)
        if findings.origin.service not in ("", found.service):
            return float("nan")
        by_kind = outcome_counts(opened, found)
    every = sum(sum(counts.values()) for counts in by_kind.values())
    bad = sum(counts["failed"] + counts["unread"] for counts in by_kind.values())
    return bad / every if every else float("nan")


def _write(verdicts: Verdicts, junit: str | None, markdown: str | None) -> None:
    from dotledger.report.gate_reports import junit_text, markdown_text
    from dotledger.safe_files import whole_file

    for path, text in ((junit, junit_text), (markdown, markdown_text)):
        if path is not None:
            with whole_file(Path(path)) as draft:
                draft.write_text(text(verdicts), encoding="utf-8")
            say(f"Written to {path}")


def _show(verdicts: Verdicts) -> None:
    from dotledger.report.terminal.choice_tables import with_ends
    from dotledger.report.terminal.terminal_tables import plain, rows_table

    rows = [
        [
            "yes" if one.holds else "NO",
            plain(one.gate.title),
            plain(one.of),
            with_ends(one.value, (one.low, one.high), 0 if one.gate.measure in _COUNTS else 2),
            one.counts,
        ]
        for one in sorted(verdicts.judged, key=lambda one: one.holds)
    ]
    print_table(rows_table("", ("holds", "gate", "of", "value", "counts"), rows, ("counts",)), "")
    broken = [one for one in verdicts.judged if not one.holds]
    print_table(*(f"{one.gate.title} [{one.of}]: {one.why}." for one in broken))
    unjudged = [one for one in verdicts.judged if one.holds and not one.was_judged]
    print_table(
        *(f"{one.gate.title} [{one.of}]: not judged, holds as FILE says." for one in unjudged),
        f"{len(verdicts.judged) - len(broken)} hold, {len(broken)} do not.",
    )
