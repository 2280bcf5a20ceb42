"""``dotledger schema``."""

from __future__ import annotations

import click

from dotledger.cli.options.common_options import example, print_document
from dotledger.cli.outputs import OUTPUTS
from dotledger.errors import ArgumentError

__all__ = ["command"]


@click.command(
    name="schema", epilog=example("dotledger schema description > description.schema.json")
)
@click.argument(
    "name",
    required=False,
    type=click.Choice(["description", "rules", "gates", "thresholds", "import"]),
)
@click.option(
    "--output", metavar="COMMAND", type=click.Choice(list(OUTPUTS)), help="Of its --json."
)
def command(name: str | None, output: str | None) -> None:
    """Print the JSON Schema of a file that people write, or of what a command prints.

    An editor completes and checks a file by it. With --output it is that of the JSON that a
    command prints: batch is what "batches N" prints, notes what "findings --notes" prints,
    choose-two and agreement what choose and compare print for two thresholds and without
    annotations.
    """
    from dotledger.cli.outputs import output_schema
    from dotledger.formats.json_schemas import SCHEMAS, schema_of

    if (name is None) == (output is None):
        raise ArgumentError(
            "name one sort of file, or one command with --output",
            place="NAME",
            got="neither" if name is None else "both",
            allowed=list(SCHEMAS),
        )
    print_document(output_schema(output) if output else schema_of(str(name)))
