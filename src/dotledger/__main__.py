"""The command's first lines: Ctrl-C ends it quietly also while it is still loading."""

from __future__ import annotations

import signal

__all__ = ["run"]


def run() -> None:
    """Run the command line.

    Until everything is loaded nothing can be lost, so that the system may end us as it likes.
    """
    before = signal.signal(signal.SIGINT, signal.SIG_DFL)
    from dotledger.cli import run as run_command

    signal.signal(signal.SIGINT, before)
    run_command()


if __name__ == "__main__":
    run()
