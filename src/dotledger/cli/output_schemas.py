"""What each command prints with ``--json``: its name, its version, and its JSON Schema.

A version is raised when a key goes, gets another name or another meaning; new keys leave it as it
is, so whoever reads an output passes over keys that they do not know.

The schemas are in ``output_schemas.json``, and the tests hold every output against them to the last
key: whoever renames an attribute meets the promise there. A part with ``"measures"`` has a key for
each measure of the registry.
"""

from __future__ import annotations

from functools import cache
from importlib.resources import files
from typing import Any

from dotledger.core.measures.registry import MEASURES
from dotledger.errors import ArgumentError
from dotledger.formats.json_schemas import head
from dotledger.json_codec import from_json

__all__ = ["head_of", "output_names", "output_schema"]

_FIGURE = {"anyOf": [{"type": "number"}, {"type": "null"}]}


@cache
def _kept() -> dict[str, Any]:
    return from_json(files("dotledger.cli").joinpath("output_schemas.json").read_bytes())


def output_names() -> list[str]:
    """Return the names of all outputs.

    An output has the name of its command; ``sweep`` is what ``choose`` prints without an aim,
    ``usage`` what ``batches --by month``, ``batch`` what ``batches N``, ``notes`` what ``findings
    --notes``, ``choose-two`` what ``choose`` prints for an aim with two thresholds, and
    ``agreement`` what ``compare`` prints without annotations.
    """
    return list(_kept()["outputs"])


def head_of(output: str) -> dict[str, Any]:
    """Return what every output begins with: its name and version.

    Parameters
    ----------
    output : str
        One of `output_names`.
    """
    return {"output": output, "version": _kept()["outputs"][output]["version"]}


def output_schema(output: str) -> dict[str, Any]:
    """Return the JSON Schema of what a command prints with ``--json``.

    Parameters
    ----------
    output : str
        One of `output_names`.

    Returns
    -------
    dict
        JSON Schema, draft 2020-12. It lets keys pass that it does not know.

    Raises
    ------
    ArgumentError
        If there is no such output.
    """
    if output not in output_names():
        raise ArgumentError("unknown output", place="output", got=output, allowed=output_names())
    own = {**_kept()["outputs"][output]}
    first = {"output": {"const": output}, "version": {"const": own.pop("version")}}
    parts = _parts_in(own)
    return {
        **head(f"what {output} prints"),
        **own,
        "type": "object",
        "properties": {**first, **own["properties"]},
        "required": [*first, *own["required"]],
        **({"$defs": parts} if parts else {}),
    }


def _parts_in(own: dict[str, Any]) -> dict[str, Any]:
    """Return the parts that a schema refers to, and those that they refer to, by name."""
    found: dict[str, Any] = {}
    waiting = _references(own)
    while waiting:
        name = waiting.pop()
        if name not in found:
            found[name] = _with_measures(_kept()["parts"][name])
            waiting += _references(found[name])
    return dict(sorted(found.items()))


def _references(part: Any) -> list[str]:
    if isinstance(part, list):
        return [name for one in part for name in _references(one)]
    if not isinstance(part, dict):
        return []
    own = [part["$ref"].rpartition("/")[2]] if "$ref" in part else []
    return own + [name for one in part.values() for name in _references(one)]


def _with_measures(part: dict[str, Any]) -> dict[str, Any]:
    if "measures" not in part:
        return part
    figures = dict.fromkeys(MEASURES, _FIGURE)
    made = {key: value for key, value in part.items() if key != "measures"}
    return {
        **made,
        "properties": {**part["properties"], **figures},
        "required": [*part["required"], *figures],
    }
