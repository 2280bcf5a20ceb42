"""``dotledger pairs``."""

from __future__ import annotations

import click

from dotledger.cli.options.common_options import (
    example,
    json_option,
    print_json,
    print_table,
    replace_option,
)
from dotledger.cli.options.similarity_options import (
    check_similarity_options,
    chosen_similarity,
    similarity_facts,
    similarity_options,
    write_chart,
    write_levels,
)

__all__ = ["command"]


@click.command(
    name="pairs",
    epilog=example("dotledger pairs guests.csv --aim 'false-match rate <= 0.1%'"),
)
@click.argument("table", metavar="TABLE")
@similarity_options("Such as 'false-match rate <= 0.1%'.")
@replace_option
@json_option
def command(
    table: str,
    similarity: float | None,
    aim: str | None,
    surely: bool,
    parts: int | None,
    seed: int,
    csv_file: str | None,
    chart: str | None,
    replace: bool,
    as_json: bool,
) -> int:
    """Measure "same person or not" over pairs of pictures.

    TABLE (.csv, .jsonl, .parquet) has a row for each pair: ``left``, ``right``, ``same`` (yes or
    no) and ``similarity``, empty where the service gave no answer. With --aim the threshold of
    similarity is chosen, and judged on held-out pairs; the exit status is 1 if no threshold meets
    the aim.
    """
    from dotledger.formats.tables.picture_pairs import measure_pairs

    inputs = [table]
    files = {"--csv": csv_file, "--chart": chart}
    check_similarity_options(aim, files, inputs, replace=replace)
    found = measure_pairs(table)
    chosen = chosen_similarity(found, aim, parts=parts, surely=surely, seed=seed)
    write_levels(found, csv_file)
    write_chart(found, chart, similarity, chosen)
    if as_json:
        facts = similarity_facts(found, similarity, chosen)
        print_json("pairs", {"table": table, **facts})
    else:
        from dotledger.report.terminal.similarity_tables import pair_lines, pair_table

        one = similarity is not None
        lines = pair_lines(found, shown_all=one)
        tables = ["", pair_table(found, similarity)] if found.rows else []
        print_table(f"Pairs of {table}.", *lines, *tables)
        if chosen is not None:
            print_table("", f"Aim: {chosen.aim}.", *chosen.lines())
    return 0 if chosen is None or chosen.attainable else 1
