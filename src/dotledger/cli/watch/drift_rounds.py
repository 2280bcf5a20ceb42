"""``dotledger drift --since``: each later round judged by one, once."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import click

from dotledger.cli.options.common_options import print_json, print_table, say, threshold_of
from dotledger.safe_files import check_output

if TYPE_CHECKING:
    from dotledger.core.comparison.planned_looks import Watch

__all__ = ["watch_rounds"]

_MOST_ROUNDS = 14


def watch_rounds(
    runs: Sequence[str],
    ledger: str,
    since: str,
    *,
    threshold: str | None,
    seed: int,
    looks: int | None,
    any_images: bool,
    page: str | None,
    replace: bool,
    every: bool,
    as_json: bool,
) -> int:
    """Judge the rounds that were not judged, and show all of them.

    Returns
    -------
    int
        The exit status: 1 on an alarm, 3 if a later round is complete and has no answer.

    Raises
    ------
    UsageError
        If more than a service is named.
    """
    if len(runs) > 1:
        raise click.UsageError("With --since name one service at most.")
    if page is not None:
        check_output(page, place="--page", inputs=[ledger], replace=replace)
    from dotledger.api.drift_watch import watch

    found = watch(
        ledger,
        since,
        service=runs[0] if runs else None,
        threshold=threshold_of(threshold),
        looks=looks,
        any_images=any_images,
        seed=seed,
    )
    if page is not None:
        _write_page(found, page)
    if as_json:
        print_json("watch", found.to_dict())
    else:
        _show(found, every=every)
        if page is not None:
            say(f"The page: {page}")
    return 1 if found.alarm else 3 if found.unanswered else 0


def _write_page(watch: Watch, page: str) -> None:
    from dotledger.report.pages.watch_page import watch_page
    from dotledger.safe_files import whole_file

    text = watch_page(watch)
    with whole_file(page) as draft:
        draft.write_text(text, encoding="utf-8")


def _show(watch: Watch, *, every: bool) -> None:
    from dotledger.report.terminal.terminal_tables import rows_table
    from dotledger.report.terminal.watch_lines import (
        alarm_lines,
        figure_cells,
        head_lines,
        round_cells,
        verdict_line,
    )

    print_table(*head_lines(watch))
    shown = watch.rounds if every else watch.rounds[-_MOST_ROUNDS:]
    if shown:
        header = ("look", "round", "batch", "sent", "images", "p", "")
        print_table("", rows_table("", header, [round_cells(one) for one in shown]))
    if len(shown) < len(watch.rounds):
        print_table(f"{len(watch.rounds) - len(shown)} earlier rounds: --every shows them.")
    if every and shown:
        columns = ("", "of", "first", "this round", "from", "to")
        cells = [figure_cells(one) for one in shown[-1].look.figures]
        print_table("", rows_table(f"{shown[-1].name}, every figure", columns, cells))
    for one in watch.alarms[-3:]:
        print_table("", f"{one.name}:", *(f"  {line}" for line in alarm_lines(one)))
    if watch.left_out:
        print_table("", "Not judged:", *(f"  {line}" for line in watch.left_out))
    notes = watch.rounds[-1].look.notes if watch.rounds else ()
    print_table("", *notes, verdict_line(watch))
