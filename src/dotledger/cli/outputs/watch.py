"""Keys of what the commands under "Watch" print; what is undefined is null."""

from __future__ import annotations

from typing import TypedDict

__all__ = ["Drift", "Gates"]


class Change(TypedDict):
    """One figure of two runs, and how often exchanging their answers moves any figure as far."""

    what: str
    of: str
    first: float | None
    second: float | None
    change: float | None
    p_value: float | None
    smallest: float | None
    beyond_chance: bool


class Drift(TypedDict):
    """What changed between two runs; labels that came or went, with how often."""

    images: tuple[int, int]
    paired: bool
    known: list[str]
    same: bool
    changes: list[Change]
    came: dict[str, int]
    went: dict[str, int]
    shape: dict[str, list[str]]
    notes: list[str]


class Gate(TypedDict):
    """One condition: the value with its interval, the limits, and whether it holds."""

    gate: str
    measure: str
    of: str
    limits: str
    value: float | None
    low: float | None
    high: float | None
    before: float | None
    counts: str
    holds: bool
    was_judged: bool
    why: str


class Gates(TypedDict):
    """What came of all conditions."""

    holds: bool
    images_in_scope: int
    gates: list[Gate]
