"""The virtual sensor: takes profiles and scans of virtual parts at a station."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from hemtra.core.geometry.frames import Frame
from hemtra.core.maps.heightmap import Profile
from hemtra.core.maps.scan import Scan
from hemtra.core.parallel_rows import in_halves
from hemtra.core.station.assembler import Layout, Profiles
from hemtra.core.station.exposure import Tuned, brightness_of, merge_exposures, tune
from hemtra.core.station.mount import SensorMount, calibrated
from hemtra.core.station.optics import SensorModel
from hemtra.core.station.sensor_models import models_of, sensor_model
from hemtra.core.station.station import Station
from hemtra.virtual.cover import BELT
from hemtra.virtual.line import Passage, passage
from hemtra.virtual.parts import Part
from hemtra.virtual.sensor_kernels import (
    BLOCK,
    HIGHEST,
    LOWEST,
    NEAREST,
    STRONGEST,
    Electronics,
    Optics,
    highest_of_blocks,
    sample_field,
    see_profiles,
)
from hemtra.virtual.shapes import without_specks
from hemtra.virtual.sight_kernels import Pose

SHADOW = 16.0
"""Travel over which the highest part can occlude something from the camera, mm."""
MARGIN = 1.02
"""The surface is sampled a little beyond the view, so that rays at its border meet something."""
SAMPLED = 0.34
"""Samples of the surface per ray: a ray is followed where it meets the surface between two of them."""
LOOK_AT = 0.275
"""Place on a part for automatic exposure, as a share of its length from its middle."""
WORTH_TWO = 200
"""Rows from which a second thread is worth its start."""
PEAKS = {"strongest": STRONGEST, "highest": HIGHEST, "lowest": LOWEST, "nearest": NEAREST}
OTHER_SENSOR = 1_000_003
"""Added to the seed for each further sensor, so that their noise has nothing in common."""


class PartUnderSensor:
    """A part on its way under one virtual sensor; profiles are taken one after the other.

    way: where on the part profiles are taken, in any order, and which of them are missed. exposures: times
    nominal, as the station has them unless given. ideal: without noise, quantisation, dropouts and spikes, for
    comparison with the truth; occluded points stay occluded.
    """

    def __init__(
        self,
        part: Part,
        station: Station,
        way: Passage,
        *,
        sensor: int = 0,
        seed: int = 0,
        exposures: tuple[float, ...] | None = None,
        ideal: bool = False,
    ) -> None:
        mount = station.sensors[sensor]
        model = sensor_model(mount.model)
        self.ys, self._missed, self.taken = way.ys, way.missed, 0
        self._mount = mount
        # places passed twice, or backward, are sampled once, in the order of the part
        self._places, self._rows = np.unique(way.ys, return_inverse=True)
        half_view = model.width_at(mount.stand_off - BELT) / 2 * MARGIN
        self._xs = np.linspace(-half_view, half_view, round(model.points * MARGIN * SAMPLED))
        self._shape = part.shape()
        self._optics = _optics(mount, model)
        self._reference = _reference(mount, self._optics)
        if exposures is None:
            automatic = mount.exposure.by == "automatic"
            settled = tuned_exposure(part, station, sensor).time if automatic else 0.0
            exposures = mount.exposure.taken_with(settled)
        seed += OTHER_SENSOR * sensor
        self._electronics = [
            Electronics(exposure, model.noise, model.quantum, np.uint64(seed + k), ideal)
            for k, exposure in enumerate(exposures)
        ]
        self._pose = _pose(part, float(self._shape.top), mount, station.line.climb)
        self._field = np.full((self._places.size, self._xs.size), -np.inf, np.float32)
        self._tops = np.full([-(-n // BLOCK) for n in self._field.shape], -np.inf, np.float32)
        self._sampled = 0

    @property
    def done(self) -> bool:
        """Whether all profiles have been taken."""
        return self.taken >= self.ys.size

    def take(self, profiles: int) -> Profiles:
        """Take that many profiles more, or as many as there are left; as the sensor gives them."""
        first, last = self.taken, min(self.taken + profiles, self.ys.size)
        self.taken = last
        seen = [self._see(first, last, electronics) for electronics in self._electronics]
        x, z, grey = seen[0]
        if len(seen) == 2:
            ratio = self._electronics[0].exposure / self._electronics[1].exposure
            z, grey = merge_exposures((z, grey), seen[1][1:], ratio)
        hang = self._mount.hang
        if hang.stretch_x or hang.stretch_z:
            x, z = x * (1 + hang.stretch_x / 100), z * np.float32(1 + hang.stretch_z / 100)
        return Profiles(x, z, grey, self._missed[first:last])

    def _sample(self, row: int) -> None:
        """Sample the surface up to a row, and what lies ahead of it as far as that can hide it."""
        end = int(np.searchsorted(self._places, self._places[row] + SHADOW, side="right"))
        start, self._sampled = self._sampled, max(self._sampled, end)
        if end > start:
            shape = without_specks(self._shape)  # the light is of no concern to the surface
            new, places = self._field[start:end], self._places[start:end]
            pose = self._pose
            in_halves(
                lambda part: sample_field(self._xs, places[part], shape, pose, new[part]),
                end - start,
                worth=end - start > WORTH_TWO,
            )
            highest_of_blocks(self._field, start, end, self._tops)
            self._pose = self._pose._replace(top=max(self._pose.top, float(new.max())))

    def _see(
        self, first: int, last: int, electronics: Electronics
    ) -> tuple[NDArray[np.float64], NDArray[np.float32], NDArray[np.uint8]]:
        shape = (last - first, self._optics.points)
        x, z, grey = np.empty(shape), np.empty(shape, np.float32), np.empty(shape, np.uint8)
        rows = np.ascontiguousarray(self._rows[first:last], np.int64)
        self._sample(int(rows.max()))

        def see(part: slice) -> None:
            hits, crests = np.empty((2, self._optics.points), np.int64)
            see_profiles(
                self._xs,
                self._places,
                self._field,
                self._tops,
                self._shape,
                self._pose,
                self._optics,
                electronics,
                self._reference,
                rows[part],
                first + part.start,
                hits,
                crests,
                x[part],
                z[part],
                grey[part],
            )

        in_halves(see, last - first, worth=last - first > WORTH_TWO)
        return x, z, grey


def scan_part(
    part: Part,
    station: Station,
    seed: int = 0,
    *,
    ideal: bool = False,
    taken: str = "",
    name: str = "",
) -> Scan:
    """Scan a single part; the same seed gives the same scan.

    The part trips the eye, or whatever starts a scan, and profiles are taken where the virtual line really
    takes them, whatever the station is set to. Raises `HemtraError` when the station names an unknown model.
    """
    models = models_of(station)
    layout = Layout.of(station, models)
    way = passage(station, models)
    layers = []
    for k in range(len(models)):
        under = PartUnderSensor(part, station, way, sensor=k, seed=seed, ideal=ideal)
        layers.append(layout.rows(k, under.take(way.ys.size)))
    return Scan(layout.scan(layers)[0], name, part.serial, taken, station.snapshot())


def live_profile(part: Part, station: Station, y: float, seed: int = 0, sensor: int = 0) -> Profile:
    """The single profile that a sensor sees at y in mm, calibrated, its points not resampled.

    x is where each point lies, or where its ray meets the belt when it has no data.
    """
    seen = PartUnderSensor(part, station, _ahead(y, station), sensor=sensor, seed=seed).take(1)
    return calibrated(station.sensors[sensor], seen.x[0], seen.z[0], seen.intensity[0])


def tuned_exposure(part: Part, station: Station, sensor: int = 0) -> Tuned:
    """Result of automatic exposure on a part, for the station's target intensity."""
    exposure = station.sensors[sensor].exposure
    way = _ahead(LOOK_AT * part.size[1], station)

    def look(time: float) -> float:
        under = PartUnderSensor(part, station, way, sensor=sensor, exposures=(time,))
        return brightness_of(under.take(1).intensity)

    return tune(look, exposure.brightness, exposure.longest)


