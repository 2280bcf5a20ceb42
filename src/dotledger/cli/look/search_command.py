"""``dotledger search``."""

from __future__ import annotations

import math
import re
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.options.common_options import (
    as_kinds,
    example,
    given_options,
    json_option,
    kinds_option,
    ledger_option,
    print_json,
    print_table,
    replace_option,
    say,
    service_name,
)
from dotledger.cli.options.writing_options import words_of, writing_options
from dotledger.core.kinds import VERDICTS
from dotledger.core.spelling import counted, nearest
from dotledger.errors import ArgumentError

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

    from dotledger.core.decisions.verdicts import Decisions
    from dotledger.ledger.image_search import Hit, Wanted
    from dotledger.ledger.ledger_store import LedgerStore
    from dotledger.report.pictures.box_marks import Mark
    from dotledger.report.pictures.box_writing import BoxWriting

__all__ = ["command"]

_MOST_PICTURES = 60


@click.command(
    name="search",
    epilog=example("dotledger search --label lantern --least 0.9 --sheet lanterns.png"),
)
@ledger_option
@click.option("--service", metavar="SERVICE", help="A service of the ledger; by default all.")
@kinds_option
@click.option("--label", "labels", multiple=True, help="Only this label; may be repeated.")
@click.option("--least", type=float, metavar="C", help="At least this confidence.")
@click.option("--most", type=float, metavar="C", help="At most this confidence.")
@click.option("--person", metavar="NAME", help="A face said to be this person; case apart.")
@click.option(
    "--where",
    metavar="CONDITION",
    help="Such as \"age < 18 and mood = 'happy'\"; fields are label, kind, confidence, person, "
    "similarity and attributes.",
)
@click.option("--text", metavar="PATTERN", help="A label or line of text that holds this.")
@click.option("--outcome", "outcomes", multiple=True, help="Images of this outcome instead.")
@click.option("--verdict", type=click.Choice(VERDICTS), help="With --rules.")
@click.option("--rules", metavar="FILE", help="The rules of the verdict.")
@click.option("--since", metavar="DATE", default="", help="Sent on this day or later (UTC).")
@click.option("--until", metavar="DATE", default="", help="Sent before this day (UTC).")
@click.option(
    "--rows", type=click.IntRange(0), default=40, show_default=True, help="To show; 0 for all."
)
@click.option("--sheet", metavar="FILE", help="Draw the images found on one picture (.png).")
@writing_options
@replace_option
@json_option
def command(
    ledger: str,
    service: str | None,
    kinds: str | None,
    labels: tuple[str, ...],
    least: float | None,
    most: float | None,
    person: str | None,
    where: str | None,
    text: str | None,
    outcomes: tuple[str, ...],
    verdict: str | None,
    rules: str | None,
    since: str,
    until: str,
    rows: int,
    sheet: str | None,
    write: str | None,
    place: str,
    words: str | None,
    replace: bool,
    as_json: bool,
) -> None:
    """Find images across all batches, by their findings or outcomes.

    The newest batch comes first.
    """
    from dotledger.ledger.image_search import Wanted
    from dotledger.ledger.ledger_store import LedgerStore
    from dotledger.safe_files import check_output

    if sheet is None and (given := given_options(["write", "place", "words"])):
        raise click.UsageError(f"{given[0]} goes with --sheet.")
    if where is not None and outcomes:
        raise ArgumentError("is about findings, not outcomes", place="--where", got=where)
    if (verdict is None) != (rules is None):
        raise ArgumentError("--verdict and --rules go together", place="--verdict", got=verdict)
    if sheet is not None:
        check_output(sheet, place="--sheet", inputs=(ledger, rules), replace=replace)
    wanted = Wanted(
        kinds=_known(tuple(as_kinds(kinds) or ()), "--kinds"),
        labels=labels,
        least=_share(least, "--least"),
        most=_share(most, "--most"),
        service=service_name(service) or "",
        since=_date(since, "--since"),
        until=_date(until, "--until"),
        outcomes=_known(outcomes, "--outcome"),
    )
    with LedgerStore(ledger, create=False, read_only=True) as opened:
        hits = list(_found(opened, wanted, person, text, verdict, rules))
        if where is not None:
            hits = _meeting(hits, where)
        if not hits:
            _say_nearest(opened, labels)
        if sheet is not None:
            from dotledger.report.pictures.box_writing import writing_for

            details = [one.details for one in hits]
            writing = writing_for(details, write=write, place=place, words=words_of(words))
            _draw(hits, opened, sheet, writing)
    if as_json:
        print_json("search", {"hits": [_plain(one) for one in hits]})
    else:
        _show(hits, rows)


