"""What each command prints with ``--json``: its name, its version, and its JSON Schema.

A version is raised when a key goes, gets another name or another meaning; new keys leave it as it
is, so whoever reads an output passes over keys that they do not know.
"""

from __future__ import annotations

from importlib import import_module
from typing import Any

from dotledger.errors import ArgumentError

__all__ = ["OUTPUTS", "head_of", "output_schema"]

OUTPUTS: dict[str, tuple[int, str]] = {
    "demo": (1, "measuring:Demo"),
    "doctor": (1, "sending:Doctor"),
    "try": (1, "sending:Tried"),
    "forecast": (1, "sending:Forecast"),
    "send": (1, "sending:Sent"),
    "batches": (1, "sending:Batches"),
    "batch": (1, "sending:BatchDetail"),
    "usage": (1, "sending:Usage"),
    "reread": (1, "sending:Reread"),
    "findings": (1, "reading:Findings"),
    "notes": (1, "reading:Notes"),
    "names": (1, "reading:Names"),
    "check": (1, "reading:Conventions"),
    "show": (1, "reading:Story"),
    "search": (1, "reading:Hits"),
    "draw": (1, "reading:Drawn"),
    "annotations": (1, "measuring:Loaded"),
    "measure": (1, "measuring:Measure"),
    "reliability": (1, "measuring:Reliabilities"),
    "sweep": (1, "choosing:Sweep"),
    "choose": (1, "choosing:Chosen"),
    "choose-two": (1, "choosing:ChosenTwo"),
    "compare": (1, "choosing:Compared"),
    "agreement": (1, "choosing:Agreement"),
    "screen": (1, "acting:Screened"),
    "review": (1, "acting:Reviewed"),
    "sort": (1, "acting:SortedImages"),
    "copies": (1, "acting:Copies"),
    "cover": (1, "acting:Covered"),
    "drift": (1, "choosing:Drift"),
    "gate": (1, "choosing:Gates"),
}
"""By name of the output: its version, and where its keys are written down.

It has the name of its command; ``batch`` is what ``batches N`` prints, ``notes`` what ``findings
--notes``, ``choose-two`` what ``choose`` prints for an aim with two thresholds, and ``agreement``
what ``compare`` prints where nothing is annotated.
"""


def head_of(output: str) -> dict[str, Any]:
    """Return what every output begins with: what it is, and its version.

    Parameters
    ----------
    output : str
        A key of `OUTPUTS`.
    """
    return {"output": output, "version": OUTPUTS[output][0]}


def output_schema(output: str) -> dict[str, Any]:
    """Return the JSON Schema of what a command prints with ``--json``.

    Parameters
    ----------
    output : str
        A key of `OUTPUTS`.

    Returns
    -------
    dict
        JSON Schema, draft 2020-12. It lets keys pass that it does not know.

    Raises
    ------
    ArgumentError
        If there is no such output.
    """
    import msgspec

    from dotledger.formats.schemas import head, one_line

    if output not in OUTPUTS:
        raise ArgumentError("unknown output", place="output", got=output, allowed=list(OUTPUTS))
    version, where = OUTPUTS[output]
    module, _, name = where.partition(":")
    keys = getattr(import_module(f"{__name__}.{module}"), name)
    made: dict[str, Any] = one_line(msgspec.json.schema(keys))
    # The reference to its own definition gives way to the definition: it holds the head, too.
    own = made["$defs"].pop(made.pop("$ref").rpartition("/")[2])
    first = {"output": {"const": output}, "version": {"const": version}}
    return {
        **own,
        **head(f"what {output} prints"),
        "properties": {**first, **own["properties"]},
        "required": [*first, *own["required"]],
        **({"$defs": made["$defs"]} if made["$defs"] else {}),
    }
