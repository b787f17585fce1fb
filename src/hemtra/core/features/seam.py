"""Seam: gap and flush of two surfaces along a path; and the trimmed edge of one."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.features.along_path import AlongPath, Quantity
from hemtra.core.features.section import Cut, section_marks
from hemtra.core.form_fields import setting
from hemtra.core.geometry import seam_kernels as k
from hemtra.core.marks import Dimension, Mark
from hemtra.core.plan.registry import register

INNER = 0.5
"""Default start of a surface's fit, as a share of half the section."""
REASONS = {
    k.NO_GAP: "its two sides overlap",
    k.CLOSED: "the gap is closed, or too narrow to be measured",
    k.NO_DATA: "too little of the section holds data",
    k.NO_LEFT: "the surface on the left holds too little data",
    k.NO_RIGHT: "the surface on the right holds too little data",
    k.LEFT_EDGE: "the surface on the left has no edge there",
    k.RIGHT_EDGE: "the surface on the right has no edge there",
    k.NO_ROUND: "too few points show how an edge is rounded; take sharp edges",
}


class _Edges(AlongPath):
    """Common base of seams and trimmed edges."""

    drop: float = setting(
        0.15,
        "edge where it falls by",
        "A surface ends where it falls so far below its own line, or where its data ends.",
        unit="mm",
        gt=0.0,
        le=100.0,
    )
    inner: float = setting(
        0.0,
        "surface begins",
        "Distance from the path from which a surface is fitted; 0 lets it follow the section's length.",
        unit="mm",
        ge=0.0,
        le=500.0,
    )
    bridge: float = setting(
        0.5, "bridged", "Data missing in a surface for no longer does not end it.", unit="mm", ge=0.0, le=20.0
    )

    def _edges_of(self, u: FloatArray, z: FloatArray, edges: int, sides: int, floor: float) -> FloatArray:
        inner = min(self.inner, 0.9 * float(u[-1])) or INNER * float(u[-1])
        return k.seams(u, z, inner, self.drop, edges, sides, self.least_data / 100.0, self.bridge, floor)


def _surface(row: FloatArray, cut: Cut, first: int, ends: tuple[float, float]) -> Mark:
    x = np.array(ends)
    return section_marks(cut, x, row[first] + row[first + 1] * x)


@register
class SeamKind(_Edges):
    """Gap and flush between two surfaces, on sections across a path."""

    kind: ClassVar = "seam"
    title: ClassVar = "Seam"
    glyph: ClassVar = "gap"
    centre: ClassVar = k.CENTRE
    quantities: ClassVar = {
        "gap": Quantity("gap", "mm", k.GAP),
        "flush": Quantity("flush", "mm", k.FLUSH),
        "offset": Quantity("gap centre", "mm", k.CENTRE),
    }
    reasons: ClassVar = REASONS

    edges: Literal["sharp", "rounded"] = setting(
        "sharp",
        "edges",
        "Where the surfaces end, or the outermost places of circles through their rounded edges.",
    )

    def measure(self, u: FloatArray, z: FloatArray, floor: float) -> FloatArray:
        """Each section; flush is positive where the left side stands higher."""
        return self._edges_of(u, z, k.ROUNDED if self.edges == "rounded" else k.SHARP, k.BOTH, floor)

    def drawn(self, row: FloatArray, cut: Cut) -> tuple[Mark, ...]:
        """Both surfaces, and the gap between them."""
        marks: list[Mark] = []
        if np.isnan(row[k.GAP]):
            return ()
        left, right, middle = (float(row[c]) for c in (k.LEFT, k.RIGHT, k.CENTRE))
        marks.append(_surface(row, cut, k.LEFT_HEIGHT, (float(cut.x[0]), middle)))
        marks.append(_surface(row, cut, k.RIGHT_HEIGHT, (middle, float(cut.x[-1]))))
        upper, lower = (float(row[c] + row[c + 1] * middle) for c in (k.LEFT_HEIGHT, k.RIGHT_HEIGHT))
        level = min(upper, lower)
        marks.append(Dimension(cut.place(left, level), cut.place(right, level), f"{row[k.GAP]:.3f} mm"))
        marks.append(Dimension(cut.place(middle, lower), cut.place(middle, upper), f"{row[k.FLUSH]:.3f} mm"))
        return tuple(marks)


@register
class TrimKind(_Edges):
    """A trimmed edge on sections across a path: how far it lies from where it should."""

    kind: ClassVar = "trim"
    title: ClassVar = "Trimmed edge"
    glyph: ClassVar = "edge"
    centre: ClassVar = k.CENTRE
    quantities: ClassVar = {"offset": Quantity("offset", "mm", k.CENTRE)}
    reasons: ClassVar = REASONS

    surface: Literal["left", "right"] = setting(
        "left",
        "surface",
        "The side of the path the surface lies on, looking along it.",
        choices={"left": "on the left", "right": "on the right"},
    )

    def measure(self, u: FloatArray, z: FloatArray, floor: float) -> FloatArray:
        """Each section, from one side only."""
        sides = k.ONLY_LEFT if self.surface == "left" else k.ONLY_RIGHT
        return self._edges_of(u, z, k.SHARP, sides, floor)

    def drawn(self, row: FloatArray, cut: Cut) -> tuple[Mark, ...]:
        """The surface, and how far its edge lies from the path."""
        if np.isnan(row[k.CENTRE]):
            return ()
        on_left = self.surface == "left"
        first = k.LEFT_HEIGHT if on_left else k.RIGHT_HEIGHT
        at = float(row[k.CENTRE])
        level = float(row[first] + row[first + 1] * at)
        ends = (float(cut.x[0]), at) if on_left else (at, float(cut.x[-1]))
        text = f"{at:.3f} mm"
        return _surface(row, cut, first, ends), Dimension(cut.place(0.0, level), cut.place(at, level), text)
