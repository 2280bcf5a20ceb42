"""What only some findings have beside their row."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType
from typing import Any, NamedTuple

__all__ = ["NOTHING", "Details"]


NOTHING: Mapping[str, Any] = MappingProxyType({})
"""A mapping that holds nothing and cannot be changed."""


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
        The confidence exactly as the service wrote it.
    notes : tuple of str
        What the reading noticed, such as ``"clipped"``.
    """

    attributes: Mapping[str, Any] = NOTHING
    points: Mapping[str, tuple[float, float]] = NOTHING
    polygon: tuple[tuple[float, float], ...] = ()
    parents: tuple[str, ...] = ()
    own_confidence: float | str | bool | None = None
    notes: tuple[str, ...] = ()

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
        """Undo `to_dict`."""
        return cls(
            attributes=parts.get("attributes", {}),
            points={n: (float(x), float(y)) for n, (x, y) in parts.get("points", {}).items()},
            polygon=tuple((float(x), float(y)) for x, y in parts.get("polygon", ())),
            parents=tuple(parts.get("parents", ())),
            own_confidence=parts.get("own_confidence"),
            notes=tuple(parts.get("notes", ())),
        )