def _known(given: tuple[str, ...], option: str) -> tuple[str, ...]:
    from dotledger.core.kinds import KINDS, OUTCOMES

    known = tuple(KINDS) if option == "--kinds" else tuple(OUTCOMES)
    for one in given:
        if one not in known:
            near = nearest(one, known)
            hint = f"; did you mean {near[0]}?" if near else ""
            raise ArgumentError(f"unknown{hint}", place=option, got=one, allowed=known)
    return given


def _share(value: float | None, option: str) -> float | None:
    if value is not None and not 0 <= value <= 1:
        raise ArgumentError("out of range", place=option, got=value, allowed=["0 to 1"])
    return value


def _date(text: str, option: str) -> str:
    from datetime import date

    if not text:
        return ""
    try:
        return date.fromisoformat(text).isoformat()
    except ValueError:
        raise ArgumentError(
            "not a date", place=option, got=text, allowed=["such as 2026-05-31"]
        ) from None


def _found(
    ledger: LedgerStore,
    wanted: Wanted,
    person: str | None,
    text: str | None,
    verdict: str | None,
    rules: str | None,
) -> Iterator[Hit]:
    from dotledger.core.tables.finding_details import plain_name
    from dotledger.ledger.image_search import search

    try:
        pattern = re.compile(text or "", re.IGNORECASE)
    except re.error as error:
        raise ArgumentError(
            f"not a regular expression ({error})", place="--text", got=text
        ) from None
    decided: dict[int, Decisions] = {}
    for hit in search(ledger, wanted):
        if text and not pattern.search(hit.label):
            continue
        if person is not None:
            name = hit.details.person()[0] if hit.details is not None else ""
            if plain_name(name) != plain_name(person):
                continue
        if verdict is not None and _verdict(ledger, hit, rules or "", decided) != verdict:
            continue
        yield hit


def _meeting(hits: list[Hit], where: str) -> list[Hit]:
    """Return the hits that satisfy a condition; where nothing is found, it names no field."""
    from dotledger.core.tables.row_conditions import condition_row, met_by

    if not hits:
        return hits
    rows = [condition_row(one.kind, one.label, one.confidence, one.details) for one in hits]
    return [one for one, met in zip(hits, met_by(rows, where), strict=True) if met]


def _verdict(ledger: LedgerStore, hit: Hit, rules: str, decided: dict[int, Decisions]) -> str:
    """Return the verdict on a hit's image; each batch is decided once."""
    if hit.batch not in decided:
        from dotledger.api.choosing import decide
        from dotledger.formats.rules_files import read_rules
        from dotledger.ledger.batch_queries import find_batch, outcomes_of
        from dotledger.ledger_findings import findings_of

        kept = find_batch(ledger, batch=hit.batch)
        decided[hit.batch] = decide(
            findings_of(ledger, batch=kept.id),
            read_rules(rules),
            outcomes=outcomes_of(ledger, kept),
        )
    return decided[hit.batch].of(hit.sent.name).verdict


