"""Options of commands that ask how similar is similar enough."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from dotledger.cli.options.common_options import given_options, say
from dotledger.safe_files import check_output

if TYPE_CHECKING:
    from dotledger.core.questions.identification import Identification
    from dotledger.core.questions.pair_verification import PairMeasure
    from dotledger.core.thresholds.similarity_choice import SimilarityChoice

__all__ = [
    "check_similarity_options",
    "chosen_similarity",
    "similarity_facts",
    "similarity_options",
    "write_chart",
    "write_levels",
]

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
        click.option(
            "--chart",
            metavar="FILE",
            help="Draw what every threshold does: a .png, .svg or .pdf file.",
        ),
    )

    def add(function: Function) -> Function:
        for option in reversed(options):
            function = option(function)
        return function

    return add


def check_similarity_options(
    aim: str | None,
    files: Mapping[str, str | None],
    inputs: Sequence[str | None],
    *,
    replace: bool,
) -> None:
    """Refuse options that would go unheard, and places of files, before anything is read.

    Parameters
    ----------
    files : mapping of str to str or None
        By option, the file that is to be written.
    """
    if aim is None and (given := given_options(["surely", "parts", "seed"])):
        raise click.UsageError(f"{given[0]} goes with --aim.")
    for option, file in files.items():
        if file is not None:
            check_output(file, place=option, inputs=inputs, replace=replace)


def chosen_similarity(
    found: Identification | PairMeasure, aim: str | None, **options: Any
) -> SimilarityChoice | None:
    """Return the threshold chosen under an aim; None without one."""
    if aim is None:
        return None
    from dotledger.api.choosing import choose_similarity

    return choose_similarity(found, aim=aim, **options)


def write_levels(found: Identification | PairMeasure, csv_file: str | None) -> None:
    """Write every threshold where ``--csv`` says."""
    if csv_file is not None:
        from dotledger.formats.tables.result_files import write_frame

        write_frame(found.frame(), Path(csv_file))


def write_chart(
    found: Identification | PairMeasure,
    file: str | None,
    similarity: float | None,
    chosen: SimilarityChoice | None,
) -> None:
    """Draw the chart that ``--chart`` asks for, with the threshold shown or chosen marked."""
    if file is None:
        return
    from dotledger.report.chart_files import write_similarity_chart

    mark = similarity if similarity is not None or chosen is None else chosen.similarity
    write_similarity_chart(found, file, mark)
    say(f"Chart written to {file}")


def similarity_facts(
    found: Identification | PairMeasure,
    similarity: float | None,
    chosen: SimilarityChoice | None,
) -> dict[str, Any]:
    """Return the keys of the JSON that both commands have."""
    return {
        **found.to_dict(),
        "asked": None if similarity is None else found.at(similarity).to_dict(),
        "choice": None if chosen is None else chosen.to_dict(),
    }
