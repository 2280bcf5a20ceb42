"""``dotledger send``."""

from __future__ import annotations

import shlex
import signal
import sys
import threading
from importlib import import_module
from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.options.common_options import (
    as_kinds,
    code_option,
    described,
    example,
    json_option,
    ledger_option,
    money,
    noticed,
    print_json,
    print_table,
    same_command,
    say,
    say_passed_over,
    say_problems,
    service_options,
    settings_of,
)
from dotledger.core.spelling import counted, first_of

if TYPE_CHECKING:
    from dotledger.ledger.batch_queries import Batch
    from dotledger.ledger.ledger_store import LedgerStore
    from dotledger.sending.batch.send_progress import SentBatch

__all__ = ["command", "report_sent"]

_NEEDED = ("dotledger.sending.batch_api", "urllib3")
"""What takes longest to load before the first call."""

_MOST_REASONS = 20
_MOST_NAMES = 5
_MOST_LOOKED_AT = 50_000
"""In larger batches the findings are not loaded only to be looked at as a whole."""


@click.command(
    name="send",
    epilog=example("dotledger send walk/images --service flint.toml --ledger walk.ledger"),
)
@click.argument("images", nargs=-1, required=True)
@service_options
@ledger_option
@click.option("--at-most", type=int, metavar="N", help="Stop after so many calls in this run.")
@click.option("--budget", type=float, metavar="AMOUNT", help="Stop before this run has spent more.")
@click.option(
    "--again",
    type=click.Choice(["failed", "refused", "anew"]),
    multiple=True,
    help="Send images with this outcome again; anew: what failed, as new jobs, paid again.",
)
@click.option(
    "--round",
    "round_name",
    default="",
    metavar="NAME",
    help="Send again under this name, and pay again; earlier answers are kept.",
)
@code_option
@click.option(
    "--outside", is_flag=True, help="Let a list name files that are not below its own folder."
)
@click.option("--skip-missing", is_flag=True, help="Go on without images that cannot be read.")
@json_option
def command(
    images: tuple[str, ...],
    service: str,
    ledger: str,
    kinds: str | None,
    pairs: tuple[str, ...],
    at_most: int | None,
    budget: float | None,
    again: tuple[str, ...],
    round_name: str,
    allow_code: bool,
    outside: bool,
    skip_missing: bool,
    as_json: bool,
) -> None:
    """Send IMAGES (folders, files, patterns, addresses, @LIST) to a service.

    Every answer is kept in the ledger as it came. What the ledger already holds for the same
    images and settings is not sent again: the same command resumes after an interruption.
    The exit status is 3 if some images failed or were refused, or if sending stopped early for
    any reason but a limit that you set.
    """
    from dotledger.cli.options.progress_display import progress_line
    from dotledger.errors import GatherError
    from dotledger.images.image_gathering import gather

    loading = threading.Thread(target=lambda: [import_module(name) for name in _NEEDED])
    loading.start()  # looking at files leaves a processor free

    try:
        gathered = gather(images, missing="list" if skip_missing else "raise", outside=outside)
    except GatherError as error:
        if error.facts.get("problems"):
            error.next_step = "Nothing was sent. Correct the list, or add --skip-missing."
        raise
    loading.join()
    say_problems("left out", gathered.problems)
    say_passed_over(gathered.passed_over)
    from dotledger.sending.batch_api import prepare_sending

    _end_in_order()
    with progress_line(len(gathered)) as tell:
        sending = prepare_sending(
            gathered,
            described(service, ledger, keys=True),
            ledger,
            settings=settings_of(pairs),
            kinds=as_kinds(kinds),
            at_most=at_most,
            budget=budget,
            again=again,
            round=round_name,
            allow_code=allow_code,
            tell=tell,
        )
        sent = sending.run()
    if as_json:
        print_json("send", sent_record(sent))
    else:
        _report(sent, ledger)
    _say_how_to_go_on(sent, ledger)
    # Who ended us must not take it for the end, even where the last answer came just then.
    stopped = (sent.pending and not sent.at_limit) or sending.interrupted
    sys.exit(3 if sent.failed or sent.unread or gathered.problems or stopped else 0)


def _end_in_order() -> None:
    """Take being ended by the system like Ctrl-C, unless that is ignored (nohup)."""
    for name in ("SIGTERM", "SIGHUP"):
        number = getattr(signal, name, None)
        if number is not None and signal.getsignal(number) != signal.SIG_IGN:
            signal.signal(number, signal.default_int_handler)


def _report(sent: SentBatch, where: str) -> None:
    from dotledger.ledger.ledger_store import LedgerStore

    with LedgerStore(where, create=False) as opened:
        report_sent(sent, opened)


