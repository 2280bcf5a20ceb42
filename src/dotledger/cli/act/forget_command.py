"""``dotledger forget``."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from dotledger.cli.options.common_options import (
    example,
    json_option,
    ledger_option,
    money,
    print_json,
    print_table,
    same_command,
    say,
)
from dotledger.core.spelling import counted, first_of

if TYPE_CHECKING:
    from dotledger.api.forgetting import Forgotten
    from dotledger.ledger.data_removal import Removal

__all__ = ["command"]

_MOST_SHOWN = 8
_MOST_LISTED = 20


@click.command(
    name="forget",
    epilog=example("dotledger forget walk-01.jpg --ledger walk.ledger --also pictures"),
)
@click.argument("images", nargs=-1)
@click.option("--person", metavar="NAME", default="", help="Remove a person who is named.")
@click.option("--batch", type=int, metavar="N", help="Remove everything that this batch holds.")
@click.option("--before", metavar="DATE", help="Remove batches begun before, such as 2026-01-31.")
@click.option(
    "--also",
    multiple=True,
    metavar="PATH",
    help="A file or folder made out of the ledger, to be cleaned too; may be repeated.",
)
@click.option("--yes", is_flag=True, help="Remove it. Without this, only say what would go.")
@ledger_option
@json_option
def command(
    images: tuple[str, ...],
    person: str,
    batch: int | None,
    before: str | None,
    also: tuple[str, ...],
    yes: bool,
    ledger: str,
    as_json: bool,
) -> int:
    """Remove IMAGES, a person, a batch or old batches from the ledger, for good.

    Answers, findings, decisions, names and paths go; the calls and what they cost stay. With
    --also, rows of tables and annotated or sorted copies go too. Originals and backups are never
    touched. The exit status is 1 if a name is still left somewhere that was searched.
    """
    from dotledger.api.forgetting import forget

    done = forget(ledger, images, person=person, batch=batch, before=before, also=also, act=yes)
    if as_json:
        print_json("forget", done.to_dict())
    else:
        _show(done, in_file="://" not in ledger)
    if not yes:
        say(f"Nothing is removed yet. To remove it for good: {same_command(ledger)} --yes")
    return 1 if yes and not done.clean else 0


def _show(done: Forgotten, *, in_file: bool) -> None:
    from dotledger.api.forgetting import EARLIER
    from dotledger.report.terminal.terminal_tables import rows_table

    found = done.ledger
    title = f"{'Removed' if done.done else 'To remove'}: {found.what}"
    if found.what == EARLIER:
        print_table("The removal that was cut off is finished.")
        return
    if found.nothing:
        print_table(f"The ledger holds nothing of {found.what}.")
    else:
        print_table(rows_table(title, ("in the ledger", "count"), _goes(found)))
        print_table(*_names(found), *_stays(found))
    print_table(*_in_files(done))
    if done.done:
        print_table("", *_searched(done, in_file=in_file))
    print_table(
        "", "Originals are never changed. Backups, snapshots and other files were not searched."
    )


def _goes(found: Removal) -> list[tuple[str, str]]:
    return [
        (name, f"{count:,}")
        for name, count in (
            ("images", found.images),
            ("findings", found.findings),
            ("raw answers", found.answers),
            ("decisions of people", found.decisions),
        )
    ]


def _names(found: Removal) -> list[str]:
    where = ", ".join(map(str, found.batches))
    several = "es" if len(found.batches) != 1 else ""
    return (
        [f"In batch{several} {where}: {first_of(found.names, _MOST_SHOWN)}"] if found.names else []
    )


def _stays(found: Removal) -> list[str]:
    """Return in words what a reader may think is gone, or may miss later."""
    cost = " and ".join(money(amount, currency) for currency, amount in found.money.items())
    lines = [f"Kept: {counted(found.calls, 'call')}" + (f" that cost {cost}." if cost else ".")]
    if found.other_images:
        lines.append(
            f"{counted(found.other_images, 'other image')} came in the same calls: findings are "
            "kept, the raw answers go and cannot be read again."
        )
    if found.answers_in_use:
        lines.append(
            f"{counted(found.answers_in_use, 'raw answer')} kept: another batch uses them too."
        )
    if found.shown_in:
        lines.append(
            "Kept, though the person's name is in the name of the image: "
            f"{first_of(found.shown_in, _MOST_SHOWN)}. Forget these by the image's name."
        )
    return lines


def _in_files(done: Forgotten) -> list[str]:
    files = done.files
    went = "removed" if done.done else "to remove"
    lines = [f"{counted(rows, 'row')} {went}: {path}" for path, rows in files.rows.items()]
    lines += [f"picture {went}: {path}" for path in files.pictures]
    left = files.held[:_MOST_LISTED]
    lines += [f"not changed, though it holds or has the name: {path}" for path in left]
    if len(files.held) > len(left):
        lines.append(f"and {len(files.held) - len(left):,} more files; --json has all.")
    return [*lines, *(f"not read: {line}" for line in files.unread)]


def _searched(done: Forgotten, *, in_file: bool) -> list[str]:
    """Return in words where the names were looked for; a server's files are out of reach."""
    if done.ledger.left:
        places = [f"{one.place} ({counted(one.rows, 'row')})" for one in done.ledger.left]
        return [f"Searched the ledger: still in {', '.join(places)}."]
    if not done.ledger.searched:
        return ["The ledger is written anew. There was no name to search it for."]
    where = "tables, answers and bytes" if in_file else "tables and answers"
    every = max(done.ledger.searched, len(done.ledger.names))
    part = f" of {every:,}" if every > done.ledger.searched else ""
    searched = counted(done.ledger.searched, "name") + part
    return [f"Searched the ledger's {where} for {searched}: none is left."]
