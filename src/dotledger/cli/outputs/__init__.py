"""What each command prints with ``--json``: its name, its version, and its JSON Schema.

A version is raised when a key goes, gets another name or another meaning; new keys leave it as it
is, so whoever reads an output passes over keys that they do not know.

The keys are written down here a second time, by step as the commands are, and not taken from the
classes that they come from: whoever renames an attribute there should meet the promise here.
"""

from __future__ import annotations

from importlib import import_module
from typing import Any

from dotledger.errors import ArgumentError

__all__ = ["OUTPUTS", "head_of", "output_schema"]

OUTPUTS: dict[str, tuple[int, str]] = {
    "demo": (1, "start_outputs:Demo"),
    "doctor": (1, "start_outputs:Doctor"),
    "try": (1, "start_outputs:Tried"),
    "forecast": (1, "send_outputs:Forecast"),
    "send": (1, "send_outputs:Sent"),
    "batches": (1, "send_outputs:Batches"),
    "batch": (1, "send_outputs:BatchDetail"),
    "usage": (1, "send_outputs:Usage"),
    "reread": (1, "send_outputs:Reread"),
    "findings": (1, "read_outputs:Findings"),
    "notes": (1, "read_outputs:Notes"),
    "names": (1, "read_outputs:Names"),
    "show": (1, "look_outputs:Story"),
    "search": (1, "look_outputs:Hits"),
    "draw": (1, "look_outputs:Drawn"),
    "annotations": (1, "measure_outputs:Loaded"),
    "measure": (1, "measure_outputs:Measure"),
    "reliability": (1, "measure_outputs:Reliabilities"),
    "sweep": (1, "choose_outputs:Sweep"),
    "choose": (1, "choose_outputs:Chosen"),
    "choose-two": (1, "choose_outputs:ChosenTwo"),
    "compare": (1, "choose_outputs:Compared"),
    "agreement": (1, "choose_outputs:Agreement"),
    "screen": (1, "act_outputs:Screened"),
    "review": (1, "act_outputs:Reviewed"),
    "sort": (1, "act_outputs:SortedImages"),
    "copies": (1, "act_outputs:Copies"),
    "cover": (1, "act_outputs:Covered"),
    "drift": (1, "watch_outputs:Drift"),
    "watch": (1, "watch_outputs:Watch"),
    "gate": (1, "watch_outputs:Gates"),
}
"""By name of the output: its version, and where its keys are written down.

It has the name of its command; ``sweep`` is what ``choose`` prints without an aim, ``usage`` what
``batches --by month``, ``batch`` is what ``batches N`` prints, ``notes`` what ``findings
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

    from dotledger.formats.json_schemas import head, one_line

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
