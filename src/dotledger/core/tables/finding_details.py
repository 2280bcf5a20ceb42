"""What only some findings have next to their row."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from types import MappingProxyType
from typing import Any, NamedTuple

__all__ = [
    "NAME",
    "NOTHING",
    "Details",
    "attribute_cells",
    "attribute_list",
    "attribute_value",
    "entries_of",
    "plain_name",
]

NAME = "name"
"""The attribute that holds a person's name, and its part that is the name."""


NOTHING: Mapping[str, Any] = MappingProxyType({})
"""A mapping that holds nothing and cannot be changed."""


def attribute_value(value: Any) -> str | int | float | bool | None:
    """Return what an attribute says, as one value: for a cell, a column or a label.

    Parameters
    ----------
    value : object
        As it stands in `Details.attributes`.

    Returns
    -------
    str, int, float, bool or None
        Of shares the leading one, of a range both ends as text, of a person the name, of a list
        its parts with commas; a value with a unit or a confidence without those. None for nothing.
    """
    entries = attribute_list(value)
    if entries is not None:
        return ", ".join(entries) or None
    if isinstance(value, Mapping):
        if "shares" in value:
            return attribute_value(value.get("leading"))
        if {"low", "high"} <= value.keys():
            return f"{value['low']:g}\N{EN DASH}{value['high']:g}"
        return attribute_value(value.get("value", value.get(NAME)))
    return value if isinstance(value, str | int | float) and value != "" else None


def attribute_list(value: Any) -> list[str] | None:
    """Return the entries of an attribute that is a list, such as accessories; None for others."""
    if isinstance(value, Mapping):
        value = value.get("list", value.get("value"))
    return [str(one) for one in value] if isinstance(value, list | tuple) else None


_BETWEEN = re.compile(r"\s*[,;|]\s*")


def entries_of(value: Any) -> set[str]:
    """Return the entries of an attribute for comparing, letter case apart; text ends at commas."""
    entries = attribute_list(value)
    if entries is None:
        entries = _BETWEEN.split(str(attribute_value(value) or "").strip())
    return {plain_name(entry) for entry in entries} - {""}


def attribute_cells(details: Details | None) -> dict[str, str | int | float | bool | None]:
    """Return every attribute of a finding as one value, and its person with the similarity.

    Returns
    -------
    dict of str to value
        ``person`` and ``similarity`` only where a person is named; empty without details.
    """
    if details is None:
        return {}
    name, similarity = details.person()
    cells = {str(n): attribute_value(value) for n, value in details.attributes.items()}
    return ({"person": name, "similarity": similarity} if name else {}) | cells


def _real(value: Any) -> float | None:
    """Return a number as it comes out of a table, where 1.0 may have become 1."""
    return None if isinstance(value, bool) or not isinstance(value, int | float) else float(value)


class Details(NamedTuple):
    """What only some findings have.

    Attributes
    ----------
    attributes : mapping of str to value
        What the service says about the thing; never a confidence.
    points : mapping of str to (x, y)
        Landmarks, pixels of the upright original.
    polygon : tuple of (x, y)
        Outline, pixels of the upright original; empty if none was given.
    parents : tuple of str
        Broader labels.
    own_confidence : float, str, bool or None
        The confidence exactly as the service wrote it; None where it wrote none, or just what
        stands as the finding's confidence.
    notes : tuple of str
        What the reading noticed, such as ``"clipped"``.
    """

    attributes: Mapping[str, Any] = NOTHING
    points: Mapping[str, tuple[float, float]] = NOTHING
    polygon: tuple[tuple[float, float], ...] = ()
    parents: tuple[str, ...] = ()
    own_confidence: float | str | bool | None = None
    notes: tuple[str, ...] = ()

    def person(self) -> tuple[str, float | None]:
        """Return the name of the person that a face is said to be, and how similar it is.

        Returns
        -------
        tuple of str and float or None
            Of the attribute ``name``, or else of the first that holds a name; ``""`` for nobody.
        """
        for value in (self.attributes.get(NAME), *self.attributes.values()):
            if isinstance(value, Mapping) and NAME in value:
                return str(value[NAME] or ""), _real(value.get("similarity"))
        value = self.attributes.get(NAME)
        return ("" if value is None else str(value)), None

    def to_dict(self) -> dict[str, Any]:
        """Return plain values, ready for JSON; empty parts are left out."""
        parts: dict[str, Any] = {}
        if self.attributes:
            parts["attributes"] = dict(self.attributes)
        if self.points:
            parts["points"] = {name: list(point) for name, point in self.points.items()}
        if self.polygon:
            parts["polygon"] = [list(point) for point in self.polygon]
        if self.parents:
            parts["parents"] = list(self.parents)
        if self.own_confidence is not None:
            parts["own_confidence"] = self.own_confidence
        if self.notes:
            parts["notes"] = list(self.notes)
        return parts

    @classmethod
    def from_dict(cls, parts: Mapping[str, Any]) -> Details:
        """Undo `to_dict`; points that are not finite are left out.

        Raises
        ------
        ValueError
            Naming the part that is not of the form that `to_dict` gives.
        """
        if not isinstance(parts, Mapping):
            raise ValueError("not an object")  # noqa: TRY004 - what was read, not what was passed
        attributes, points = parts.get("attributes", {}), parts.get("points", {})
        for name, part in (("attributes", attributes), ("points", points)):
            if not isinstance(part, Mapping):
                raise ValueError(f"{name} are not an object")  # noqa: TRY004
        own = parts.get("own_confidence")
        return cls(
            attributes=attributes,
            points={n: xy for n, p in points.items() if (xy := _point(p, "points")) is not None},
            polygon=tuple(
                xy for p in _listed(parts, "polygon") if (xy := _point(p, "polygon")) is not None
            ),
            parents=tuple(map(str, _listed(parts, "parents"))),
            own_confidence=own if isinstance(own, (float, int, str, bool)) else None,
            notes=tuple(map(str, _listed(parts, "notes"))),
        )


def plain_name(name: str) -> str:
    """Return a person's name for comparing: letter case and spaces do not count.

    Parameters
    ----------
    name : str
        As a service or a person writes it.
    """
    return " ".join(name.split()).casefold()


def _listed(parts: Mapping[str, Any], name: str) -> list[Any]:
    part = parts.get(name) or []
    if not isinstance(part, (list, tuple)):
        raise ValueError(f"{name} are not a list")  # noqa: TRY004
    return list(part)


def _point(value: Any, name: str) -> tuple[float, float] | None:
    """Return a point; None where JSON holds null for a number that was not finite."""
    try:
        x, y = value
        if x is None or y is None:
            return None
        point = (float(x), float(y))
    except (TypeError, ValueError, OverflowError):
        raise ValueError(f"{name} hold something that is not a point") from None
    return point if math.isfinite(point[0]) and math.isfinite(point[1]) else None
