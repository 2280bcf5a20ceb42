"""Files of chosen thresholds: what for, when, from what, and what they honestly lead to."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal

import msgspec

from dotledger.core.thresholds.three_way_choice import SHARES, ThreeWays, WaysCounts
from dotledger.core.thresholds.threshold_choice import Choice
from dotledger.core.thresholds.threshold_outcomes import OUTCOME_MEASURES, Outcome
from dotledger.errors import ArgumentError, TableError
from dotledger.reading.strict_toml import TomlPart, parse_strictly
from dotledger.safe_files import read_regular, whole_file

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["ThresholdsFile", "read_thresholds", "write_thresholds"]

ANY = "any"
"""The section of findings whose service is not known; it fits every service."""

_Confidence = Annotated[float, msgspec.Meta(ge=0, le=1)]


class _Value(TomlPart, frozen=True, kw_only=True):
    """A measure with its interval."""

    value: float | None = None
    low: float | None = None
    high: float | None = None


class _Service(TomlPart, frozen=True, kw_only=True):
    """Thresholds of one service."""

    thresholds: dict[str, float] = msgspec.field(default_factory=dict)
    hold_from: dict[str, float] = msgspec.field(default_factory=dict)
    findings: str = ""
    floor: _Confidence | None = None
    images: int = 0
    attainable: bool = True
    outcome: dict[str, dict[str, _Value]] = msgspec.field(default_factory=dict)
    optimistic: dict[str, dict[str, _Value]] = msgspec.field(default_factory=dict)

    def __post_init__(self) -> None:
        """Raise ValueError for a threshold out of range."""
        for table in (self.thresholds, self.hold_from):
            for name, value in table.items():
                if not 0 <= value <= 1:
                    raise ValueError(f"the threshold of {name!r} is {value}, not from 0 to 1")


class ThresholdsFile(TomlPart, frozen=True, kw_only=True):
    """What a thresholds file holds; it may be given wherever a threshold is asked for.

    Attributes
    ----------
    thresholds_file : int
        The version of the format.
    aim, each : str
        What they were chosen for, and what has a threshold of its own.
    chosen : str
        When.
    overlap : float
        Required, for kinds with boxes.
    annotations : str
        Digest of what they were chosen by.
    services : dict of str to section
        By name of the service; ``any`` where it was not known.
    """

    thresholds_file: Literal[1]
    aim: str = ""
    each: str = ""
    chosen: str = ""
    overlap: float = 0.5
    annotations: str = ""
    services: dict[str, _Service]

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame: ``service, group, threshold, hold_from``."""
        import pandas as pd

        rows = [
            (name, group, value, one.hold_from.get(group))
            for name, one in self.services.items()
            for group, value in one.thresholds.items()
        ]
        return pd.DataFrame(rows, columns=["service", "group", "threshold", "hold_from"])

    def _repr_html_(self) -> str:
        """Show the table in a notebook."""
        return self.frame().to_html(index=False, na_rep="", escape=True)

    def thresholds_for(self, service: str) -> Mapping[str, float]:
        """Return the thresholds for a service; raises ArgumentError if it has none of them.

        Where the service is not known, the file must hold one only.
        """
        return self._section(service).thresholds

    def hold_from(self, service: str) -> Mapping[str, float]:
        """Return from where on a person looks, for a service."""
        return self._section(service).hold_from

    def _section(self, service: str) -> _Service:
        if service in self.services:
            return self.services[service]
        if ANY in self.services:
            return self.services[ANY]
        if not service and len(self.services) == 1:
            return next(iter(self.services.values()))
        raise ArgumentError(
            f"the thresholds file holds none for {service or 'findings of an unknown service'}",
            place="threshold",
            got=", ".join(self.services),
            allowed=[service or "a file for one service"],
            next_step="Choose some for it with `dotledger.choose_thresholds`, and join the files.",
        )


