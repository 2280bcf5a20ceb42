"""``dotledger measure``."""

from __future__ import annotations

from pathlib import Path

import click

from dotledger.cli.common import (
    as_kinds,
    example,
    json_option,
    kinds_option,
    ledger_option,
    print_json,
    print_table,
    read_said,
)

__all__ = ["command"]


@click.command(
    name="measure",
    epilog=example(
        "dotledger measure --findings flint.csv --annotations annotations.csv --overlap 0.5"
    ),
)
@click.option("--findings", metavar="FILE", help="A findings file; without it, the ledger.")
@click.option("--annotations", metavar="FILE", required=True, help="The ground truth.")
@click.option("--overlap", type=float, default=0.5, show_default=True, help="Required overlap.")
@click.option("--threshold", type=float, help="Leave out findings below this confidence.")
@kinds_option
@click.option(
    "--count-unanswered",
    is_flag=True,
    help="Count annotations of images without an answer as missed.",
)
@ledger_option
@click.option("--service", help="The newest batch of this service in the ledger.")
@click.option("--batch", type=int, help="This batch in the ledger.")
@click.option("--csv", "csv_file", metavar="FILE", help="Also write the rows as CSV.")
@json_option
def command(
    findings: str | None,
    annotations: str,
    overlap: float,
    threshold: float | None,
    kinds: str | None,
    count_unanswered: bool,
    ledger: str,
    service: str | None,
    batch: int | None,
    csv_file: str | None,
    as_json: bool,
) -> None:
    """Compare findings with annotations.

    Findings come from a file (--findings) or from the ledger (--service, --batch). Kinds with
    boxes are paired at the required overlap; labels and unsafe content are judged by presence.
    A dash, or null in JSON, stands for a measure that is undefined.
    """
    from dotledger.core.measuring import measure
    from dotledger.formats.tables import read_annotations
    from dotledger.report.tables import measure_table, scope_lines

    result = measure(
        read_said(findings, ledger, service, batch),
        read_annotations(Path(annotations)),
        overlap=overlap,
        threshold=threshold,
        kinds=as_kinds(kinds),
        count_unanswered=count_unanswered,
    )
    if csv_file is not None:
        from dotledger.formats.files import whole_file

        with whole_file(csv_file) as draft:
            result.frame().to_csv(draft, index=False)
    if as_json:
        print_json(result.to_dict())
    else:
        print_table(*scope_lines(result), "", measure_table(result))
