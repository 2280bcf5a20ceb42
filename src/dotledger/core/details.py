"""What only some findings have beside their row."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

__all__ = ["Details"]


@dataclass(frozen=True, kw_only=True)
class Details:
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

    attributes: Mapping[str, Any] = field(default_factory=dict)
    points: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    polygon: tuple[tuple[float, float], ...] = ()
    parents: tuple[str, ...] = ()
    own_confidence: float | str | bool | None = None
    notes: tuple[str, ...] = ()

    def to_dict(self) -> dict[str, Any]:
        """Return plain values, ready for JSON; empty parts are left out."""
        parts = {
            "attributes": dict(self.attributes),
            "points": {name: list(point) for name, point in self.points.items()},
            "polygon": [list(point) for point in self.polygon],
            "parents": list(self.parents),
            "own_confidence": self.own_confidence,
            "notes": list(self.notes),
        }
        return {name: part for name, part in parts.items() if part not in ({}, [], None)}

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