def _say_nearest(ledger: LedgerStore, labels: Iterable[str]) -> None:
    """Where nothing was found, name the labels that are spelt nearly so."""
    from sqlalchemy import select

    from dotledger.ledger import ledger_schema as schema

    if not labels:
        return
    with ledger.reading() as connection:
        known = set(connection.execute(select(schema.findings.c.label).distinct()).scalars())
    for label in labels:
        near = nearest(label, sorted(known - {label}))
        if label not in known:
            hint = f"; did you mean {near[0]!r}?" if near else ""
            say(f"no finding of any batch has the label {label!r}{hint}")


def _plain(one: Hit) -> dict[str, Any]:
    return {
        "batch": one.batch,
        "service": one.service,
        "sent": one.started,
        "image": one.sent.name,
        "path": one.sent.path,
        "kind": one.kind,
        "label": one.label,
        "confidence": one.confidence,
        "box": None if one.box is None else list(one.box),
    }


def _show(hits: list[Hit], most: int) -> None:
    from dotledger.report.terminal.terminal_tables import plain, rows_table

    images = len({(one.batch, one.sent.name) for one in hits})
    batches = len({one.batch for one in hits})
    if not hits:
        print_table("Nothing fits.")
        return
    what = "finding" if hits[0].is_finding else "outcome"
    where = "1 batch" if batches == 1 else f"{batches} batches"
    print_table(f"{counted(len(hits), what)} in {counted(images, 'image')} of {where}.")
    shown = list(islice(hits, most or None))
    rows = [
        (
            str(one.batch),
            plain(one.service),
            one.started[:10],
            plain(one.sent.name),
            one.kind,
            plain(one.label),
            _number(one),
            "" if one.box is None else " ".join(f"{side:.0f}" for side in one.box),
        )
        for one in shown
    ]
    if rows:
        header = ("batch", "service", "sent", "image", "kind", "label", "confidence", "box")
        print_table("", rows_table("", header, rows, least=("box", "sent")))
    if len(shown) < len(hits):
        say(f"{len(hits) - len(shown)} more; --rows 0 shows all")


def _number(one: Hit) -> str:
    if one.confidence is not None:
        return f"{one.confidence:.2f}"
    return "asserted" if one.is_finding else ""


def _draw(hits: list[Hit], ledger: LedgerStore, sheet: str, writing: BoxWriting) -> None:
    from dotledger.ledger_findings import kept_items
    from dotledger.report.pictures.contact_sheets import Pictured, contact_sheet
    from dotledger.safe_files import whole_file

    by_image: dict[tuple[int, str], list[Hit]] = {}
    for one in hits:
        by_image.setdefault((one.batch, one.sent.name), []).append(one)
    pictures = []
    for (batch, name), mine in islice(by_image.items(), _MOST_PICTURES):
        item = kept_items([mine[0].sent], ledger)[0]
        marks = [_mark(one, writing) for one in mine if one.box is not None]
        words = ", ".join(dict.fromkeys(writing.word(one.label) for one in mine))
        pictures.append(
            Pictured(
                name=f"{name} ({batch})",
                read=item.read,
                marks=tuple(marks),
                footer="",
                summary=words,
                place=writing.place,
            )
        )
    with whole_file(Path(sheet)) as draft:
        title = f"{counted(len(by_image), 'image')}"
        contact_sheet(pictures, title=title).save(draft, "PNG")
    more = len(by_image) - len(pictures)
    say(f"drawn on {sheet}: {len(pictures)}" + (f"; {more} more images are not" if more else ""))


def _mark(one: Hit, writing: BoxWriting) -> Mark:
    from dotledger.report.pictures.box_marks import Mark

    assert one.box is not None
    x0, y0, x1, y1 = one.box
    sure = math.nan if one.confidence is None else one.confidence
    return Mark(
        box=(x0, y0, x1, y1),
        text=writing.text(one.kind, one.label, sure, one.details),
        label=one.label,
        points=tuple(one.details.points.values()) if one.details else (),
        outline=one.details.polygon if one.details else (),
    )
