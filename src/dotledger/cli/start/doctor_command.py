"""``dotledger doctor``."""

from __future__ import annotations

import platform
import re
import sys
from importlib.metadata import PackageNotFoundError, requires, version
from pathlib import Path
from typing import Any

import click

from dotledger.cli.options.common import (
    example,
    json_option,
    ledger_option,
    print_json,
    print_table,
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
    "postgresql": "ledgers on a server",
    "report": "the report page",
    "review": "the review page",
    "skos": "label names in SKOS",
}
"""What each extra is for; `dev` is for those who change Dot Ledger."""
_REQUIRED = re.compile(r"([\w.-]+).*extra == ['\"]([\w-]+)['\"]")


@click.command(name="doctor", epilog=example("dotledger doctor"))
@ledger_option
@json_option
def command(ledger: str, as_json: bool) -> None:
    """Say what is installed, which extras are missing, and where things are."""
    facts = _facts(ledger)
    if as_json:
        print_json("doctor", facts)
        return
    from dotledger.report.terminal.tables import rows_table

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


def _facts(ledger: str) -> dict[str, Any]:
    from dotledger.cli.options.defaults import description_files, settings_files

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
    from dotledger.ledger.store import Ledger, shown_address

    shown = shown_address(ledger)
    if "://" not in ledger and not Path(ledger).exists():
        return f"{shown}: none yet"
    try:
        with Ledger(ledger, create=False, read_only=True, any_version=True) as opened:
            return f"{shown}: version {opened.version}"
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
