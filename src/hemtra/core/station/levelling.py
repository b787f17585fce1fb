"""Levelling: the tilt of the mount, measured on something flat and taken out of every profile."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Annotated

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.geometry.frames import Frame
from hemtra.core.geometry.plane_fit import fit_plane
from hemtra.core.scan.heightmap import HeightMap
from hemtra.core.scan.reduce import block_means

Tilt = Annotated[float, Field(ge=-45.0, le=45.0, allow_inf_nan=False)]

TRIM = 4.0
"""Root mean squares beyond which a point does not belong to the plate: spikes and dirt."""
CELL = 3.0
"""mm of the cells whose means show whether the plate is flat, apart from noise."""
FLAT = 0.05
"""mm from the least to the greatest cell of something that may be called flat."""
LEAST_DATA = 0.3
"""Share of the map that must show the plate."""


class Levelling(BaseModel):
    """How the sensor's view is turned level: roll about y, pitch about x in degrees, then raised by mm."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    roll: Tilt = 0.0
    pitch: Tilt = 0.0
    raise_by: Annotated[float, Field(ge=-1e4, le=1e4, allow_inf_nan=False)] = 0.0

    @property
    def is_none(self) -> bool:
        """Whether it changes nothing."""
        return self == Levelling()

    def applied(self, x: FloatArray, y: FloatArray, z: FloatArray) -> tuple[FloatArray, FloatArray]:
        """x and z in mm of points as seen by the sensor, brought level; y in mm along travel.

        x, z: (rows, points), y: (rows, 1). What the tilt moves along y stays where the profile is: at 1° and
        10 mm above the belt that is 0.17 mm.
        """
        turn = Frame(tilt_x=self.pitch, tilt_y=self.roll).matrix
        level_x = turn[0, 0] * x + turn[0, 1] * y + turn[0, 2] * z
        level_z = turn[2, 0] * x + turn[2, 1] * y + turn[2, 2] * z
        return level_x, level_z + self.raise_by


@dataclass(frozen=True)
class Levelled:
    """What a plate showed: tilt in degrees, height in mm, how flat it is, and the levelling that follows."""

    tilt: float
    height: float
    rms: float
    flatness: float
    cells: FloatArray
    """(rows, cols) means of the deviations from the plane in mm, NaN where there is no data."""
    levelling: Levelling


def level_on_plate(data: HeightMap, now: Levelling, true_height: float = 0.0) -> Levelled:
    """The levelling that makes the plate in `data` level and `true_height` mm high.

    data: a map taken with the levelling `now`. Raises `NotMeasured` when it shows no plate, or one that is not
    flat, since a bump would tilt every part measured afterwards.
    """
    if data.data_share < LEAST_DATA:
        share = 100 * data.data_share
        raise NotMeasured(f"only {share:.0f} % of the view holds data; lay the plate flat under the sensor")
    fit = fit_plane(data.z, None, trim=TRIM)
    grid, (rows, cols) = data.grid, data.shape
    slope_x, slope_y = fit.a / grid.dx, fit.b / grid.dy
    middle_x, middle_y = grid.x0 + grid.dx * (cols - 1) / 2, grid.y0 + grid.dy * (rows - 1) / 2
    u, v = np.arange(cols) - (cols - 1) / 2, np.arange(rows) - (rows - 1) / 2
    left = data.z - (fit.a * u + fit.b * v[:, None] + fit.c)
    step = max(1, round(CELL / grid.dy)), max(1, round(CELL / grid.dx))
    cells = block_means(np.asarray(left, np.float64), *step, least=0.5)
    flatness = float(np.nanmax(cells) - np.nanmin(cells))
    if not flatness <= FLAT:
        raise NotMeasured(
            f"the plate is not flat: its cells differ by {flatness:.3f} mm, and {FLAT:g} mm is the most;"
            " clean it, or take something flat"
        )
    length = math.sqrt(1.0 + slope_x**2 + slope_y**2)
    turned = Frame(
        tilt_x=math.degrees(math.atan(-slope_y)), tilt_y=math.degrees(math.asin(slope_x / length))
    ).matrix
    total = turned @ Frame(tilt_x=now.pitch, tilt_y=now.roll).matrix
    levelling = Levelling(
        roll=math.degrees(-math.asin(total[2, 0])),
        pitch=math.degrees(math.atan2(total[2, 1], total[2, 2])),
    )
    # where the plate would lie with the new turn alone; what is missing to its true height raises it
    height = fit.c - slope_x * middle_x - slope_y * middle_y
    level_height = height / length + (now.raise_by * (1.0 - 1.0 / length))
    levelling = levelling.model_copy(update={"raise_by": now.raise_by + true_height - level_height})
    tilt = math.degrees(math.atan(math.hypot(slope_x, slope_y)))
    return Levelled(tilt, height, fit.rms, flatness, cells, levelling)
