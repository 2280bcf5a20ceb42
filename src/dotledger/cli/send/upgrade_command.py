"""``dotledger upgrade``."""

from __future__ import annotations

import click

from dotledger.cli.options.common_options import example, ledger_option, print_table

__all__ = ["command"]


@click.command(name="upgrade", epilog=example("dotledger upgrade --ledger photos.ledger"))
@ledger_option
def command(ledger: str) -> None:
    """Bring a ledger of an earlier version up to this one.

    A file is copied first, and the copy named. Answers are not touched. Do it while nobody is
    sending.
    """
    from dotledger.ledger.ledger_migrations import upgrade
    from dotledger.ledger.ledger_places import shown_address

    before, after, copy = upgrade(ledger)
    if before == after:
        print_table(f"{shown_address(ledger)} is of version {after} already.")
        return
    print_table(f"{shown_address(ledger)}: version {before} is now version {after}.")
    if copy is not None:
        print_table(f"The ledger as it was: {copy}")
