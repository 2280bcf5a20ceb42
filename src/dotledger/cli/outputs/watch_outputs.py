"""Keys of what the commands under "Watch" print; what is undefined is null."""

from __future__ import annotations

from typing import TypedDict

from dotledger.cli.outputs.output_parts import About

__all__ = ["Drift", "Gates", "Watch"]


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

    about: About
    images: tuple[int, int]
    paired: bool
    known: list[str]
    same: bool
    changes: list[Change]
    came: dict[str, int]
    went: dict[str, int]
    shape: dict[str, list[str]]
    notes: list[str]


class LookFigure(TypedDict):
    """One figure of the first round and of this one, and about where chance would keep it."""

    what: str
    of: str
    first: float | None
    second: float | None
    low: float | None
    high: float | None
    changed: bool


class Look(TypedDict):
    """One round, judged: an alarm if the p-value is at most 0.05 / planned."""

    images: tuple[int, int]
    paired: bool
    planned: int
    p_value: float | None
    exchanges: int
    alarm: bool
    same: bool
    bears: int
    figures: list[LookFigure]
    came: dict[str, int]
    went: dict[str, int]
    known: list[str]
    notes: list[str]


class WatchedRound(TypedDict):
    """A round with its look; times are ISO 8601 in UTC."""

    number: int
    batch: int
    round: str
    started: str
    made: str
    look: Look


class Watch(TypedDict):
    """All rounds since one; `alarm` is what the exit status says."""

    service: str
    batch: int
    round: str
    started: str
    threshold: float | dict[str, float] | None
    planned: int
    made: int
    rounds: list[WatchedRound]
    fresh: list[int]
    left_out: list[str]
    unanswered: list[int]
    alarm: bool


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

    about: About
    holds: bool
    images_in_scope: int
    gates: list[Gate]
