"""A line of progress on stderr; silent when that is no terminal."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from dotledger.cli.options.common_options import money

if TYPE_CHECKING:
    from dotledger.sending.batch.send_progress import Progress

__all__ = ["progress_line"]


@contextmanager
def progress_line(images: int) -> Iterator[Callable[[Progress], None] | None]:
    """Give a function that shows a `Progress`, or None when stderr is no terminal."""
    if not sys.stderr.isatty():
        yield None
        return
    shown = _Line(images)
    try:
        yield shown.show
    finally:
        shown.close()


class _Line:
    """The line; Rich is loaded when there is first something to show."""

    def __init__(self, images: int) -> None:
        self._images = images
        self._bar: Any = None
        self._task: Any = None

    def _open(self, earlier: int) -> None:
        from rich.console import Console
        from rich.progress import BarColumn, TextColumn, TimeRemainingColumn
        from rich.progress import Progress as Bar

        self._bar = Bar(
            TextColumn("{task.completed}/{task.total}"),
            BarColumn(40, complete_style="yellow", finished_style="yellow"),
            TextColumn("{task.fields[rate]}"),
            TimeRemainingColumn(),
            TextColumn("left{task.fields[rest]}"),
            console=Console(stderr=True),
        )
        facts = {"total": self._images, "completed": earlier}
        self._task = self._bar.add_task("", **facts, rate="", rest="")
        self._bar.start()

    def show(self, now: Progress) -> None:
        """Show how far the sending is."""
        if self._bar is None:
            self._open(now.earlier)
        price = [money(now.money, now.currency)] if now.currency else []
        counts = {"failed": now.failed, "refused": now.refused}
        trouble = [f"{count:,} {what}" for what, count in counts.items() if count]
        self._bar.update(
            self._task,
            completed=now.done,
            rate=f"{now.rate:.1f}/s",
            rest="".join(f", {part}" for part in price + trouble),
        )

    def close(self) -> None:
        """Leave the line as it is."""
        if self._bar is not None:
            self._bar.stop()
