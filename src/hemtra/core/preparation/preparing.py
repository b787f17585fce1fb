"""Steps whose value is a height map: what all preparation shares."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

from hemtra.core.filters.filtering import Heights
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.marks import Evidence
from hemtra.core.plan.kind import DATA, Input, Kind, Outcome, StepContext

LARGEST_WINDOW = 9
"""Points across the largest window of a median."""


class Preparing(Kind):
    """A kind that makes another map of the one it is given."""

    output: ClassVar[type] = HeightMap
    inputs: ClassVar[Mapping[str, Input]] = DATA

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The map itself is what there is to see."""
        return Evidence()


def with_heights(data: HeightMap, z: Heights) -> HeightMap:
    """A map with other heights on the same grid, its intensity kept."""
    grid = data.grid
    z.flags.writeable = False
    return HeightMap(z, data.intensity, grid.dx, grid.dy, grid.x0, grid.y0)


def points_across(data: HeightMap, width: float, least: int = 1) -> int:
    """The odd number of points nearest to a width in mm by the coarser spacing, at most that of a window."""
    points = round(width / max(data.grid.dx, data.grid.dy))
    return min(LARGEST_WINDOW, max(least, points // 2 * 2 + 1))
