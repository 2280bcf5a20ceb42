"""A line of progress on stderr; silent when that is no terminal."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from dotledger.sending.batch import Progress

__all__ = ["progress_line"]


@contextmanager
def progress_line(images: int) -> Iterator[Callable[[Progress], None] | None]:
    """Give a function that shows a `Progress`, or None when stderr is no terminal."""
    if not sys.stderr.isatty():
        yield None
        return
    from rich.console import Console
    from rich.progress import BarColumn, TextColumn, TimeRemainingColumn
    from rich.progress import Progress as Bar

    bar = Bar(
        TextColumn("{task.completed}/{task.total}"),
        BarColumn(40),
        TextColumn("{task.fields[rate]}"),
        TimeRemainingColumn(),
        TextColumn("{task.fields[cost]}{task.fields[trouble]}"),
        console=Console(stderr=True),
    )
    with bar:
        task = bar.add_task("", total=images, rate="", cost="", trouble="")

        def show(now: Progress) -> None:
            failed = now.failed + now.refused
            bar.update(
                task,
                completed=now.done,
                rate=f"{now.rate:.1f}/s",
                cost=f"{now.money:.2f} {now.currency}" if now.currency else "",
                trouble=f", {failed} failed" if failed else "",
            )

        yield show
