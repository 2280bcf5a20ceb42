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
from dotledger.core.spelling import counted, first_of
from dotledger.errors import ArgumentError
from dotledger.safe_files import check_output

if TYPE_CHECKING:
    from dotledger.acting.reviewing.review_worklist import Found, Worklist
    from dotledger.ledger.ledger_store import LedgerStore
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
@click.option(
    "--ask",
    "questions",
    multiple=True,
    metavar="KIND:LABELS",
    help="With --out: a sheet that asks which labels (label:lantern,basket) are in each image, in "
    "an order drawn for --who, and shows nothing that was found. --in keeps the answers.",
)
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
    questions: tuple[str, ...],
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

    With --ask a person answers questions about the images instead, without seeing what was found.
    The answers are a batch of their own, to be measured and compared like a service's.
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
    person = who or getpass.getuser()
    with LedgerStore(ledger, create=False) as opened:
        if questions or _asks(in_file):
            _refuse_mixed(rules, decided=decided, annotations=annotations)
            which = {"batch": batch, "service": service_name(service)}
            if questions:
                return _ask(opened, which, questions, out_file, person)
            return _keep_answers(opened, which, str(in_file), person, as_json)
        work = open_worklist(
            opened,
            rules=None if rules is None else read_rules(rules),
            batch=batch,
            service=service_name(service),
            wall=time.time,
        )
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


def _refuse_mixed(rules: str | None, *, decided: bool, annotations: str | None) -> None:
    """Refuse what a sheet of questions has nothing to do with."""
    for given, name in (
        (rules is not None, "RULES"),
        (decided, "--decided"),
        (annotations is not None, "--annotations"),
    ):
        if given:
            raise click.UsageError(f"A sheet of questions takes no {name}.")


def _asks(path: str | None) -> bool:
    """Tell whether a sheet holds questions, and not findings to decide on."""
    from dotledger.formats.tables.csv_columns import first_names

    is_file = path is not None and Path(path).is_file()
    return is_file and "decision" not in first_names(Path(str(path)))


def _ask(
    ledger: LedgerStore,
    which: dict[str, Any],
    questions: tuple[str, ...],
    out_file: str | None,
    person: str,
) -> int:
    """Write a sheet of questions."""
    from dotledger.acting.reviewing.question_sheet import questions_given, write_question_sheet
    from dotledger.ledger.batch_queries import find_batch

    if out_file is None or given_options(["in_file"]):
        raise click.UsageError("--ask goes with --out FILE alone, where the sheet is written.")
    asked = questions_given(questions)
    batch = find_batch(ledger, **which)
    number = write_question_sheet(ledger, batch, asked, Path(out_file), seed=person)
    say(f"{counted(number, 'image')} to answer about, written to {out_file}")
    say("Fill in yes, no or unsure in each column. Then: --in FILE --who NAME")
    return 0


def _keep_answers(
    ledger: LedgerStore, which: dict[str, Any], in_file: str, person: str, as_json: bool
) -> int:
    """Keep the answers of a sheet as a batch."""
    from dotledger.acting.reviewing.people_answers import keep_answers
    from dotledger.acting.reviewing.question_sheet import read_question_sheet
    from dotledger.ledger.batch_queries import find_batch, sent_images

    batch = find_batch(ledger, **which)
    names = [one.name for one in sent_images(ledger, batch)]
    answered = read_question_sheet(Path(in_file), names)
    made = keep_answers(ledger, batch, answered, who=person, now=time.time())
    kept = len(answered.answers)
    if as_json:
        facts = {n: list(getattr(answered, n)) for n in ("partly", "empty", "others")}
        print_json("answers", {"batch": made, "who": person, "images": kept, **facts})
        return 0
    print_table(f"Answers of {person} about {counted(kept, 'image')} are batch {made}.")
    if answered.others:
        say(f"Not kept, since they are no questions: {', '.join(answered.others)}")
    for why, images in (
        ("some columns are empty", answered.partly),
        ("no column is filled in", answered.empty),
    ):
        if images:
            say(f"{counted(len(images), 'image')} left out, {why}: {first_of(images, 5)}")
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
