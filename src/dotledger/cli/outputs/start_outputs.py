"""Keys of what the commands under "Start" print; what is undefined is null."""

from __future__ import annotations

from typing import Any, TypedDict

from dotledger.cli.outputs.measure_outputs import Figures
from dotledger.cli.outputs.output_parts import Box

__all__ = ["Demo", "Doctor", "Tried"]


class Doctor(TypedDict):
    """What is installed, and where things are; extras with the packages that each lacks."""

    dotledger: str
    python: str
    system: str
    ledger: str
    settings: list[str]
    descriptions: list[str]
    extras: dict[str, list[str]]


class FoundOne(TypedDict):
    """One finding as the rules read it."""

    kind: str
    label: str
    confidence: float | None
    box: Box | None
    details: dict[str, Any]


class OneReading(TypedDict):
    """What the rules read of one image; notes are pairs of a reason and a value."""

    found: list[FoundOne]
    notes: list[tuple[str, str]]


class Tried(TypedDict):
    """One harmless call; `well` if nothing is to be put right."""

    key: str
    goes_to: list[str]
    code: list[str]
    request: list[str]
    status: int | None
    seconds: float
    content_type: str
    answer: str
    readings: list[OneReading]
    problem: str
    next_steps: list[str]
    well: bool


class Demo(TypedDict):
    """The measures of each service of the demo."""

    services: dict[str, Figures]
