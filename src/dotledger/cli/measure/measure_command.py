"""``dotledger measure``."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.options.common_options import (
    as_kinds,
    example,
    json_option,
    kinds_option,
    numbers_of,
    print_json,
    print_table,
    replace_option,
    say,
    settings_of,
    threshold_of,
)
from dotledger.cli.options.comparing_options import compared_tables, comparing_options
from dotledger.cli.options.provenance import provenance_lines
from dotledger.core.measures.measure_rows import defined
from dotledger.errors import ArgumentError
from dotledger.safe_files import check_output, check_output_folder

if TYPE_CHECKING:
    from dotledger.core.measurement.measure_result import Measure

__all__ = ["command"]

_PARTS = (
    "reasons,confusion,slices,reliability,counts,screening,details,text,images,points,conventions"
)


@click.command(
    name="measure",
    epilog=example(
        "dotledger measure --findings flint.csv --annotations annotations.csv --overlap 0.5 "
        "--also reasons"
    ),
)
@comparing_options
@click.option(
    "--overlap",
    default="0.5",
    show_default=True,
    help="Required overlap; several with commas, the first is shown.",
)
@click.option(
    "--threshold",
    help="Leave out findings below: a number, numbers with commas, a word of the service's own "
    "scale, NAME=VALUE,... by kind or label, or a file made by choose.",
)
@kinds_option
@click.option(
    "--count-unanswered",
    is_flag=True,
    help="Count annotations of images without an answer as missed.",
)
@click.option(
    "--pairing",
    type=click.Choice(["confidence", "total-overlap"]),
    default="confidence",
    show_default=True,
    help="By falling confidence, or one-to-one by greatest total overlap.",
)
@click.option("--credit-related", is_flag=True, help="Count broader and narrower labels as right.")
@click.option(
    "--tolerance",
    "tolerances",
    multiple=True,
    metavar="NAME=VALUE",
    help="How far off a number among the details may be, such as age=5; may be repeated.",
)
@click.option("--draws", type=int, default=1000, show_default=True, help="For intervals; 0: none.")
@click.option("--seed", type=int, default=0, show_default=True, help="Of the draws.")
@click.option("--also", metavar="LIST", help=f"Show more, with commas: {_PARTS}.")
@click.option(
    "--by",
    "slices",
    multiple=True,
    metavar="NAME[:EDGES]",
    help="Slice by size, crowding, edge, a column, or an attribute of the findings (found.age); "
    "edges with commas.",
)
@click.option(
    "--csv",
    "csv_place",
    metavar="PATH",
    help="Also write the rows to a .csv file, or everything into a folder.",
)
@replace_option
@json_option
def command(
    overlap: str,
    threshold: str | None,
    kinds: str | None,
    count_unanswered: bool,
    pairing: Any,
    credit_related: bool,
    tolerances: tuple[str, ...],
    draws: int,
    seed: int,
    also: str | None,
    slices: Sequence[str],
    csv_place: str | None,
    replace: bool,
    as_json: bool,
    **tables: Any,
) -> None:
    """Compare findings with annotations.

    Findings come from a file (--findings) or from the ledger (--service, --batch). Kinds with
    boxes are paired at the required overlap; labels and unsafe content are judged by presence.
    A dash, or null in JSON, stands for a measure that is undefined.
    """
    from dotledger.core.measurement.measure import measure
    from dotledger.core.questions.slices import check_slice

    _check_csv(csv_place, tables, replace=replace)
    names = _parts(also)
    wanted = [_slice(text) for text in slices]
    overlaps = numbers_of(overlap, "--overlap")
    compared = compared_tables(**tables)
    result = measure(
        compared.findings,
        compared.annotations,
        overlap=overlaps if len(overlaps) > 1 else overlaps[0],
        threshold=threshold_of(threshold, several=True),
        kinds=as_kinds(kinds),
        count_unanswered=count_unanswered,
        pairing=pairing,
        broader=compared.broader,
        credit_related=credit_related,
        tolerances=_tolerances(tolerances),
        draws=draws,
        seed=seed,
    )
    for name, edges in wanted:
        check_slice(name, edges, [*result.slice_names(), *result.finding_slice_names()])
    if csv_place is not None:
        _write_csv(result, Path(csv_place))
    about = compared.about(threshold)
    if as_json:
        told = {**result.to_dict(everything=True), "loaded": compared.report}
        for name, edges in wanted:
            kinds_by = result.by(name, edges=edges)
            told["slices"][name] = {kind: one.to_dict() for kind, one in kinds_by.items()}
        if "conventions" in names:
            told["conventions"] = _conventions(result)
        print_json("measure", {**about, **told})
    else:
        for line in compared.lines:
            say(line)
        print_table(*provenance_lines(about))
        _show(result, names, wanted)


def _conventions(result: Measure) -> dict[str, Any]:
    from dotledger.core.questions.box_conventions import better_convention

    fits = result.conventions()
    best = better_convention(fits)
    rows = [
        {
            "read_as": fit.name,
            "mean_overlap": defined(fit.mean_overlap),
            "as_now": defined(fit.as_now),
            "boxes_moved": fit.changed,
        }
        for fit in fits
    ]
    return {"tried": rows, "better": best.name if best else None}


def _tolerances(pairs: tuple[str, ...]) -> dict[str, float]:
    named = settings_of(pairs, "--tolerance")
    return {name: numbers_of(value, "--tolerance")[0] for name, value in named.items()}


def _parts(text: str | None) -> list[str]:
    names = [part.strip() for part in (text or "").split(",") if part.strip()]
    for name in names:
        if name not in _PARTS.split(","):
            raise ArgumentError("unknown part", place="--also", got=name, allowed=_PARTS.split(","))
    return names


def _slice(text: str) -> tuple[str, list[float] | None]:
    name, _, edges = text.partition(":")
    return name, numbers_of(edges, "--by") if edges else None


def _show(
    result: Measure,
    names: Sequence[str],
    slices: Sequence[tuple[str, list[float] | None]],
) -> None:
    from dotledger.report.terminal.measure_tables import (
        measure_tables,
        parts,
        pooled_lines,
        scope_lines,
        slice_tables,
    )

    several = any(len(kind.points) > 1 for kind in result.kinds.values())
    more = ["points"] if several else []
    tables = [part for table in measure_tables(result) for part in ("", table)]
    print_table(*scope_lines(result), *tables, "", pooled_lines(result))
    if result.notes:
        print_table("", *result.notes)
    wanted = dict(slices)
    if "slices" in names:  # each of them once, with the edges asked for
        wanted |= {name: wanted.get(name) for name in result.slice_names()}
    for name, edges in wanted.items():
        for table in slice_tables(result, name, edges):
            print_table("", table)
    rest = [name for name in dict.fromkeys([*more, *names]) if name != "slices"]
    if rest:
        print_table(parts(result, rest))


def _check_csv(place: str | None, tables: dict[str, Any], *, replace: bool) -> None:
    """Refuse a place for --csv: it is a new .csv file, or a folder."""
    if place is None:
        return
    inputs = [tables[name] for name in _INPUTS]
    suffix = Path(place).suffix.lower()
    if suffix == ".csv":
        check_output(place, place="--csv", inputs=inputs, replace=replace)
    elif suffix and not Path(place).is_dir():
        raise ArgumentError(
            "neither a .csv file nor a folder",
            place="--csv",
            got=place,
            next_step="Name a file that ends in .csv, or a folder (a name without an ending).",
        )
    else:
        check_output_folder(place, place="--csv", inputs=inputs, replace=replace)


_INPUTS = (
    "findings",
    "findings_columns",
    "annotations",
    "columns",
    "description",
    "images",
    "names",
    "ledger",
)


def _write_csv(result: Measure, place: Path) -> None:
    from dotledger.formats.tables.result_files import write_everything, write_frame

    if place.suffix.lower() == ".csv":
        write_frame(result.frame(), place)
    else:
        write_everything(result, place)
