"""Sections of a call: how it is told what is wanted, in which steps, when, at what price."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Annotated, Literal

import msgspec

from dotledger.core.kinds import KindName
from dotledger.reading.answer_paths import check_paths
from dotledger.reading.reading_rules import Positive, Rate
from dotledger.reading.strict_toml import TomlPart

__all__ = ["Ask", "Bring", "Cost", "Job", "Money", "More", "OnlyIf", "Step"]

Money = Annotated[float, msgspec.Meta(ge=0)]


class Ask(TomlPart, frozen=True, kw_only=True):
    """How a call is told which kinds are wanted, for calls that serve several."""

    place: Literal["query", "form", "json"]
    name: str
    words: Mapping[KindName, str]
    join: str = ","
    separate: bool = False


class Bring(TomlPart, frozen=True, kw_only=True):
    """First the image is brought somewhere, then the service is asked with the id it got.

    `to` is where the answer says where the image itself goes, by PUT and without a key; without
    it the image goes to `path`. `id` is where the answer says what the image is known by.
    """

    path: str
    id: str
    method: Literal["POST", "PUT"] = "POST"
    to: str = ""
    remove: str = ""

    def __post_init__(self) -> None:
        """Refuse what is not a path."""
        check_paths((self.id, "id"), (self.to, "to"))


class Job(TomlPart, frozen=True, kw_only=True):
    """The answer comes later: it is asked for until it is there.

    Where to ask again is said by `path` with an `id`, by an `address`, or by a `header`.
    """

    id: str = ""
    path: str = ""
    address: str = ""
    header: str = ""
    state: str = ""
    done: tuple[str, ...] = ()
    failed: tuple[str, ...] = ()
    reason: str = ""
    result: str = ""
    every: Rate = 2.0
    longest: Rate = 600.0

    def __post_init__(self) -> None:
        """Raise ValueError if keys contradict each other."""
        names = ("id", "address", "state", "reason", "result")
        check_paths(*((getattr(self, name), name) for name in names))
        ways = [bool(self.id and self.path), bool(self.address), bool(self.header)]
        if sum(ways) != 1:
            raise ValueError("a job needs 'id' with 'path', or 'address', or 'header'")
        if self.id and "{id}" not in self.path:
            raise ValueError("the path of a job needs {id}")
        if (self.done or self.failed) and not self.state:
            raise ValueError("'done' and 'failed' are words of 'state', which is missing")


class More(TomlPart, frozen=True, kw_only=True):
    """The answer comes in parts: `next` is where one says which is the next.

    With `query` it is a value of that name in the query; without, an address.
    """

    next: str
    query: str = ""
    most: Positive = 50

    def __post_init__(self) -> None:
        """Refuse what is not a path."""
        check_paths((self.next, "next"))


class Step(TomlPart, frozen=True, kw_only=True):
    """What a thousand requests cost after so many requests of a month."""

    above: Positive
    per_1000: Money


class Cost(TomlPart, frozen=True, kw_only=True):
    """What a thousand cost, from the first of a month on, and by steps after so many.

    `per` says a thousand of what: requests, images, or operations (each kind asked of each image).
    """

    per: Literal["request", "image", "operation"] = "request"
    per_1000: Money = 0.0
    steps: tuple[Step, ...] = ()

    def __post_init__(self) -> None:
        """Raise ValueError if the steps are not in order."""
        above = [step.above for step in self.steps]
        if sorted(set(above)) != above:
            raise ValueError(f"the steps of a price begin one after another, not at {above}")


class OnlyIf(TomlPart, frozen=True, kw_only=True):
    """A call is made only where something of a kind was found before, by an earlier call."""

    kind: KindName
    labels: tuple[str, ...] = ()
    least: Annotated[float, msgspec.Meta(ge=0, le=1)] = 0.0

    def met_by(self, found: Iterable[tuple[str, str, float | None]]) -> bool:
        """Return whether one of (kind, label, confidence) is what is waited for.

        One without a confidence counts as certain; letter case does not matter.
        """
        wanted = {label.casefold() for label in self.labels}
        return any(
            kind == self.kind
            and (not wanted or label.casefold() in wanted)
            and (confidence is None or confidence >= self.least)
            for kind, label, confidence in found
        )

    def __str__(self) -> str:
        """Return what was not found, for people: ``no object person or child of 0.5 or more``."""
        labels = f" {' or '.join(self.labels)}" if self.labels else ""
        return f"no {self.kind}{labels}{f' of {self.least:g} or more' if self.least else ''}"
