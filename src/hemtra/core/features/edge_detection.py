"""Detection shared by edges and rims: steps of height, or of intensity."""

from __future__ import annotations

import math
from abc import ABC
from typing import ClassVar, Literal

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.detection.edge_lines import WALLS, Wanted, crossings, ends_below
from hemtra.core.form_fields import setting
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.plan.kind import Kind

BLIND = "nothing is seen beyond it, so it lies where the data ends"
"""Note of the result where no lower surface shows."""


class SeenBySteps(Kind, ABC):
    """A feature found where the surface or its intensity steps."""

    needs_zone: ClassVar = True

    on: Literal["height", "brightness"] = setting(
        "height",
        "seen by",
        "Steps of the surface, or of its intensity, as of a printed mark.",
        choices={"brightness": "intensity"},
    )
    wall: Literal["top", "half", "foot"] = setting(
        "half",
        "place on a wall",
        "Where on a wall that is seen the edge is: where the upper level ends, half way down, or where the"
        " lower level begins.",
        when={"on": ("height",)},
        choices=WALLS,
    )
    least_step: float = setting(
        0.3,
        "minimum step",
        "Steps lower than this do not count.",
        unit="mm",
        when={"on": ("height",)},
        gt=0.0,
        le=1000.0,
    )
    least_contrast: float = setting(
        30.0,
        "minimum contrast",
        "Differences of intensity smaller than this do not count; the scale goes to 255.",
        when={"on": ("brightness",)},
        gt=0.0,
        le=255.0,
    )
    least_seen: float = setting(
        50.0,
        "minimum data",
        "Percentage of the search lines that must show it.",
        unit="%",
        ge=0.0,
        le=100.0,
    )

    def _seen(self, data: HeightMap, lines: FloatArray, reach: float, wanted: Wanted) -> FloatArray:
        """`crossings` as far as the lower surface beyond the edge is seen, else where nothing is seen."""
        found = crossings(data, lines, reach, wanted)
        shown = np.count_nonzero(~np.isnan(found[:, 0]))
        if wanted.grey or self.wall == "foot" or 100.0 * shown >= max(self.least_seen, 1.0) * len(lines):
            return found
        return crossings(data, lines, reach, wanted._replace(blind=True))

    def _wanted(self, change: str, pick: str) -> Wanted:
        grey = self.on == "brightness"
        return Wanted(change, pick, self.least_contrast if grey else self.least_step, self.wall, grey)

    def _at_level(self, upper: float, step: float) -> tuple[tuple[str, str], ...]:
        """Fact: the level of the wall at which the edge is, in mm."""
        if self.on == "brightness" or not math.isfinite(step):
            return ()
        below = step - ends_below(step, "top") if self.wall == "foot" else ends_below(step, self.wall)
        return ((WALLS[self.wall], f"at z {upper - below:.2f} mm"),)
