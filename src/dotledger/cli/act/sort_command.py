"""``dotledger sort``."""

from __future__ import annotations

from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.options.common import (
    asked_findings,
    batch_options,
    example,
    json_option,
    ledger_option,
    print_json,
    print_table,
    say,
    say_problems,
    threshold_of,
    threshold_option,
)
from dotledger.core.spelling import counted
from dotledger.errors import ArgumentError

if TYPE_CHECKING:
    from dotledger.acting.sorting import Sorted

__all__ = ["command"]


@click.command(
    name="sort",
    epilog=example(
        "dotledger sort walk/images --ledger walk.ledger --service flint --kind object --out sorted"
    ),
)
@click.argument("images", nargs=-1, required=True)
@click.option("--out", "folder", metavar="FOLDER", required=True, help="Where the folders go.")
@click.option("--findings", metavar="FILE", help="A findings file; without it, the ledger.")
@ledger_option
@batch_options
@click.option("--kind", metavar="KIND", help="Sort by its labels; by default by all labels.")
@threshold_option
@click.option("--strongest", is_flag=True, help="Only the strongest finding of each image counts.")
@click.option(
    "--least", type=float, metavar="C", help="With --strongest: at least this, or undecided."
)
@click.option("--rules", metavar="FILE", help="Sort by verdict, in the place of labels.")
@click.option(
    "--how",
    type=click.Choice(["copy", "link", "list"]),
    default="copy",
    show_default=True,
    help="Copies, links, or only the list.",
)
@json_option
def command(
    images: tuple[str, ...],
    folder: str,
    findings: str | None,
    ledger: str,
    service: str | None,
    batch: int | None,
    kind: str | None,
    threshold: str | None,
    strongest: bool,
    least: float | None,
    rules: str | None,
    how: Any,
    as_json: bool,
) -> int:
    """Sort images into folders by their labels, or by the verdict of rules.

    An image with two labels goes to both. What holds nothing, is undecided, or has no answer has a
    place of its own. Nothing that exists is written over; a second run adds nothing. A manifest
    (sorted.csv) says what went where and why.
    """
    from dotledger.acting.sorting import places_by_label, places_by_verdict, sort_images
    from dotledger.core.tables.image_names import match_images
    from dotledger.images.gather import gather

    if least is not None and not strongest:
        raise ArgumentError("goes with --strongest", place="--least", got=least)
    gathered = gather(images)
    found = asked_findings(findings, ledger, service, batch)
    found, matched = match_images(found, [item.name for item in gathered.items])
    for line in matched.lines():
        say(line)
    if rules is not None:
        from dotledger.weighing import decide

        places = places_by_verdict(decide(found, rules))
    else:
        places = places_by_label(
            found,
            kind=kind,
            threshold=threshold_of(threshold),
            strongest=strongest,
            least=least,
        )
    done = list(sort_images(gathered, places, Path(folder), how=how))
    _write_manifest(done, Path(folder))
    if as_json:
        print_json([_plain(one) for one in done])
    else:
        _show(done, folder, how)
    states = ("new", "there already", "listed")
    problems = [(one.image, one.state) for one in done if one.state not in states]
    say_problems("not sorted", problems)
    return 3 if problems else 0


def _plain(one: Sorted) -> dict[str, Any]:
    return {**vars(one), "path": None if one.path is None else str(one.path)}


def _write_manifest(done: list[Sorted], folder: Path) -> None:
    from dotledger.files import whole_file
    from dotledger.formats.tables.tables import write_rows

    rows = [(one.image, one.place, one.why, str(one.path or "")) for one in done]
    folder.mkdir(parents=True, exist_ok=True)
    with whole_file(folder / "sorted.csv") as draft:
        write_rows(draft, ("image", "place", "why", "path"), rows)


def _show(done: list[Sorted], folder: str, how: str) -> None:
    from dotledger.report.terminal.tables import plain, rows_table

    counts = Counter(one.place for one in done)
    rows = [(plain(place), str(count)) for place, count in sorted(counts.items())]
    print_table(rows_table("", ("place", "images"), rows), "")
    new = sum(one.state == "new" for one in done)
    there = sum(one.state == "there already" for one in done)
    what = "listed only" if how == "list" else f"{counted(new, 'new file')}, {there} there already"
    print_table(f"In {folder}: {what}. What went where and why: {Path(folder) / 'sorted.csv'}")