def _ahead(y: float, station: Station) -> Passage:
    """A place and, of what lies ahead, as much as can stand between it and the camera."""
    spacing = station.travel.spacing
    ys = y + spacing * np.arange(min(400, max(2, math.ceil(SHADOW / spacing))))
    return Passage(ys, np.zeros(ys.size, np.bool_))


def _pose(part: Part, top: float, mount: SensorMount, climb: float) -> Pose:
    """Part, belt and travel as the sensor sees them: one mounted at a tilt sees the world tilted back."""
    hang = mount.hang
    turned = Frame(rotation=hang.yaw, tilt_x=hang.pitch, tilt_y=hang.roll).matrix
    place = np.array([mount.x + hang.x, hang.y, hang.z])
    belt = turned.T @ (np.array([0.0, 0.0, BELT]) - place)
    nx, ny, nz = turned[2]
    height = belt[2] + (nx * belt[0] + ny * belt[1]) / nz
    plane = np.array([height, -nx / nz, -ny / nz])
    x, y, z = (float(part) for part in turned.T @ Frame(tilt_x=climb).matrix[:, 1])
    rotation = np.ascontiguousarray(turned.T @ part.pose.matrix)
    origin = turned.T @ (part.pose.origin - place)
    return Pose(rotation, origin, plane, (x, y, z), -np.inf, top)


def _optics(mount: SensorMount, model: SensorModel) -> Optics:
    spread = model.width / model.mid
    (z_low, z_high), (x_low, x_high) = mount.band.heights, mount.band.across
    return Optics(
        height=mount.stand_off,
        near=model.near,
        far=model.far,
        mid=model.mid,
        first_slope=-spread / 2 * (1 - 1 / model.points),
        slope_step=spread / model.points,
        points=model.points,
        baseline=model.baseline,
        peaks=PEAKS[mount.peaks],
        z_low=z_low,
        z_high=z_high,
        x_low=x_low - mount.x,
        x_high=x_high - mount.x,
    )


def _reference(mount: SensorMount, optics: Optics) -> NDArray[np.float64]:
    """(points,) heights of the reference profile where each point's ray meets z = 0, NaN where it has none."""
    known = mount.reference
    if known is None:
        return np.full(optics.points, np.nan)
    slopes = optics.first_slope + optics.slope_step * np.arange(optics.points)
    xs = known.first + known.pitch * np.arange(len(known.z))
    zs = np.array([np.nan if z is None else z for z in known.z])
    near: NDArray[np.float64] = np.interp(slopes * mount.stand_off + mount.x, xs, zs, left=np.nan, right=np.nan)
    return near
