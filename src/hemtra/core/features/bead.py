"""Bead: a raised strip on a base along a path, or a groove that lies below it."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.features.along_path import ABSENT, AlongPath, Quantity
from hemtra.core.features.path import Path
from hemtra.core.features.section import Cut, section_marks
from hemtra.core.form_fields import setting
from hemtra.core.geometry import bead_base_kernels as on
from hemtra.core.geometry import bead_flank_kernels as flank
from hemtra.core.geometry import bead_kernels as k
from hemtra.core.marks import Dimension, Mark
from hemtra.core.plan.registry import register
from hemtra.core.runs import runs

BASES = {"line": on.LINE, "step": on.STEP, "curve": on.CURVE, "plane": on.PLANE}
EDGES = {"foot": flank.FOOT, "level": flank.AT_LEVEL, "share": flank.AT_SHARE}
SEVERAL = {"none": k.NONE_OF_TWO, "highest": k.HIGHEST, "nearest": k.NEAREST}
INNER = 0.6
"""Default start of the base, as a share of half the section."""


@register
class BeadKind(AlongPath):
    """A bead, weld or groove on sections across a path."""

    kind: ClassVar = "bead"
    title: ClassVar = "Bead or groove"
    glyph: ClassVar = "bead"
    revision: ClassVar[int] = 4
    centre: ClassVar = k.OFFSET
    there: ClassVar = (k.FOUND, k.LEFT_HIDDEN, k.RIGHT_HIDDEN, k.TOP_HIDDEN, k.TWO, k.WIDE)
    smooth: ClassVar = True
    nothing: ClassVar = {k.WIDTH: 0.0, k.HEIGHT: 0.0, k.AREA: 0.0, k.VOID: 0.0}
    quantities: ClassVar = {
        "width": Quantity("width", "mm", k.WIDTH),
        "height": Quantity("height", "mm", k.HEIGHT),
        "area": Quantity("section area", "mm²", k.AREA),
        "offset": Quantity("offset", "mm", k.OFFSET),
        "lean": Quantity("lean", "%", k.LEAN),
        "angle-left": Quantity("contact angle left", "°", k.ANGLE_LEFT),
        "angle-right": Quantity("contact angle right", "°", k.ANGLE_RIGHT),
        "void": Quantity("void", "mm²", k.VOID),
    }
    reasons: ClassVar = {
        k.ABSENT: "there is no bead",
        k.NO_DATA: "too little of the section holds data",
        k.NO_BASE: "the base beside it holds too little data",
        k.LEFT_HIDDEN: "left toe not visible: wall or occlusion",
        k.RIGHT_HIDDEN: "right toe not visible: wall or occlusion",
        k.TOP_HIDDEN: "its top is not seen",
        k.TWO: "two beads lie in the section",
        k.WIDE: "it covers the base beside it; make the section across the path longer",
    }

    side: Literal["above", "below"] = setting(
        "above",
        "stands",
        "Above its base as a bead, or below as a groove.",
    )
    least_height: float = setting(
        0.3, "minimum height", "Lower beads are ignored.", unit="mm", gt=0.0, le=1000.0
    )
    base: Literal["line", "step", "curve", "plane"] = setting(
        "line",
        "base",
        "What heights count from: one line through both flanks, one on either side where the base is stepped, a"
        " curve, or the plane that the path follows.",
        choices={"line": "one line", "step": "a line on either side", "curve": "a curve", "plane": "the plane"},
    )
    inner: float = setting(
        0.0,
        "base begins",
        "Distance from the path where the base begins on either side; 0 lets it follow the section's length.",
        unit="mm",
        ge=0.0,
        le=500.0,
    )
    edges: Literal["foot", "level", "share"] = setting(
        "foot",
        "edges",
        "Where its flanks meet the base, at a level above it, or at a share of its height.",
        choices={"foot": "at the toes", "level": "at a level", "share": "at a share of its height"},
    )
    level: float = setting(
        0.2, "level", "Above the base.", unit="mm", when={"edges": ("level",)}, gt=0.0, le=1000.0
    )
    share: float = setting(
        50.0, "share", "Of the height.", unit="%", when={"edges": ("share",)}, gt=0.0, lt=100.0
    )
    several: Literal["none", "highest", "nearest"] = setting(
        "none",
        "of two take",
        "Which counts where two lie in a section.",
        choices={"highest": "the highest", "nearest": "the nearest"},
    )
    bridge: float = setting(
        1.0,
        "hidden flank",
        "A shadow on its flank that is no longer is bridged; with a longer one its toe is not visible.",
        unit="mm",
        ge=0.0,
        le=20.0,
    )
    ends: float = setting(
        2.0,
        "at breaks",
        "Sections this near to a break do not count for sizes, since a bead rounds off where it ends.",
        unit="mm",
        ge=0.0,
        le=100.0,
    )

    def measure(self, u: FloatArray, z: FloatArray, floor: float) -> FloatArray:
        """Each section; a groove is a bead upside down."""
        sign = 1.0 if self.side == "above" else -1.0
        inner = min(self.inner, 0.95 * float(u[-1])) or INNER * float(u[-1])
        at = self.level if self.edges == "level" else self.share / 100.0
        # edges are looked for below a part of the height, so a level must lie there too
        return k.beads(
            u,
            sign * z,
            inner,
            BASES[self.base],
            EDGES[self.edges],
            at,
            self.least_height,
            SEVERAL[self.several],
            self.least_data / 100.0,
            self.bridge,
            floor,
        )

    def _counted(self, path: Path, at: FloatArray, state: FloatArray, spacing: float) -> BoolArray:
        counts = super()._counted(path, at, state, spacing)
        reach, count = int(np.ceil(self.ends / spacing)), at.size
        for first, many in runs(state == ABSENT, path.curve.closed):
            near = np.arange(first - reach, first + many + reach)
            counts[near % count if path.curve.closed else near[(near >= 0) & (near < count)]] = False
        return counts

    def drawn(self, row: FloatArray, cut: Cut) -> tuple[Mark, ...]:
        """The base, width and height of one section."""
        sign = 1.0 if self.side == "above" else -1.0
        marks: list[Mark] = []
        if row[k.STATE] not in (k.NO_DATA, k.NO_BASE):
            for first, start, end in ((k.BASES, cut.x[0], 0.0), (k.BASES + 3, 0.0, cut.x[-1])):
                a, b, c = row[first : first + 3]
                x = np.linspace(start, end, 30)
                marks.append(section_marks(cut, x, sign * (a + b * x + c * x * x)))
        if np.isnan(row[k.HEIGHT]):
            return tuple(marks)
        crest = float(row[k.CREST])
        under = self._under(row, crest)
        top = cut.place(crest, sign * (under + float(row[k.HEIGHT])))
        marks.append(Dimension(cut.place(crest, sign * under), top, f"{row[k.HEIGHT]:.3f} mm"))
        if not np.isnan(row[k.WIDTH]):
            left = cut.place(float(row[k.LEFT]), sign * float(row[k.LEFT_BASE]))
            right = cut.place(float(row[k.RIGHT]), sign * float(row[k.RIGHT_BASE]))
            marks.append(Dimension(left, right, f"{row[k.WIDTH]:.3f} mm"))
        return tuple(marks)

    def _under(self, row: FloatArray, u: float) -> float:
        """The base under a place of the bead."""
        powers: Any = np.array([1.0, u, u * u])
        left, right = (float(powers @ row[first : first + 3]) for first in (k.BASES, k.BASES + 3))
        if self.base != "step" or np.isnan(row[k.WIDTH]):
            return (left + right) / 2
        f = (u - row[k.LEFT]) / row[k.WIDTH]
        return float((1.0 - f) * row[k.LEFT_BASE] + f * row[k.RIGHT_BASE])
