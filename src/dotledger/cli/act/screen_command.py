"""``dotledger screen``."""

from __future__ import annotations

from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.options.common_options import (
    batch_options,
    example,
    json_option,
    ledger_option,
    print_json,
    print_table,
    replace_option,
    say,
    say_problems,
    service_name,
    truth_of,
)
from dotledger.cli.options.provenance import provenance, provenance_lines
from dotledger.core.spelling import counted
from dotledger.errors import ArgumentError
from dotledger.safe_files import check_output

if TYPE_CHECKING:
    from dotledger.core.decisions.rule_conditions import Rules
    from dotledger.core.decisions.verdicts import Decisions

__all__ = ["command"]

_MOST_REFUSED = 10
_ENDINGS = (".csv", ".jsonl", ".parquet")


@click.command(
    name="screen",
    epilog=example("dotledger screen rules.toml --ledger walk.ledger --service flint"),
)
@click.argument("rules", nargs=-1, required=True, metavar="RULES...")
@click.option("--findings", metavar="FILE", help="A findings file; without it, the ledger.")
@ledger_option
@batch_options
@click.option(
    "--pictures",
    "images",
    multiple=True,
    metavar="PATH",
    help="The images, for rules about near-copies; by default where they were sent from.",
)
@click.option("--annotations", metavar="PATH", help="Ground truth: how right the verdicts are.")
@click.option(
    "--most", type=click.IntRange(0), default=20, show_default=True, help="Images to show; 0: all."
)
@click.option(
    "--out", "out_file", metavar="FILE", help="Write every verdict to .csv, .jsonl or .parquet."
)
@click.option(
    "--post",
    "address",
    metavar="ADDRESS",
    help="Post every verdict there as JSON, each once; what is not taken is kept and posted later.",
)
@click.option(
    "--secret",
    metavar="SOURCE",
    help="Sign what is posted (RFC 9421) with a secret from env:NAME, file:PATH or keyring:S/U.",
)
@click.option(
    "--outbox",
    metavar="FILE",
    help="Where verdicts wait to be taken; by default LEDGER.verdicts.jsonl.",
)
@click.option("--fail", is_flag=True, help="Exit status 1 if anything is blocked.")
@replace_option
@json_option
def command(
    rules: tuple[str, ...],
    findings: str | None,
    ledger: str,
    service: str | None,
    batch: int | None,
    images: tuple[str, ...],
    annotations: str | None,
    most: int,
    out_file: str | None,
    address: str | None,
    secret: str | None,
    outbox: str | None,
    fail: bool,
    replace: bool,
    as_json: bool,
) -> int:
    """Decide on every image by a rules file: pass, hold for a person, or block.

    Several RULES files, for several audiences, are applied to the same findings. Out of the ledger,
    images that failed, were refused or are pending are decided on too: they never pass. The exit
    status is 3 if some verdict was to be posted and not taken.
    """
    from dotledger.api.choosing import decide
    from dotledger.api.inputs import findings_given

    box = _outbox(address, secret, outbox, None if findings else ledger)
    if out_file is not None:
        _check_out(out_file, rules, (findings, ledger, annotations), replace=replace)
    found: Any = findings
    if findings is None:
        found = _Batch(ledger, batch, service_name(service))
    read = _read(rules)
    more = _more(found)
    if any(one.looks_at_copies for one in read.values()):
        more["images"] = _prints(images, found)
    table = found.findings if findings is None else findings_given(findings)
    every = {path: decide(table, one, **more) for path, one in read.items()}
    truth = truth_of(annotations)
    if out_file is not None:
        _write(next(iter(every.values())), Path(out_file))
    about = provenance(table, file=findings, annotations=annotations)
    if as_json:
        print_json(
            "screen", {**about, "rules": {p: _plain(one, truth) for p, one in every.items()}}
        )
    else:
        print_table(*provenance_lines(about))
        for path, one in every.items():
            _show(path, one, truth, most)
    left = 0 if address is None else _post(list(every.values()), address, secret, box)
    blocked = any(one.counts["block"] for one in every.values())
    return 1 if fail and blocked else 3 if left else 0


def _read(rules: tuple[str, ...]) -> dict[str, Rules]:
    """Return each rules file as read; say where rules contradict each other."""
    from dotledger.formats.rules_files import read_rules

    read = {path: read_rules(path) for path in rules}
    for path, known in read.items():
        for first, second in known.contradictions():
            say(f"{path}: the rules {first!r} and {second!r} ask the same and decide otherwise;")
            say("the stricter one counts")
    return read


def _outbox(address: str | None, secret: str | None, outbox: str | None, ledger: str | None) -> str:
    """Return the file in which verdicts wait; refuse options that nothing is done with."""
    if address is None:
        if given := next((n for n, v in (("secret", secret), ("outbox", outbox)) if v), None):
            raise click.UsageError(f"--{given} goes with --post.")
        return ""
    if outbox is None and (ledger is None or "://" in ledger):
        raise click.UsageError("--post needs --outbox FILE where there is no ledger file.")
    return outbox or f"{ledger}.verdicts.jsonl"


