"""Levelling: the tilt of the mount, measured on a plate and corrected in every profile."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.geometry.plane_fit import fit_plane
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.reduce import block_means
from hemtra.core.station.calibration import Calibration
from hemtra.core.zones.window import window
from hemtra.core.zones.zone import AnyZone

TRIM = 4.0
"""Root mean squares beyond which a point does not belong to the plate: spikes and dirt."""
CELL = 3.0
"""Size of the cells whose means show whether the plate is flat, apart from noise, mm."""
FLAT = 0.05
"""Largest range over the cells of a flat face, mm."""
SETTLES = 8
"""Rounds in which turns that work upon each other settle; at 10° five are enough for rounding."""
LEAST_DATA = 0.3
"""Share of the map that must show the plate."""


@dataclass(frozen=True)
class Levelled:
    """Result of levelling on a plate: tilt in degrees, height in mm, flatness, and the new calibration."""

    tilt: float
    height: float
    rms: float
    flatness: float
    cells: FloatArray
    """(rows, cols) means of the deviations from the plane in mm, NaN where there is no data."""
    calibration: Calibration


def level_on_plate(
    data: HeightMap, now: Calibration, true_height: float = 0.0, zone: AnyZone | None = None
) -> Levelled:
    """The calibration that makes the plate in `data`, or in a zone of it, level and `true_height` mm high.

    data: a map of one sensor taken with the calibration `now`, of which roll, pitch and z are replaced. Raises
    `NotMeasured` when it shows no plate, or one that is not flat, since a bump would tilt every part measured
    afterwards, and `OffScan` when the zone lies outside.
    """
    if zone is not None:
        data = _cropped(data, zone)
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
    # three places of the plane found, as the sensor gave them, give its mounting
    corners = np.array([[0.0, 0.0, 0.0], [100.0, 0.0, 100.0 * slope_x], [0.0, 100.0, 100.0 * slope_y]])
    raw = now.undone(corners + np.array([middle_x, middle_y, fit.c]))
    calibration = _levelled(now, raw, true_height)
    tilt = math.degrees(math.atan(math.hypot(slope_x, slope_y)))
    height = fit.c - slope_x * middle_x - slope_y * middle_y
    return Levelled(tilt, height, fit.rms, flatness, cells, calibration)


def _levelled(now: Calibration, raw: FloatArray, true_height: float) -> Calibration:
    """The calibration under which three points of the sensor, (3, 3), become level and `true_height` high."""
    change = now
    for _ in range(SETTLES):
        a, b, c = change.applied(raw)
        normal = np.cross(b - a, c - a)
        slope_x, slope_y = -normal[0] / normal[2], -normal[1] / normal[2]
        height = a[2] - slope_x * a[0] - slope_y * a[1]
        change = change.model_copy(
            update={
                "roll": change.roll + math.degrees(math.atan(slope_x)),
                "pitch": change.pitch - math.degrees(math.atan(slope_y)),
                "z": change.z + true_height - height,
            }
        )
    return Calibration.model_validate(change.model_dump())


def _cropped(data: HeightMap, zone: AnyZone) -> HeightMap:
    """The box of a zone, without data outside the zone."""
    view = window(zone, data)
    z = data.z[view.rows, view.cols]
    if view.inside is not None:
        z = np.where(view.inside, z, np.float32(np.nan))
    grid = view.grid(data)
    return HeightMap(z, None, grid.dx, grid.dy, grid.x0, grid.y0)
