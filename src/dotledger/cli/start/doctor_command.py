"""``dotledger doctor``."""

from __future__ import annotations

import platform
import re
import sys
from importlib.metadata import PackageNotFoundError, requires, version
from pathlib import Path
from typing import Any

import click

from dotledger.cli.options.common_options import (
    example,
    json_option,
    ledger_option,
    print_document,
    print_json,
    print_table,
    say,
)

__all__ = ["command"]

_FOR = {
    "bulk": "very many findings out of a ledger",
    "codings": "answers squeezed with Brotli or zstd",
    "copies": "near-copies",
    "dask": "measuring in parts on several machines",
    "demo": "the demo and simulated services",
    "fsspec": "images in other stores",
    "heic": "HEIC images",
    "keyring": "keys in the system's keyring",
    "network": "SOCKS proxies, the system's trust store",
    "openapi": "OpenAPI documents in YAML",
    "parquet": "Parquet files, and quicker CSV",
    "plots": "charts",
    "polygons": "polygons as well-known text",
    "postgresql": "ledgers on a server",
    "report": "the report page",
    "review": "the review page",
    "skos": "label names in SKOS",
    "tokens": "signed assertions for a token",
}
"""What each extra is for; `dev` is for those who change Dot Ledger."""
_REQUIRED = re.compile(r"([\w.-]+).*extra == ['\"]([\w-]+)['\"]")


@click.command(name="doctor", epilog=example("dotledger doctor"))
@click.argument("files", nargs=-1, type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option(
    "--trust",
    is_flag=True,
    help="Agree to dotledger.toml and descriptions/ of this folder, or to FILES, as they are now.",
)
@click.option("--upgrade", is_flag=True, help="Bring the ledger up to this version.")
@click.option(
    "--schema",
    metavar="NAME",
    help="Print the JSON Schema of a file that people write (description, rules, gates, "
    "thresholds, import), or of what a command prints with --json (measure, batches, ...).",
)
@ledger_option
@json_option
def command(
    files: tuple[Path, ...],
    trust: bool,
    upgrade: bool,
    schema: str | None,
    ledger: str,
    as_json: bool,
) -> None:
    """Say what is installed, which extras are missing, and where things are.

    With --trust, FILES (descriptions) or the files of this folder may say where images, keys and
    money go; what they say about that is shown. If a file changes, you are asked again.

    With --upgrade a ledger of an earlier version is upgraded to this one; the file is copied
    first, and answers are not changed. Run it while nobody is sending.
    """
    if sum((trust, upgrade, schema is not None)) > 1:
        raise click.UsageError("--trust, --upgrade and --schema go one at a time.")
    if schema is not None:
        _print_schema(schema)
        return
    if upgrade:
        _upgrade(ledger)
        return
    if trust:
        _trust(files)
        return
    if files:
        raise click.UsageError("FILES go with --trust")
    facts = _facts(ledger)
    if as_json:
        print_json("doctor", facts)
        return
    from dotledger.report.terminal.terminal_tables import rows_table

    extras = [
        (name, _FOR.get(name, ""), "there" if not lacks else f"missing: {', '.join(lacks)}")
        for name, lacks in facts["extras"].items()
    ]
    lines = [(name, str(facts[name])) for name in ("dotledger", "python", "system", "ledger")]
    lines += [("settings", one) for one in facts["settings"]] or [("settings", "no file")]
    lines += [("description", one) for one in facts["descriptions"]]
    print_table(rows_table("", ("", ""), lines), "")
    print_table(rows_table("Extras", ("extra", "for", "packages"), extras))
    if missing := [name for name, lacks in facts["extras"].items() if lacks]:
        print_table("", f"To add them: pip install 'dot-ledger[{','.join(missing)}]'")


def _print_schema(name: str) -> None:
    from dotledger.cli.output_schemas import output_names, output_schema
    from dotledger.errors import ArgumentError
    from dotledger.formats.json_schemas import SCHEMAS, schema_of

    if name not in SCHEMAS and name not in output_names():
        raise ArgumentError(
            "neither a sort of file nor an output",
            place="--schema",
            got=name,
            allowed=[*SCHEMAS, *output_names()],
        )
    print_document(schema_of(name) if name in SCHEMAS else output_schema(name))


def _upgrade(ledger: str) -> None:
    from dotledger.ledger.ledger_migrations import upgrade
    from dotledger.ledger.ledger_places import shown_address

    before, after, copy = upgrade(ledger)
    if before == after:
        print_table(f"{shown_address(ledger)} is of version {after} already.")
        return
    print_table(f"{shown_address(ledger)}: version {before} is now version {after}.")
    if copy is not None:
        print_table(f"The ledger as it was: {copy}")


def _trust(files: tuple[Path, ...]) -> None:
    """Show what files say of keys and places, and remember them as they are now."""
    from dotledger.cli.options.folder_trust import trust_files
    from dotledger.cli.options.project_defaults import description_files, settings_files
    from dotledger.errors import DescriptionError
    from dotledger.services.description_trust import facts_of
    from dotledger.services.service_description import read_description

    here = [path for path in settings_files() if path.name == "dotledger.toml"]
    here += [path for path in description_files() if not path.is_absolute()]
    trusted = []
    for path in files or here:
        lines: list[str] = []
        if path.name != "dotledger.toml":
            try:
                lines = facts_of(read_description(path)).lines()
            except DescriptionError as error:
                say(f"Not trusted: {error}")
                continue
        for line in (f"Trusted: {path}", *(f"  {one}" for one in lines)):
            say(line)
        trusted.append(path)
    trust_files(trusted)
    if not (files or here):
        say("Nothing to trust: this folder has no dotledger.toml and no descriptions/.")


def _facts(ledger: str) -> dict[str, Any]:
    from dotledger.cli.options.project_defaults import description_files, settings_files

    return {
        "dotledger": f"{version('dot-ledger')} in {Path(__file__).parents[2]}",
        "python": f"{platform.python_version()} in {sys.prefix}",
        "system": platform.platform(),
        "ledger": _about(ledger),
        "settings": [str(path) for path in settings_files()],
        "descriptions": [str(path) for path in description_files()],
        "extras": _extras(),
    }


def _about(ledger: str) -> str:
    from dotledger.errors import DotLedgerError
    from dotledger.ledger.data_removal import is_unfinished
    from dotledger.ledger.ledger_schema import VERSION
    from dotledger.ledger.ledger_store import LedgerStore, shown_address

    shown = shown_address(ledger)
    if "://" not in ledger and not Path(ledger).exists():
        return f"{shown}: none yet"
    try:
        with LedgerStore(ledger, create=False, read_only=True, any_version=True) as opened:
            cut_off = opened.version == VERSION and is_unfinished(opened)
            step = f"; a removal was cut off: dotledger forget --ledger {shown} --yes finishes it"
            return f"{shown}: version {opened.version}{step if cut_off else ''}"
    except DotLedgerError as error:
        return str(error)


def _extras() -> dict[str, list[str]]:
    """Return by extra the packages that are missing, of those that bring something of their own."""
    found: dict[str, list[str]] = {}
    for line in requires("dot-ledger") or ():
        match = _REQUIRED.match(line)
        if match is None or match[2] not in _FOR:
            continue
        lacks = found.setdefault(match[2], [])
        try:
            version(match[1])
        except PackageNotFoundError:
            lacks.append(match[1])
    return dict(sorted(found.items()))