def read_thresholds(path: str | os.PathLike[str]) -> ThresholdsFile:
    """Read a thresholds file.

    Parameters
    ----------
    path : path-like
        TOML, from `write_thresholds` or by hand.

    Returns
    -------
    ThresholdsFile
        To be given as a threshold.

    Raises
    ------
    DescriptionError
        Naming line and key, if the file is not of this kind.
    TableError
        If it cannot be read.

    Examples
    --------
    >>> import dotledger
    >>> chosen = dotledger.choose_thresholds("found.csv", "truth.csv", aim="best f1", draws=0)
    >>> dotledger.write_thresholds("chosen.toml", [chosen])
    >>> dotledger.read_thresholds("chosen.toml").aim
    'best f1'
    """
    file = Path(path)
    try:
        text = read_regular(file, 16 << 20).decode("utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or "not text in UTF-8"
        raise TableError(
            f"the thresholds file cannot be read ({reason})",
            place=str(file),
            next_step="Make one with `dotledger.write_thresholds`.",
        ) from error
    return parse_strictly(text, ThresholdsFile, name=str(file))


def write_thresholds(
    path: str | os.PathLike[str],
    choices: Sequence[Choice | ThreeWays],
    *,
    join: ThresholdsFile | None = None,
) -> None:
    """Write chosen thresholds, one section a service, whole or not at all.

    Parameters
    ----------
    path : path-like
        A file to write.
    choices : sequence of Choice or ThreeWays
        For one aim; those of one service replace each other.
    join : ThresholdsFile, optional
        What is kept next to them.

    Returns
    -------
    None
        The file is there.

    Raises
    ------
    ArgumentError
        If they are for several aims.
    OSError
        If the file cannot be written.

    Examples
    --------
    >>> import dotledger
    >>> chosen = dotledger.choose_thresholds("found.csv", "truth.csv", aim="best f1", draws=0)
    >>> dotledger.write_thresholds("mine.toml", [chosen])
    >>> dotledger.measure("found.csv", "truth.csv", threshold="mine.toml", draws=0).pooled.misses
    29
    """
    file = Path(path)
    first = choices[0]
    aims = {c.aim.text for c in choices} | ({join.aim} if join else set())
    if len(aims) > 1:
        raise ArgumentError(
            "a thresholds file is for one aim", place=str(file), got=" / ".join(sorted(aims))
        )
    lines = [
        "# Thresholds chosen by measurement. Give this file wherever a threshold is asked for.",
        "thresholds_file = 1",
        f"aim = {_text(first.aim.text)}",
        f"each = {_text(_each(first))}",
        *([f"chosen = {_text(first.origin['chosen'])}"] if first.origin.get("chosen") else []),
        *([f"overlap = {first.overlap!r}"] if isinstance(first, Choice) else []),
        *(
            [f"annotations = {_text(first.origin['annotations'])}"]
            if first.origin.get("annotations")
            else []
        ),
    ]
    mine = {choice.service or ANY for choice in choices}
    for name, kept in join.services.items() if join else ():
        if name not in mine:
            lines += _section(name, msgspec.to_builtins(kept))
    for choice in choices:
        lines += _section(choice.service or ANY, _plain(choice))
    text = "\n".join(lines) + "\n"
    parse_strictly(text, ThresholdsFile, name=str(file))  # nothing is written that cannot be read
    with whole_file(file) as draft:
        draft.write_text(text, encoding="utf-8")


def _each(choice: Choice | ThreeWays) -> str:
    return choice.each if isinstance(choice, Choice) else "all"


def _plain(choice: Choice | ThreeWays) -> dict[str, Any]:
    found: dict[str, Any] = {
        "findings": choice.origin.get("findings", ""),
        "floor": choice.floor,
        "images": choice.images,
        "attainable": bool(choice.attainable),
        "thresholds": choice.thresholds,
    }
    if isinstance(choice, ThreeWays):
        hold = {} if choice.hold_from != choice.hold_from else {choice.kind: choice.hold_from}
        outcome = {choice.kind: _values(choice.outcome, SHARES)}
        optimistic = {choice.kind: _values(choice.optimistic, SHARES)}
        return {**found, "hold_from": hold, "outcome": outcome, "optimistic": optimistic}
    groups = choice.groups.items()
    return {
        **found,
        "outcome": {name: _values(one.outcome, OUTCOME_MEASURES) for name, one in groups},
        "optimistic": {name: _values(one.optimistic, OUTCOME_MEASURES) for name, one in groups},
    }


def _values(outcome: Outcome | WaysCounts, names: Sequence[str]) -> dict[str, dict[str, float]]:
    found = {}
    for name in names:
        low, high = outcome.intervals.get(name, (float("nan"), float("nan")))
        value = outcome.measure(name) if isinstance(outcome, Outcome) else getattr(outcome, name)
        ends = {"value": value, "low": low, "high": high}
        ends = {key: round(value, 6) for key, value in ends.items() if value == value}
        if "value" in ends:
            found[name] = ends
    return found


def _section(name: str, plain: Mapping[str, Any]) -> list[str]:
    head = f"services.{_text(name)}"
    lines = ["", f"[{head}]"]
    tables = []
    for key, value in plain.items():
        if isinstance(value, Mapping):
            if value:
                tables.append((key, value))
        elif value not in (None, ""):
            lines.append(f"{key} = {_scalar(value)}")
    for key, table in tables:
        nested = any(isinstance(value, Mapping) for value in table.values())
        if not nested:
            lines += ["", f"[{head}.{key}]", *(f"{_text(n)} = {v!r}" for n, v in table.items())]
            continue
        for inner, values in table.items():
            lines += ["", f"[{head}.{key}.{_text(inner)}]"]
            lines += [f"{n} = {_inline(v)}" for n, v in values.items()]
    return lines


def _inline(values: Mapping[str, float | None]) -> str:
    known = {name: value for name, value in values.items() if value is not None}
    return "{ " + ", ".join(f"{name} = {value!r}" for name, value in known.items()) + " }"


def _scalar(value: Any) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    return _text(value) if isinstance(value, str) else repr(value)


def _text(value: str) -> str:
    """Return a string as TOML writes it, which is as JSON does but for one character."""
    from dotledger.json_codec import to_json

    plain = value.encode("utf-8", "replace").decode()
    return to_json(plain).decode().replace("\x7f", "\\u007f")
