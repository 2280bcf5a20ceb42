"""``dotledger review``."""

from __future__ import annotations

import getpass
import math
import secrets
import socket
import time
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.options.common_options import (
    batch_options,
    example,
    given_options,
    json_option,
    ledger_option,
    print_json,
    print_table,
    replace_option,
    say,
    service_name,
)
from dotledger.cli.options.provenance import provenance, provenance_lines
from dotledger.cli.options.writing_options import words_of, writing_options
from dotledger.core.spelling import counted
from dotledger.errors import ArgumentError
from dotledger.safe_files import check_output

if TYPE_CHECKING:
    from dotledger.acting.reviewing.review_worklist import Found, Worklist
    from dotledger.report.pictures.box_writing import BoxWriting

__all__ = ["command"]


@click.command(
    name="review",
    epilog=example("dotledger review rules.toml --ledger walk.ledger --service marl"),
)
@click.argument("rules", required=False)
@ledger_option
@batch_options
@click.option("--who", metavar="NAME", help="Whose decisions these are; by default your login.")
@click.option("--port", type=click.IntRange(0, 65535), default=0, help="Of the page; 0: any free.")
@click.option("--out", "out_file", metavar="FILE", help="Write the worklist as a sheet (.csv).")
@click.option("--in", "in_file", metavar="FILE", help="Take in a sheet that was filled in.")
@click.option("--decided", is_flag=True, help="Show what was decided, and who agrees with whom.")
@click.option("--annotations", metavar="FILE", help="Write what was decided as annotations.")
@writing_options
@replace_option
@json_option
def command(
    rules: str | None,
    ledger: str,
    service: str | None,
    batch: int | None,
    who: str | None,
    port: int,
    out_file: str | None,
    in_file: str | None,
    decided: bool,
    annotations: str | None,
    write: str | None,
    place: str,
    words: str | None,
    replace: bool,
    as_json: bool,
) -> int:
    """Let a person decide on the images that RULES hold: on a page, or on a sheet.

    Without RULES every image in which something was found is offered. The page is served on this
    machine only, under an address that nobody can guess. Every decision is in the ledger at once,
    with who and when, and is never overwritten: a later one supersedes it.
    """
    from dotledger.acting.reviewing.review_worklist import open_worklist
    from dotledger.formats.rules_files import read_rules
    from dotledger.ledger.ledger_store import LedgerStore
    from dotledger.report.pictures.box_writing import box_writing

    sheet = any((out_file, in_file, decided, annotations))
    if sheet and (given := given_options(["write", "place", "words"])):
        raise click.UsageError(f"{given[0]} goes with the page.")
    for target, option in ((out_file, "--out"), (annotations, "--annotations")):
        if target is not None:
            check_output(target, place=option, inputs=(rules, ledger, in_file), replace=replace)
    if out_file is not None and Path(out_file).suffix.lower() != ".csv":
        raise ArgumentError("a sheet is a .csv file", place="--out", got=out_file)
    with LedgerStore(ledger, create=False) as opened:
        work = open_worklist(
            opened,
            rules=None if rules is None else read_rules(rules),
            batch=batch,
            service=service_name(service),
            wall=time.time,
        )
        person = who or getpass.getuser()
        if not sheet:
            writing = box_writing(work.findings, write=write, place=place, words=words_of(words))
            _serve(work, person, port, writing)
            _show_decided(work, as_json)
            return 0
        _sheets(work, out_file, in_file, person)
        if annotations is not None:
            _write_annotations(work, annotations, who)
        if decided:
            _show_decided(work, as_json)
    return 0


def _sheets(work: Worklist, out_file: str | None, in_file: str | None, person: str) -> None:
    from dotledger.acting.reviewing.review_sheet import read_sheet, write_sheet

    if in_file is not None:
        number = read_sheet(work, in_file, who=person)
        say(f"{counted(number, 'decision')} of {person} kept")
    if out_file is not None:
        number = write_sheet(work, out_file)
        say(f"{counted(number, 'image')} to look at, written to {out_file}")
        say("Fill in the column decision: pass, block or skip for an image; confirmed,")
        say("box wrong or label wrong (and right_label) for a finding. Then: --in FILE")