def _post(every: list[Decisions], address: str, secret: str | None, outbox: str) -> int:
    """Post all verdicts; return how many are left in the outbox."""
    from dotledger.sending.event_posting import post_verdicts
    from dotledger.services.credentials import key_from

    key = None if secret is None else key_from(secret)
    left = 0
    for one in every:
        posted = post_verdicts(one, address, outbox=outbox, secret=key)
        left = posted.left
        # Without its query, in which there may be a token.
        shown = address.partition("?")[0]
        say(f"{counted(posted.taken, 'verdict')} taken by {shown}; {posted.new:,} were new.")
        for image, reason in posted.refused[:_MOST_REFUSED]:
            say(f"not taken: {image}: {reason}")
        if posted.stopped:
            say(f"Posting stopped: {posted.stopped}.")
            break
    if left:
        say(f"{counted(left, 'verdict')} kept in {outbox}: the same command posts them again.")
    return left


def _check_out(out_file: str, rules: tuple[str, ...], inputs: Any, *, replace: bool) -> None:
    check_output(out_file, place="--out", inputs=(*rules, *inputs), replace=replace)
    if Path(out_file).suffix.lower() not in _ENDINGS:
        raise ArgumentError(
            "the file's ending names no known format",
            place="--out",
            got=out_file,
            allowed=_ENDINGS,
        )
    if len(rules) > 1:
        raise ArgumentError("one table is for one rules file", place="--out", got=len(rules))


class _Batch:
    """What a ledger knows of a batch: findings, outcomes and sizes."""

    def __init__(self, ledger: str, batch: int | None, service: str | None) -> None:
        from dotledger.ledger.batch_queries import find_batch, kept_sizes, outcomes_of, sent_images
        from dotledger.ledger.ledger_store import LedgerStore
        from dotledger.ledger_findings import findings_of, kept_items

        with LedgerStore(ledger, create=False, read_only=True) as opened:
            kept = find_batch(opened, batch=batch, service=service)
            self.findings = findings_of(opened, batch=kept.id)
            self.outcomes = outcomes_of(opened, kept)
            sizes = kept_sizes(opened, kept)
            self.items = kept_items(sent_images(opened, kept), opened)
        self.sizes = {name: (one["width"], one["height"]) for name, one in sizes.items()}


def _more(found: Any) -> dict[str, Any]:
    if isinstance(found, _Batch):
        return {"outcomes": found.outcomes, "sizes": found.sizes}
    return {}


def _prints(images: tuple[str, ...], found: Any) -> Any:
    """Return the prints of the images as they were sent; one that changed since has none."""
    from dotledger.images.image_gathering import gather
    from dotledger.images.image_prints import prints_of

    if images:
        made = prints_of(gather(images).items)
    elif isinstance(found, _Batch):
        made = prints_of(found.items)
    else:
        return None
    say_problems("not compared with known images", list(made.unreadable))
    return made


def _plain(one: Decisions, truth: Any) -> dict[str, Any]:
    measured = {} if truth is None else {"measured": one.measured(truth).to_dict()}
    return {**one.to_dict(), **measured}


def _write(one: Decisions, path: Path) -> None:
    from dotledger.formats.tables.result_files import write_frame

    frame = one.frame()
    write_frame(frame, path)
    say(f"{counted(len(frame), 'verdict')} written to {path}")


def _show(path: str, one: Decisions, truth: Any, most: int) -> None:
    from dotledger.report.terminal.terminal_tables import plain, rows_table

    name = f"{path}{f' ({one.audience})' if one.audience else ''}"
    listed = ", ".join(f"{count} {verdict}" for verdict, count in one.counts.items())
    print_table(f"{name}: {counted(len(one.images), 'image')}, {listed}.", "")
    rules = [(n, v, str(k)) for n, (v, k) in one.by_rule().items()]
    print_table(rows_table("", ("rule", "verdict", "images"), rules), "")
    stopped = one.counts["block"] + one.counts["hold"]
    wanted = min(most or stopped, stopped)
    lines = [
        ("" if number else plain(verdict.image), "" if number else verdict.verdict, plain(reason))
        for verdict in islice(one, wanted)
        for number, reason in enumerate(verdict.reasons)
    ]
    if lines:
        print_table(rows_table("", ("image", "verdict", "reasons"), lines), "")
    print_table(*one.notes)
    if wanted < stopped:
        say(f"The worst {wanted} of {stopped} are shown; --most 0 shows all.")
    if truth is not None:
        _show_measured(one, truth)


def _show_measured(one: Decisions, truth: Any) -> None:
    from dotledger.report.terminal.choice_tables import with_ends
    from dotledger.report.terminal.terminal_tables import rows_table

    found = one.measured(truth)
    rows = [
        ("unsafe", str(found.caught), str(found.held_unsafe), str(found.let_through)),
        ("safe", str(found.false_alarms), str(found.held_safe), str(found.rightly_passed)),
    ]
    header = ("images", "block", "hold", "pass")
    print_table(rows_table("Compared with the annotations", header, rows))
    for word, name in (
        ("unsafe that pass", "let_through_share"),
        ("safe that are blocked", "false_alarm_rate"),
        ("all that a person looks at", "held_share"),
    ):
        print_table(f"{word}: {with_ends(getattr(found, name), found.intervals[name])}")
