"""``dotledger persons``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.options.common_options import (
    example,
    json_option,
    print_json,
    print_table,
    replace_option,
    say,
    threshold_of,
)
from dotledger.cli.options.comparing_options import compared_tables, comparing_options
from dotledger.cli.options.provenance import provenance_lines
from dotledger.cli.options.similarity_options import (
    check_similarity_options,
    chosen_similarity,
    similarity_facts,
    similarity_options,
    write_chart,
    write_levels,
)
from dotledger.errors import ArgumentError

if TYPE_CHECKING:
    from dotledger.core.questions.identification import Identification

__all__ = ["command"]


@click.command(
    name="persons",
    epilog=example(
        "dotledger persons --findings flint.csv --annotations walkers.csv "
        "--aim 'at most 1% of names are false'"
    ),
)
@comparing_options
@click.option("--overlap", type=float, default=0.5, show_default=True, help="Required overlap.")
@click.option("--threshold", help="Leave out findings below: as in measure.")
@click.option("--kind", default="face", show_default=True, help="Whose names.")
@click.option(
    "--enrolled",
    metavar="NAMES",
    help="Whom the service knows: a file with one name a line, or names with commas. An annotated "
    "face with another name is a stranger's.",
)
@similarity_options(
    "Such as 'at most 1% of names are false' or 'at most 1% of strangers are named'."
)
@replace_option
@json_option
def command(
    overlap: float,
    threshold: str | None,
    kind: str,
    enrolled: str | None,
    similarity: float | None,
    aim: str | None,
    surely: bool,
    parts: int | None,
    seed: int,
    csv_file: str | None,
    chart: str | None,
    replace: bool,
    as_json: bool,
    **tables: Any,
) -> int:
    """Measure the names given to faces: right, wrong, none, and false names of strangers.

    Annotations say who is on a face in the column ``name``, and with yes in the column
    ``stranger`` that it is nobody the service knows. A face without either is not judged. With
    --aim the threshold of similarity is chosen, and judged on held-out images; the exit status is
    1 if no threshold meets the aim.
    """
    from dotledger.core.measurement.measure import measure

    inputs = [tables[n] for n in ("findings", "annotations", "images", "ledger")]
    files = {"--csv": csv_file, "--chart": chart}
    check_similarity_options(aim, files, inputs, replace=replace)
    compared = compared_tables(**tables)
    result = measure(
        compared.findings,
        compared.annotations,
        overlap=overlap,
        threshold=threshold_of(threshold),
        kinds=[kind],
        draws=0,
    )
    found = result.identification(kind, enrolled=_names(enrolled))
    chosen = chosen_similarity(found, aim, parts=parts, surely=surely, seed=seed)
    write_levels(found, csv_file)
    write_chart(found, chart, similarity, chosen)
    about = compared.about(threshold)
    if as_json:
        facts = similarity_facts(found, similarity, chosen)
        print_json("persons", {**about, "kind": kind, **facts})
    else:
        for line in compared.lines:
            say(line)
        print_table(*provenance_lines(about), *result.notes)
        _show(found, similarity)
        if chosen is not None:
            print_table("", f"Aim: {chosen.aim}.", *chosen.lines())
    return 0 if chosen is None or chosen.attainable else 1


def _names(given: str | None) -> list[str] | None:
    """Return the names of a file, one a line, or those between commas."""
    if given is None:
        return None
    path = Path(given)
    if path.is_file():
        from dotledger.safe_files import read_regular

        try:
            names = read_regular(path).decode("utf-8-sig").splitlines()
        except UnicodeDecodeError:
            raise ArgumentError("not a text file in UTF-8", place="--enrolled", got=given) from None
    else:
        names = given.split(",")
    found = [name.strip() for name in names if name.strip()]
    if not found:
        raise ArgumentError("names nobody", place="--enrolled", got=given)
    return found


def _show(found: Identification, similarity: float | None) -> None:
    from dotledger.report.terminal.similarity_tables import name_lines, name_table

    one = similarity is not None
    print_table("", name_table(found, similarity), "", *name_lines(found, shown_all=one))
