"""Options of commands that ask how similar is similar enough."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

import click

__all__ = ["similarity_options"]

Function = TypeVar("Function", bound=Callable[..., Any])


def similarity_options(aims: str) -> Callable[[Function], Function]:
    """Add the options of a threshold of similarity; `aims` says how an aim is written."""
    options = (
        click.option("--similarity", type=float, metavar="S", help="Show this threshold alone."),
        click.option("--aim", metavar="SENTENCE", help=aims),
        click.option(
            "--surely", is_flag=True, help="The end of the 95 % interval must meet the aim."
        ),
        click.option(
            "--parts",
            type=click.IntRange(2),
            metavar="N",
            help="Each part is judged by what is best on the others; by default 20 below 200, "
            "else 5.",
        ),
        click.option("--seed", type=int, default=0, show_default=True, help="Of the parts."),
        click.option(
            "--csv", "csv_file", metavar="FILE", help="Write every threshold to a .csv file."
        ),
    )

    def add(function: Function) -> Function:
        for option in reversed(options):
            function = option(function)
        return function

    return add
