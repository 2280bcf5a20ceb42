"""``dotledger schema``."""

from __future__ import annotations

import click

from dotledger.cli.options.common import example, print_json

__all__ = ["command"]


@click.command(
    name="schema", epilog=example("dotledger schema description > description.schema.json")
)
@click.argument(
    "name", type=click.Choice(["description", "rules", "gates", "thresholds", "import"])
)
def command(name: str) -> None:
    """Print the JSON Schema of a sort of file, so that an editor completes and checks it."""
    from dotledger.formats.schemas import schema_of

    print_json(schema_of(name))