def _say_how_to_go_on(sent: SentBatch, ledger: str) -> None:
    from dotledger.ledger.ledger_store import shown_address

    words, same = sys.argv[1:], same_command(ledger)
    if sent.pending and not sent.calls and "--again" in words:
        say(
            f"No image has the outcome asked for; {sent.pending:,} outcomes are pending. To send "
            "those, give the same command without --again."
        )
    elif sent.pending:
        say(f"The rest is pending. To go on: {same}")
    if sent.unread:
        shown = shlex.quote(shown_address(ledger))
        say(
            f"Answers for {counted(sent.unread, 'image')} were paid for and not read: the "
            "description does not fit them. They are kept. Correct it, then: "
            f"dotledger reread --service FILE --ledger {shown}"
        )
    if any(row["failed"] for row in sent.outcomes.values()) and "--again" not in words:
        say(f"To send what failed again: {same} --again failed")


def sent_record(sent: SentBatch) -> dict[str, Any]:
    """Return what a sending came to, as plain values."""
    from msgspec import to_builtins

    return to_builtins(sent)


def report_sent(sent: SentBatch, ledger: LedgerStore) -> None:
    """Print outcomes by kind, what it cost, failures by reason, and what reading noticed."""
    from dotledger.core.kinds import shown_outcomes
    from dotledger.ledger.batch_queries import failures, find_batch
    from dotledger.ledger.finding_queries import notes_of
    from dotledger.report.terminal.terminal_tables import rows_table

    batch = find_batch(ledger, batch=sent.batch)
    shown = shown_outcomes(sent.outcomes.values())
    rows = [(k, *(f"{row[o]:,}" for o in shown)) for k, row in sent.outcomes.items()]
    # Whoever joins others finds the batch there too, and resumes nothing.
    resumed = " (shared)" if sent.shared else " (resumed)" if sent.resumed else ""
    title = f"Batch {sent.batch}{resumed}: {counted(sent.images, 'image')} to {sent.service}"
    print_table(rows_table(title, ("kind", *shown), rows), "", _cost(sent))
    for kind, count in sent.not_asked.items():
        print_table(
            f"{kind} was not asked for {counted(count, 'image')}: what that call waits for was not "
            "found there."
        )
    if sent.stopped_because:
        print_table(f"Stopped: {sent.stopped_because}.")
    print_table(*_reasons(failures(ledger, batch), sent.batch), *noticed(notes_of(ledger, batch)))
    if sent.images <= _MOST_LOOKED_AT:
        print_table(*(f"Suspicious: {what}" for what in _suspicions(ledger, batch)))
    else:
        print_table(
            f"More than {_MOST_LOOKED_AT:,} images: whether the findings look wrong as a whole was "
            "not checked; dotledger reread does."
        )


def _suspicions(ledger: LedgerStore, batch: Batch) -> list[str]:
    from dotledger.api.rereading import suspicions_of
    from dotledger.errors import DescriptionError
    from dotledger.ledger.finding_queries import load_findings
    from dotledger.services.service_description import stored_description

    try:
        described = stored_description(batch.description)
    except DescriptionError:
        return []
    return suspicions_of(ledger, batch, load_findings(ledger, batch), described)


def _cost(sent: SentBatch) -> str:
    calls = f"{counted(sent.calls, 'call')} in {sent.seconds:.1f} s"
    if not sent.calls and not sent.pending:
        if sent.shared:
            return f"Nothing sent: {counted(sent.shared, 'other sender')} did it all."
        answered = any(r["found"] + r["empty"] + r["unread"] for r in sent.outcomes.values())
        why = "the ledger holds every answer already" if answered else "no image can be sent"
        return f"Nothing sent: {why}."
    price = f", {money(sent.money, sent.currency)}" if sent.currency else ""
    reused = f"; {counted(sent.reused, 'image')} answered by earlier calls" if sent.reused else ""
    held = f"; asked to wait: {counted(sent.refusals, 'call')}" if sent.refusals else ""
    # Outcomes are the whole batch's; calls and money are this process's.
    others = f"; {counted(sent.shared, 'other sender')} besides this one" if sent.shared else ""
    return f"{calls}{price}{reused}{held}{others}."


def _reasons(rows: list[tuple[str, str, str, str]], batch: int) -> list[str]:
    """Return a line for each reason, with the first images it concerns."""
    images: dict[tuple[str, str], dict[str, None]] = {}
    for name, _, outcome, reason in rows:
        images.setdefault((outcome, reason), {})[name] = None
    lines = [_reason(outcome, reason, list(names)) for (outcome, reason), names in images.items()]
    if len(lines) > _MOST_REASONS:
        more = len(lines) - _MOST_REASONS
        lines[_MOST_REASONS:] = [
            f"and {counted(more, 'reason')} more: dotledger batches {batch} --json"
        ]
    return lines


def _reason(outcome: str, reason: str, names: list[str]) -> str:
    if len(names) == 1:
        return f"{outcome}: {names[0]}: {reason}"
    return f"{outcome}, {len(names):,} images: {reason}: {first_of(names, _MOST_NAMES)}"
