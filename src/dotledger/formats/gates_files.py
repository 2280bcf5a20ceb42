"""Files of gates and of expectations."""

from __future__ import annotations

import csv
import io
import os
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal

import msgspec

from dotledger.core.comparison.expectations import Expectation
from dotledger.core.comparison.release_gates import GATE_MEASURES, Gate
from dotledger.core.spelling import nearest
from dotledger.errors import ArgumentError, TableError
from dotledger.formats.tables.csv_columns import unguard
from dotledger.reading.strict_toml import TomlPart, parse_strictly
from dotledger.safe_files import read_regular

__all__ = ["GatesFile", "read_expectations", "read_gates"]

_Share = Annotated[float, msgspec.Meta(ge=0)]
_Count = Annotated[int, msgspec.Meta(ge=0)]
if TYPE_CHECKING:
    _Measure = str
else:  # the names of the registry; the JSON Schema of the file lists them
    _Measure = Literal[GATE_MEASURES]


class _Expect(TomlPart, frozen=True, kw_only=True):
    """One expectation."""

    image: str
    kind: str = ""
    label: str = ""
    at_least: _Count = 0
    at_most: _Count | None = None
    verdict: str = ""
    reason: str = ""


class _Gate(TomlPart, frozen=True, kw_only=True):
    """One gate as it is written."""

    measure: _Measure = "unmet_expectations"
    of: str = ""
    of_each: Literal["", "kind", "label"] = ""
    at_least: _Share | None = None
    at_most: _Share | None = None
    lower_end_at_least: _Share | None = None
    upper_end_at_most: _Share | None = None
    falls_at_most: _Share | None = None
    rises_at_most: _Share | None = None
    against: str = ""
    least_images: _Count = 0
    if_unjudged: Literal["fails", "holds"] | None = None
    expectations: str = ""
    name: str = ""

    def __post_init__(self) -> None:
        """Raise ValueError if keys contradict each other."""
        moved = self.falls_at_most is not None or self.rises_at_most is not None
        if moved != bool(self.against):
            raise ValueError("falls_at_most or rises_at_most needs against, and the other way")
        if bool(self.expectations) != (self.measure == "unmet_expectations"):
            raise ValueError("expectations names a file, and its measure is unmet_expectations")


class GatesFile(TomlPart, frozen=True, kw_only=True):
    """What a gates file holds.

    Attributes
    ----------
    gates_file : int
        The version of the format.
    overlap : float
        Required, for kinds with boxes.
    threshold : number, word, path or mapping
        Findings below do not count; a path that ends in .toml is a thresholds file.
    if_unjudged : str
        What a gate does that cannot be judged, unless it says so itself.
    rules : str
        A rules file, for expectations of a verdict.
    gate : tuple of gate
        The conditions.
    """

    gates_file: Literal[1]
    overlap: Annotated[float, msgspec.Meta(gt=0, le=1)] = 0.5
    threshold: float | str | dict[str, float] | None = None
    if_unjudged: Literal["fails", "holds"] = "fails"
    rules: str = ""
    gate: tuple[_Gate, ...]

    def gates(self, home: Path) -> list[Gate]:
        """Return the conditions; files of expectations are looked for in `home`."""
        return [self._gate(one, home) for one in self.gate]

    def _gate(self, one: _Gate, home: Path) -> Gate:
        plain: dict[str, Any] = msgspec.to_builtins(one)
        path = plain.pop("expectations")
        plain["if_unjudged"] = one.if_unjudged or self.if_unjudged
        if path and one.at_most is None:
            plain["at_most"] = 0.0
        expected = read_expectations(home / path) if path else []
        return Gate(**plain, expectations=tuple(expected))

    def asked_threshold(self, home: Path) -> Any:
        """Return the threshold as a measure takes it; a thresholds file is read from `home`."""
        if isinstance(self.threshold, str) and self.threshold.lower().endswith(".toml"):
            from dotledger.formats.thresholds_files import read_thresholds

            return read_thresholds(home / self.threshold)
        return self.threshold


def read_gates(path: str | os.PathLike[str]) -> GatesFile:
    """Read a gates file.

    Parameters
    ----------
    path : path-like
        TOML: ``gates_file = 1`` and a ``[[gate]]`` for each condition.

    Returns
    -------
    GatesFile
        Checked, but for names that only a measure knows.

    Raises
    ------
    DescriptionError
        Naming line and key, if the file is not of this kind.
    TableError
        If it cannot be read.
    """
    return parse_strictly(_text(path, "gates"), GatesFile, name=str(path))


def _text(path: str | os.PathLike[str], what: str) -> str:
    try:
        return read_regular(Path(path), 16 << 20).decode("utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or "not text in UTF-8"
        raise TableError(f"the {what} file cannot be read ({reason})", place=str(path)) from error


_COLUMNS = ("image", "kind", "label", "at_least", "at_most", "verdict", "reason")


class _Expectations(TomlPart, frozen=True, kw_only=True):
    """Expectations in TOML."""

    expect: tuple[_Expect, ...]


def read_expectations(path: str | os.PathLike[str]) -> list[Expectation]:
    """Read what must come out for single images.

    Parameters
    ----------
    path : path-like
        CSV with the columns ``image,kind`` and as many of ``label,at_least,at_most,verdict,reason``
        as are needed, or TOML with an ``[[expect]]`` for each.

    Raises
    ------
    TableError
        Naming file and line, if it cannot be read, or holds none.
    DescriptionError
        For TOML with a misspelt key.
    ArgumentError
        If one expects nothing, or what cannot be.
    """
    file = Path(path)
    text = _text(file, "expectations")
    if file.suffix.lower() == ".toml":
        parts = parse_strictly(text, _Expectations, name=str(file)).expect
        found = [Expectation(**msgspec.to_builtins(one)) for one in parts]
    else:
        found = _from_csv(text, str(file))
    if not found:
        raise TableError("no expectation is in the file", place=str(file))
    return found


def _from_csv(text: str, name: str) -> list[Expectation]:
    reader = csv.DictReader(io.StringIO(text, newline=""), restkey="", restval="")
    columns = reader.fieldnames or ()
    for column in columns:
        if column not in _COLUMNS:
            near = nearest(column, _COLUMNS)
            raise TableError(
                "unknown column" + (f" (did you mean {near[0]!r}?)" if near else ""),
                place=f"{name}, line 1",
                got=column,
                allowed=_COLUMNS,
            )
    if "image" not in columns:
        raise TableError("the column 'image' is missing", place=f"{name}, line 1")
    if "kind" not in columns and "verdict" not in columns:
        raise TableError("the column 'kind' is missing", place=f"{name}, line 1")
    return [_from_row(row, f"{name}, line {reader.line_num}") for row in reader]


def _from_row(row: Mapping[Any, Any], place: str) -> Expectation:
    if "" in row:
        raise TableError("more cells than columns", place=place)
    cells = {key: unguard((value or "").strip()) for key, value in row.items()}
    names = ("image", "kind", "label", "verdict", "reason")
    plain: dict[str, Any] = {name: cells[name] for name in names if name in cells}
    for column in ("at_least", "at_most"):
        if cells.get(column):
            if not cells[column].isdecimal():
                raise TableError(
                    "not a whole number", place=f"{place}, {column}", got=cells[column]
                )
            plain[column] = int(cells[column])
    try:
        return Expectation(**plain)
    except ArgumentError as error:
        raise TableError(error.message, place=place, got=error.got) from error
