"""The virtual sensor: takes scans of virtual parts at a station."""

from __future__ import annotations

import math

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.geometry.frames import Frame
from hemtra.core.scan.assemble import resample_rows
from hemtra.core.scan.heightmap import HeightMap, Profile
from hemtra.core.scan.scan import Scan
from hemtra.core.station.optics import CaptureBand, SensorModel
from hemtra.core.station.station import Station
from hemtra.virtual.cover import BELT, Cover
from hemtra.virtual.line import Passage, passage
from hemtra.virtual.models import sensor_model
from hemtra.virtual.sensor_kernels import Electronics, Optics, Pose, sample_field, see_profiles

SHADOW = 16.0
"""mm of travel over which the highest part can hide something from the camera."""
MARGIN = 1.02
"""The surface is sampled a little beyond the view, so that rays at its border meet something."""


class CoverUnderSensor:
    """A cover on its way under the virtual sensor; profiles are taken one after the other.

    ideal: without noise, quantisation, dropouts and spikes, for comparison with the truth; what geometry hides
    stays hidden. ys: where on the part profiles are taken, in mm; None for where the virtual line really takes
    them when the part trips the eye, with those missed for want of time. Raises `HemtraError` when the station
    names an unknown sensor model.
    """

    def __init__(
        self,
        cover: Cover,
        station: Station,
        seed: int = 0,
        *,
        ideal: bool = False,
        ys: FloatArray | None = None,
    ) -> None:
        model = sensor_model(station.sensor.model)
        self.cover, self.station = cover, station
        self.grid, self.cols = station.grid(model, BELT)
        rate = model.rate_with(station.sensor.stand_off, station.sensor.band, station.sensor.exposure)
        way = passage(station, rate) if ys is None else Passage(ys, np.zeros(ys.size, np.bool_))
        self.ys, self._missed = way.ys, way.missed
        on_grid = self.grid.y0 + self.grid.dy * np.arange(self.ys.size)
        self._believed = on_grid if ys is None else ys
        self.taken = 0
        half_view = model.width_at(station.sensor.stand_off - BELT) / 2 * MARGIN
        self._xs = np.linspace(-half_view, half_view, round(self.cols * MARGIN))
        self._shape = cover.shape()
        self._optics = _optics(station, model)
        self._electronics = Electronics(
            station.sensor.exposure, model.noise, model.quantum, np.uint64(seed), ideal
        )
        pose = _pose(cover, station)
        self._field = np.empty((self.ys.size, self._xs.size), np.float32)
        bare = self._shape._replace(specks=np.empty((0, 4)))
        sample_field(self._xs, self.ys, bare, pose, self._field)
        self._pose = pose._replace(top=float(self._field.max()))
        shape = (self.ys.size, self.cols)
        self.x, self.z = np.empty(shape), np.full(shape, np.nan, np.float32)
        self.grey = np.zeros(shape, np.uint8)
        self.z_map, self.grey_map = np.full(shape, np.nan, np.float32), np.zeros(shape, np.uint8)

    def take(self, profiles: int) -> None:
        """Take that many profiles more, or as many as there are left."""
        first, last = self.taken, min(self.taken + profiles, self.ys.size)
        see_profiles(
            self._xs,
            self.ys,
            self._field,
            self._shape,
            self._pose,
            self._optics,
            self._electronics,
            (first, last),
            self.x,
            self.z,
            self.grey,
        )
        rows = slice(first, last)
        levelling = self.station.sensor.levelling
        if not levelling.is_none:
            y = self._believed[rows][:, None]
            x, z = levelling.applied(self.x[rows], y, self.z[rows].astype(np.float64))
            seen = ~np.isnan(z)
            self.x[rows][seen], self.z[rows][seen] = x[seen], z[seen]
        # a profile the sensor had no time for is a row of no data in its right place, not a shorter part
        self.z[rows][self._missed[rows]] = np.nan
        self.grey[rows][self._missed[rows]] = 0
        resample_rows(
            self.x[rows],
            self.z[rows],
            self.grey[rows],
            self.grid.x0,
            self.grid.dx,
            self.z_map[rows],
            self.grey_map[rows],
        )
        self.taken = last

    @property
    def missed(self) -> int:
        """Profiles missed so far because the line was too fast."""
        return int(np.count_nonzero(self._missed[: self.taken]))

    def scan(self, taken: str = "", name: str = "") -> Scan:
        """The scan as far as it has been taken; rows to come hold no data."""
        grid = self.grid
        data = HeightMap(self.z_map, self.grey_map, grid.dx, grid.dy, grid.x0, grid.y0)
        station = self.station.model_dump(mode="json", by_alias=True)
        return Scan(data, name, self.cover.serial, taken, station)


def scan_cover(
    cover: Cover, station: Station, seed: int = 0, *, ideal: bool = False, taken: str = "", name: str = ""
) -> Scan:
    """One whole scan of one part; the same seed gives the same scan. See `CoverUnderSensor`."""
    part = CoverUnderSensor(cover, station, seed, ideal=ideal)
    part.take(part.ys.size)
    return part.scan(taken, name)


def live_profile(cover: Cover, station: Station, y: float, seed: int = 0) -> Profile:
    """The single profile that the sensor sees at y in mm: its points as they come, before any resampling.

    x is where each point lies, or where its ray meets the belt when it has no data.
    """
    # what may stand between the line and the camera lies ahead, and no farther than this
    ahead = max(2, math.ceil(SHADOW / station.travel.spacing))
    ys = y + station.travel.spacing * np.arange(ahead)
    part = CoverUnderSensor(cover, station, seed, ys=ys)
    part.take(1)
    return Profile(part.x[0], part.z[0].astype(np.float64), part.grey[0].astype(np.float64))


def _pose(cover: Cover, station: Station) -> Pose:
    """Part and belt as the sensor sees them: a sensor that hangs tilted sees the world tilted back."""
    mount = Frame(tilt_x=station.sensor.pitch, tilt_y=station.sensor.roll).matrix
    belt = mount.T @ np.array([0.0, 0.0, BELT])
    nx, ny, nz = mount[2]
    height = belt[2] + (nx * belt[0] + ny * belt[1]) / nz
    plane = np.array([height, -nx / nz, -ny / nz])
    return Pose(mount.T @ cover.pose.matrix, mount.T @ cover.pose.origin, plane, np.inf)


def _optics(station: Station, model: SensorModel) -> Optics:
    spread = model.width / model.mid
    band = station.sensor.band or CaptureBand(z_low=-1e6, z_high=1e6)
    return Optics(
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
