"""``dotledger choose`` without an aim: what every threshold would lead to."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from dotledger.cli.options.common_options import as_kinds, print_json, print_table, say
from dotledger.cli.options.comparing_options import compared_tables
from dotledger.cli.options.provenance import provenance_lines
from dotledger.safe_files import check_output

__all__ = ["show_every_threshold"]


def show_every_threshold(
    tables: dict[str, Any],
    *,
    overlap: float,
    kinds: str | None,
    each: Any,
    intervals: bool,
    csv_file: str | None,
    replace: bool,
    as_json: bool,
) -> None:
    """Show what each distinct threshold leads to.

    The table has up to 25 of them; --csv and --json hold all. It ends at the service's floor, if
    that is known: below it nothing is known.
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
    swept = result.sweep(each, intervals=intervals)
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
