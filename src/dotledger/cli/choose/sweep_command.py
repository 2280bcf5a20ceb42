"""``dotledger sweep``."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from dotledger.cli.options.common_options import (
    as_kinds,
    example,
    json_option,
    kinds_option,
    print_json,
    print_table,
    replace_option,
    say,
)
from dotledger.cli.options.comparing_options import compared_tables, comparing_options
from dotledger.cli.options.provenance import provenance_lines
from dotledger.safe_files import check_output

__all__ = ["command"]


@click.command(
    name="sweep",
    epilog=example(
        "dotledger sweep --findings flint.csv --annotations annotations.csv --each label "
        "--kinds object"
    ),
)
@comparing_options
@click.option("--overlap", type=float, default=0.5, show_default=True, help="Required overlap.")
@kinds_option
@click.option(
    "--each",
    type=click.Choice(["kind", "label", "all"]),
    default="kind",
    show_default=True,
    help="What is counted apart.",
)
@click.option("--no-intervals", is_flag=True, help="Without 95 % intervals.")
@click.option("--csv", "csv_file", metavar="FILE", help="Write every threshold to a .csv file.")
@replace_option
@json_option
def command(
    overlap: float,
    kinds: str | None,
    each: Any,
    no_intervals: bool,
    csv_file: str | None,
    replace: bool,
    as_json: bool,
    **tables: Any,
) -> None:
    """Show what every threshold would lead to.

    The table shows up to 25 thresholds; --csv and --json hold every one that can be told apart. It
    stops at the service's floor, if that is known: below it nothing is known.
    """
    from dotledger.core.measurement.measure import measure

    if csv_file is not None:
        inputs = [tables[n] for n in ("findings", "annotations", "images", "ledger")]
        check_output(csv_file, place="--csv", inputs=inputs, replace=replace)
    compared = compared_tables(**tables)
    result = measure(
        compared.findings,
        compared.annotations,
        overlap=overlap,
        kinds=as_kinds(kinds),
        draws=0,
    )
    swept = result.sweep(each, intervals=not no_intervals)
    if csv_file is not None:
        from dotledger.formats.tables.result_files import write_frame

        write_frame(swept.frame(), Path(csv_file))
        say(f"{len(swept.frame())} thresholds written to {csv_file}")
    about = compared.about()
    if as_json:
        print_json("sweep", {**about, **swept.to_dict(), "images_in_scope": result.images_in_scope})
        return
    from dotledger.report.terminal.choice_tables import sweep_tables
    from dotledger.report.terminal.measure_tables import scope_lines

    for line in compared.lines:
        say(line)
    print_table(*provenance_lines(about), *compared.suspicious(), *scope_lines(result))
    for table in sweep_tables(swept):
        print_table("", table)
    print_table("", *(f"{name} stops at {why}." for name, why in swept.stopped_at.items()))