def _write_annotations(work: Worklist, path: str, who: str | None) -> None:
    from dotledger.core.decisions.human_decisions import reviewed_annotations
    from dotledger.formats.annotations.annotation_files import write_annotations

    made = reviewed_annotations(work.findings, work.reviews(), who=who, tripped=work.tripped)
    write_annotations(made.annotations, path)
    listed = ", ".join(f"{count} {word}" for word, count in sorted(made.counts.items()))
    covered = len(made.annotations.image.used())
    say(f"{counted(covered, 'image')} annotated, written to {path}; findings: {listed}")
    if made.left_out:
        say(f"{counted(len(made.left_out), 'image')} left out: not all of it was looked at")


def _serve(work: Worklist, who: str, port: int, writing: BoxWriting) -> None:
    """Serve the page until it is interrupted."""
    from dotledger.acting.reviewing.review_page import review_app

    token = secrets.token_urlsafe(24)

    def text_of(one: Found) -> str:
        sure = math.nan if one.confidence is None else one.confidence
        return writing.text(one.kind, one.label, sure, one.details)

    app = review_app(work, who=who, token=token, text_of=text_of, place=writing.place)
    import uvicorn

    with socket.socket() as listening:
        listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            listening.bind(("127.0.0.1", port))
            listening.listen()  # before the address is printed: whoever opens it at once is served
        except OSError as error:
            raise ArgumentError(
                f"the port cannot be used ({error.strerror})", place="--port", got=port
            ) from error
        address = f"http://127.0.0.1:{listening.getsockname()[1]}/{token}/"
        print_table(f"{counted(len(work.work), 'image')} to look at: {address}")
        say("Only this machine can open it. Ctrl-C ends; every decision is kept at once.")
        config = uvicorn.Config(
            app,
            log_level="critical",  # Ctrl-C while a page is open is no error
            access_log=False,
            lifespan="off",
            timeout_graceful_shutdown=1,
        )
        with suppress(KeyboardInterrupt):
            uvicorn.Server(config).run(sockets=[listening])


def _show_decided(work: Worklist, as_json: bool) -> None:
    from dotledger.core.decisions.human_decisions import newest, review_pairs, reviewed_verdicts

    reviews = work.reviews()
    verdicts = reviewed_verdicts(reviews)
    pairs = review_pairs(verdicts)
    if as_json:
        print_json(
            "review",
            {
                **provenance(work.findings),
                "verdicts": verdicts,
                "agreement": [{**vars(one), "differ": list(one.differ)} for one in pairs],
                "decisions": [_record(one) for one in newest(reviews).values()],
            },
        )
        return
    print_table(*provenance_lines(provenance(work.findings)))
    _show_table(work, verdicts, newest(reviews).values())
    for one in pairs:
        kappa = "" if one.kappa is None else f", kappa {one.kappa:.2f}"
        differ = f"; otherwise: {', '.join(one.differ)}" if one.differ else ""
        print_table(
            f"{one.first} and {one.second} agree on {one.agreed} of {one.images} images"
            f"{kappa}{differ}."
        )


def _record(one: Any) -> dict[str, Any]:
    return {name: getattr(one, name) for name in ("image", "row", "who", "made", "word", "label")}


def _show_table(work: Worklist, verdicts: dict[str, dict[str, str]], kept: Any) -> None:
    from dotledger.report.terminal.terminal_tables import plain, rows_table

    said: dict[tuple[str, str], int] = {}
    for one in kept:
        if one.row:
            said[one.image, one.who] = said.get((one.image, one.who), 0) + 1
    keys = sorted({*((i, w) for i, mine in verdicts.items() for w in mine), *said})
    rows = [
        (plain(image), plain(who), verdicts.get(image, {}).get(who, ""), str(number))
        for image, who in keys
        for number in (said.get((image, who), 0),)
    ]
    open_ones = sum(one.image not in verdicts for one in work.work)
    print_table(f"{counted(len(verdicts), 'image')} decided; {open_ones} still to be looked at.")
    if rows:
        print_table("", rows_table("", ("image", "who", "decided", "findings"), rows))
