"""``dotledger names``."""

from __future__ import annotations

from pathlib import Path

import click

from dotledger.cli.options.common_options import (
    asked_findings,
    batch_options,
    example,
    json_option,
    ledger_option,
    print_json,
    print_table,
    replace_option,
    say,
    service_name,
)
from dotledger.cli.options.provenance import provenance, provenance_lines

__all__ = ["command"]


@click.command(
    name="names", epilog=example("dotledger names mine.csv --ledger photos.ledger --service marl")
)
@click.argument("mapping")
@click.option("--findings", metavar="FILE", help="A findings file; without it, the ledger.")
@ledger_option
@batch_options
@click.option("--skos", metavar="FILE", help="Write the mapping as SKOS: .ttl or .jsonld.")
@replace_option
@json_option
def command(
    mapping: str,
    findings: str | None,
    ledger: str,
    service: str | None,
    batch: int | None,
    skos: str | None,
    replace: bool,
    as_json: bool,
) -> None:
    """Compare a MAPPING of label names with the labels a service uses.

    Lists labels that the mapping says nothing about, by count, and entries of the mapping that
    match no finding, each with the nearest spelling on the other side. The
    mapping is CSV (label,becomes and if wanted service,kind,broader), TOML, or SKOS.
    """
    from dotledger.core.tables.label_name_mapping import map_names
    from dotledger.formats.label_name_files import read_names, write_skos
    from dotledger.report.terminal.terminal_tables import rows_table
    from dotledger.safe_files import check_output

    names = read_names(Path(mapping))
    if skos is not None:
        check_output(skos, place="--skos", inputs=(mapping, findings, ledger), replace=replace)
        say(f"written: {write_skos(names, skos)}")
        return
    found = asked_findings(findings, ledger, service, batch)
    mapped = map_names(found, names, service=service_name(service) or "")
    columns = ("kind", "label", "findings", "nearest")
    about = provenance(found, file=findings)
    if as_json:
        unmapped = [dict(zip(columns, row, strict=True)) for row in mapped.unmapped]
        unused = [dict(zip(("kind", "label", "nearest"), r, strict=True)) for r in mapped.unused]
        told = {"left_out": mapped.left_out, "unmapped": unmapped, "unused": unused}
        print_json("names", {**about, **told})
        return
    print_table(*provenance_lines(about), "")
    rows = [(kind, label, str(count), near) for kind, label, count, near in mapped.unmapped]
    print_table(rows_table("Labels missing from the mapping", columns, rows), "")
    if mapped.unused:
        header = ("kind", "label", "nearest")
        print_table(rows_table("Entries that match no finding", header, mapped.unused), "")
    total = int((~found.blank).sum())
    print_table(
        f"{total} findings: {mapped.left_out} left out, "
        f"{sum(row[2] for row in mapped.unmapped)} not mapped."
    )
