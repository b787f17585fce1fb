"""The virtual sensor: takes scans of virtual parts at a station."""

from __future__ import annotations

import numpy as np

from hemtra.core.scan.assemble import resample_rows
from hemtra.core.scan.heightmap import HeightMap
from hemtra.core.scan.scan import Scan
from hemtra.core.station.optics import CaptureBand
from hemtra.core.station.station import Station
from hemtra.virtual.cover import BELT, Cover
from hemtra.virtual.models import sensor_model
from hemtra.virtual.sensor_kernels import Electronics, Optics, Pose, sample_field, see_profiles

MARGIN = 1.02
"""The surface is sampled a little beyond the view, so that rays at its border meet something."""


def scan_cover(
    cover: Cover, station: Station, seed: int = 0, *, ideal: bool = False, taken: str = "", name: str = ""
) -> Scan:
    """One scan of one part; the same seed gives the same scan.

    ideal: without noise, quantisation, dropouts and spikes, for comparison with the truth; what geometry hides
    stays hidden. Raises `HemtraError` when the station names an unknown sensor model.
    """
    model = sensor_model(station.sensor.model)
    grid, cols = station.grid(model, BELT)
    rows = station.travel.profiles
    ys = grid.y0 + grid.dy * np.arange(rows)
    half_view = model.width_at(station.sensor.stand_off - BELT) / 2 * MARGIN
    xs = np.linspace(-half_view, half_view, round(cols * MARGIN))
    pose = Pose(cover.pose.matrix, cover.pose.origin, BELT, np.inf)
    spread = model.width / model.mid
    band = station.sensor.band or CaptureBand(z_low=-1e6, z_high=1e6)
    optics = Optics(
        height=station.sensor.stand_off,
        near=model.near,
        far=model.far,
        mid=model.mid,
        first_slope=-spread / 2 * (1 - 1 / model.points),
        slope_step=spread / model.points,
        points=model.points,
        baseline=model.baseline,
        z_low=band.z_low,
        z_high=band.z_high,
        x_low=band.x_low,
        x_high=band.x_high,
    )
    electronics = Electronics(station.sensor.exposure, model.noise, model.quantum, np.uint64(seed), ideal)
    shape = cover.shape()
    field = np.empty((rows, xs.size), np.float32)
    sample_field(xs, ys, shape._replace(specks=np.empty((0, 4))), pose, field)
    pose = pose._replace(top=float(field.max()))
    x, z = np.empty((rows, cols)), np.empty((rows, cols), np.float32)
    grey = np.empty((rows, cols), np.uint8)
    see_profiles(xs, ys, field, shape, pose, optics, electronics, x, z, grey)
    z_map, grey_map = np.empty((rows, cols), np.float32), np.empty((rows, cols), np.uint8)
    resample_rows(x, z, grey, grid.x0, grid.dx, z_map, grey_map)
    for array in (z_map, grey_map):
        array.flags.writeable = False
    data = HeightMap(z_map, grey_map, grid.dx, grid.dy, grid.x0, grid.y0)
    return Scan(data, name, cover.serial, taken, station.model_dump(mode="json", by_alias=True))
