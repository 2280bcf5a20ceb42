"""What keys of several outputs hold."""

from __future__ import annotations

__all__ = ["Box", "Interval"]

Box = tuple[float, float, float, float]
"""x0, y0, x1, y1 in pixels of the image as it is shown, from its top left corner."""
Interval = tuple[float, float]
"""95 %, from low to high."""
