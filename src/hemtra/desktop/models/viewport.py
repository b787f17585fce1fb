"""From millimetres on the part to pixels on the stage and back; y points up on the part, down on the screen."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TypeVar

from hemtra.core.arrays import FloatArray

N = TypeVar("N", float, FloatArray)
"""A number, or many."""
Pixel = tuple[float, float]
Extent = tuple[float, float, float, float]
"""x from and to, y from and to in mm"""
Margins = tuple[float, float, float, float]
"""Margins left, top, right and bottom, pixels."""

FINEST, COARSEST = 1e-4, 50.0
"""Limits of zooming, mm per pixel."""


@dataclass(frozen=True)
class Viewport:
    """Visible part of the scan: the position in mm at the middle of the stage, and mm per pixel."""

    x: float = 0.0
    y: float = 0.0
    scale: float = 0.1
    width: int = 1
    height: int = 1

    def to_screen(self, x: N, y: N) -> tuple[N, N]:
        """Pixel of a position in mm, or of many."""
        return (x - self.x) / self.scale + self.width / 2, (self.y - y) / self.scale + self.height / 2

    def to_part(self, px: float, py: float) -> tuple[float, float]:
        """Position in mm of a pixel."""
        return self.x + (px - self.width / 2) * self.scale, self.y - (py - self.height / 2) * self.scale

    def resized(self, width: int, height: int) -> Viewport:
        """The same middle and scale on another size."""
        return replace(self, width=max(width, 1), height=max(height, 1))

    def panned(self, dx: float, dy: float) -> Viewport:
        """Moved along with the pointer by some pixels."""
        return replace(self, x=self.x - dx * self.scale, y=self.y + dy * self.scale)

    def zoomed(self, px: float, py: float, factor: float) -> Viewport:
        """Enlarged by a factor; what lies under the pixel stays there."""
        scale = min(max(self.scale / factor, FINEST), COARSEST)
        x, y = self.to_part(px, py)
        moved = replace(self, scale=scale)
        seen_x, seen_y = moved.to_part(px, py)
        return replace(moved, x=self.x + x - seen_x, y=self.y + y - seen_y)

    def fitted(self, extent: Extent, margins: Margins = (12.0, 12.0, 12.0, 12.0)) -> Viewport:
        """Showing what lies in an extent, with some pixels around."""
        x0, x1, y0, y1 = extent
        left, top, right, bottom = margins
        room = max(self.width - left - right, 1.0), max(self.height - top - bottom, 1.0)
        scale = max((x1 - x0) / room[0], (y1 - y0) / room[1], FINEST)
        x, y = (x0 + x1) / 2 + scale * (right - left) / 2, (y0 + y1) / 2 + scale * (top - bottom) / 2
        return replace(self, x=x, y=y, scale=scale)
