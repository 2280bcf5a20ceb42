"""Options about the text of a box: what it says, where it stands, in which words."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

import click

from dotledger.core.kinds import PLACES

__all__ = ["words_of", "writing_options"]

Function = TypeVar("Function", bound=Callable[..., Any])


def writing_options(function: Function) -> Function:
    """Add ``--write``, ``--place`` and ``--words``."""
    for option in (
        click.option(
            "--words",
            metavar="FILE",
            help="What is written for labels and values: a table with the columns word, written.",
        ),
        click.option(
            "--place",
            type=click.Choice(PLACES),
            default="near",
            show_default=True,
            help="Where the text stands, if there is room.",
        ),
        click.option(
            "--write",
            metavar="TEMPLATE",
            help="Text of each box, such as '{person}, {age:.0f}'.",
        ),
    ):
        function = option(function)
    return function


def words_of(path: str | None) -> dict[str, str] | None:
    """Return what stands for words, from the file that ``--words`` names."""
    if path is None:
        return None
    from dotledger.formats.tables.plain_tables import words_of_file

    return words_of_file(path)
