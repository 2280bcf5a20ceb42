"""JSON Schemas of the files that people write: editors complete and check TOML by them."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from inspect import cleandoc
from typing import Any

import msgspec

from dotledger.errors import ArgumentError

__all__ = ["SCHEMAS", "head", "one_line", "schema_of"]


def _description() -> Any:
    from dotledger.services.service_description import Description

    return Description


def _rules() -> Any:
    from dotledger.formats.rules_files import RulesFile

    return RulesFile


def _gates() -> Any:
    from dotledger.formats.gates_files import GatesFile

    return GatesFile


def _thresholds() -> Any:
    from dotledger.formats.thresholds_files import ThresholdsFile

    return ThresholdsFile


def _import() -> Any:
    from dotledger.formats.annotations.import_descriptions import ImportDescription

    return ImportDescription


SCHEMAS: dict[str, Callable[[], Any]] = {
    "description": _description,
    "rules": _rules,
    "gates": _gates,
    "thresholds": _thresholds,
    "import": _import,
}
"""Each sort of file, and what it holds."""


def schema_of(name: str) -> dict[str, Any]:
    """Return the JSON Schema of a sort of file.

    Parameters
    ----------
    name : str
        A key of `SCHEMAS`.

    Returns
    -------
    dict
        JSON Schema, draft 2020-12. What values contradict each other is checked when the file is
        read, not by the schema.

    Raises
    ------
    ArgumentError
        If there is no such sort.
    """
    if name not in SCHEMAS:
        raise ArgumentError("unknown sort of file", place="name", got=name, allowed=list(SCHEMAS))
    return {**head(name), **_closed(one_line(msgspec.json.schema(SCHEMAS[name]())))}


def head(title: str) -> dict[str, str]:
    """Return what a schema begins with."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"Dot Ledger: {title}",
    }


def one_line(part: Any) -> Any:
    """Return a schema whose descriptions, which are docstrings, are one line each.

    What a docstring says of an attribute goes to that key.
    """
    if isinstance(part, list | tuple):
        return [one_line(one) for one in part]
    if not isinstance(part, dict):
        return part
    made = {key: one_line(value) for key, value in part.items()}
    if isinstance(made.get("description"), str):
        whole, _, attributes = cleandoc(made["description"]).partition("\nAttributes\n")
        made["description"] = " ".join(whole.split())
        for name, about in _attributes(attributes):
            if name in made.get("properties", {}):
                made["properties"][name].setdefault("description", about)
    return made


_ATTRIBUTE = re.compile(r"^(\w[\w, ]*) : .*\n((?:[ \t]+.*\n?|\n)+)", re.MULTILINE)


def _attributes(text: str) -> Iterator[tuple[str, str]]:
    """Yield each attribute of a numpydoc section, with what it says."""
    for match in _ATTRIBUTE.finditer(text):
        for name in match[1].split(","):
            yield name.strip(), " ".join(match[2].split())


def _closed(part: Any) -> Any:
    """Let no section hold keys that it does not have: they are refused when it is read, too."""
    if isinstance(part, list | tuple):
        return [_closed(one) for one in part]
    if not isinstance(part, dict):
        return part
    made = {key: _closed(value) for key, value in part.items()}
    if made.get("type") == "object" and "properties" in made:
        made.setdefault("additionalProperties", False)
    return made
