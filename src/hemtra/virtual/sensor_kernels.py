"""What a laser-profile sensor sees of a surface, as compiled loops.

Sensor coordinates in mm, z = 0 where the mount has it. The laser sits at (0, 0, height) and fans out along x in
the plane y = 0; the camera sits at (0, baseline, height) and looks back. A point gives data when the laser
reaches it and the camera sees it lit. From profile to profile the sensor moves along the travel, past a part
that stands still; a sensor that hangs askew moves askew.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np
from numba import njit
from numba.extending import overload
from numpy.typing import NDArray

from hemtra.core.arrays import FloatArray
from hemtra.virtual.cover_kernels import CoverShape, cover_surface
from hemtra.virtual.relief_kernels import relief_surface
from hemtra.virtual.runner_kernels import RunnerShape, runner_surface

BELT_REFLECTANCE = 0.16
STEPS_UP = 8
"""Rounds at most to meet a tilted surface; level ones take one."""
ON_SURFACE = 1e-6
"""mm within which a round has met the surface."""
SMOOTH = 0.02
"""mm between two samples below which the surface between them is guessed to be straight."""
ON_WALL = 0.15
"""mm off the nearest sample of the surface from which a ray has met a wall between two samples."""
CLEARANCE = 0.03
"""mm a surface must rise above a line of sight to block it: more than the sampled field errs on slopes."""


class Pose(NamedTuple):
    """How the part lies before a sensor that has not moved: rotation (3, 3), and where its origin is."""

    rotation: FloatArray
    origin: FloatArray
    belt: NDArray[np.float64]
    """(3,) height at the origin and slopes in x and y."""
    along: tuple[float, float, float]
    """Which way the sensor goes, of length 1."""
    top: float
    """The highest z of the surface; above it nothing hides anything."""


class Optics(NamedTuple):
    """The sensor as it hangs, in mm."""

    height: float
    near: float
    far: float
    mid: float
    first_slope: float
    """x per mm of distance of the first point's ray."""
    slope_step: float
    points: int
    baseline: float
    peaks: int
    """Which of several reflections counts: STRONGEST and so on."""
    z_low: float
    z_high: float
    x_low: float
    x_high: float
    """The capture band; what lies outside is not delivered."""


class Electronics(NamedTuple):
    """From light to numbers."""

    exposure: float
    noise: float
    quantum: float
    seed: np.uint64
    ideal: bool
    """No noise, no quantisation, no dropouts and no spikes; geometry still hides what it hides."""


STRONGEST, HIGHEST, LOWEST, NEAREST = range(4)


def surface_at(x: float, y: float, shape: Any) -> tuple[float, float, int]:
    """Height, reflectance and element of whatever part `shape` describes; element 0 is beside it."""
    if isinstance(shape, RunnerShape):
        return runner_surface(x, y, shape)
    return cover_surface(x, y, shape) if isinstance(shape, CoverShape) else relief_surface(x, y, shape)


@overload(surface_at, inline="always")
def _surface_at(x, y, shape):  # type: ignore[no-untyped-def]
    """The choice between the parts, made when a kernel is compiled."""
    if shape.instance_class is CoverShape:
        return lambda x, y, shape: cover_surface(x, y, shape)
    if shape.instance_class is RunnerShape:
        return lambda x, y, shape: runner_surface(x, y, shape)
    return lambda x, y, shape: relief_surface(x, y, shape)


@njit(cache=True, nogil=True)
def station_surface(x: float, y: float, shape: Any, pose: Pose, guess: float) -> tuple[float, float]:
    """Height and reflectance of part or belt at x, y; `guess` is a height to start from."""
    r, o = pose.rotation, pose.origin
    belt = pose.belt[0] + pose.belt[1] * x + pose.belt[2] * y
    z, reflectance = guess, BELT_REFLECTANCE
    tilt = abs(r[2, 0]) + abs(r[2, 1])
    for _ in range(STEPS_UP):
        dx, dy, dz = x - o[0], y - o[1], z - o[2]
        px = r[0, 0] * dx + r[1, 0] * dy + r[2, 0] * dz
        py = r[0, 1] * dx + r[1, 1] * dy + r[2, 1] * dz
        pz = r[0, 2] * dx + r[1, 2] * dy + r[2, 2] * dz
        part, reflectance, element = surface_at(px, py, shape)
        if element == 0:
            return belt, BELT_REFLECTANCE
        miss = (part - pz) / r[2, 2]
        z += miss
        # a change in height moves the place on the part by its tilt only
        if abs(miss) * tilt < ON_SURFACE:
            break
    if z <= belt:
        return belt, BELT_REFLECTANCE
    return z, reflectance


@njit(cache=True, nogil=True, inline="always")
def row_surface(x: float, s: float, shape: Any, pose: Pose, guess: float) -> tuple[float, float]:
    """Height and reflectance in the laser's plane of a sensor that has gone s mm."""
    a = pose.along
    z, reflectance = station_surface(x + s * a[0], s * a[1], shape, pose, guess + s * a[2])
    return z - s * a[2], reflectance


@njit(cache=True, nogil=True)
def sample_field(xs: FloatArray, ys: FloatArray, shape: Any, pose: Pose, field: NDArray[np.float32]) -> None:
    """Fill field (rows, cols) with the heights that a sensor has before it at ys of its way, at xs."""
    for i in range(ys.size):
        z = 0.0
        for j in range(xs.size):
            z, _ = row_surface(xs[j], ys[i], shape, pose, z)
            field[i, j] = z


@njit(cache=True, nogil=True)
def see_profiles(
    xs: FloatArray,
    ys: FloatArray,
    field: NDArray[np.float32],
    shape: Any,
    pose: Pose,
    optics: Optics,
    electronics: Electronics,
    reference: FloatArray,
    rows: NDArray[np.int64],
    number: int,
    x_out: FloatArray,
    z_out: NDArray[np.float32],
    grey_out: NDArray[np.uint8],
) -> None:
    """Take the profiles at ys[rows] into x_out, z_out, grey_out (rows, points); z NaN without data.

    ys rise; reference: (points,) heights that the nearest peak is near to, NaN where there is none; number: of
    the first profile, which its noise follows from.
    """
    hits, crests = np.empty(optics.points, np.int64), np.empty(optics.points, np.int64)
    for n in range(rows.size):
        i = rows[n]
        _first_hits(xs, field[i], optics, hits, crests)
        for k in range(optics.points):
            slope = optics.first_slope + k * optics.slope_step
            x_out[n, k] = slope * (optics.height - pose.belt[0])
            z_out[n, k] = np.nan
            grey_out[n, k] = 0
            j = hits[k]
            if j < 0:
                continue
            z, reflectance = _meet(slope, ys[i], xs, field[i], j, crests[k], shape, pose, optics)
            x = slope * (optics.height - z)
            x_out[n, k] = x
            distance = optics.height - z
            if not optics.near <= distance <= optics.far:
                continue
            if not (optics.z_low <= z <= optics.z_high and optics.x_low <= x <= optics.x_high):
                continue
            if _hidden(x, z, i, xs, ys, field, optics, pose.along, pose.top):
                continue
            light = electronics.exposure * reflectance * _facing(z, i, j, xs, ys, field)
            draw = np.uint64(number + n) * np.uint64(optics.points) + np.uint64(k)
            z, grey = _read_out(z, light, distance, optics, electronics, draw, reference[k])
            z_out[n, k] = z
            grey_out[n, k] = grey


@njit(cache=True, nogil=True)
def _first_hits(
    xs: FloatArray,
    row: NDArray[np.float32],
    optics: Optics,
    hits: NDArray[np.int64],
    crests: NDArray[np.int64],
) -> None:
    """For each ray the sample of the row that it reaches first, counted from the middle outward; -1 for none.

    crests: the sample lit before that one.

    A ray of slope q reaches x = q (height - z). Going outward, a sample is lit when its slope exceeds all
    slopes passed before; what lies lower behind a wall does not, and stays dark.
    """
    hits[:] = -1
    middle = np.searchsorted(xs, 0.0)
    for side in (1, -1):
        reached = 0.0
        j = crest = middle if side == 1 else middle - 1
        while 0 <= j < xs.size:
            slope = side * xs[j] / (optics.height - row[j])
            if slope > reached:
                # all rays between the last lit slope and this one meet the surface in this step
                first = (side * reached - optics.first_slope) / optics.slope_step
                last = (side * slope - optics.first_slope) / optics.slope_step
                low, high = min(first, last), max(first, last)
                for k in range(max(0, math.ceil(low)), min(optics.points - 1, math.floor(high)) + 1):
                    hits[k], crests[k] = j, crest
                reached, crest = slope, j
            j += side


@njit(cache=True, nogil=True)
def _meet(
    slope: float,
    y: float,
    xs: FloatArray,
    row: NDArray[np.float32],
    j: int,
    crest: int,
    shape: Any,
    pose: Pose,
    optics: Optics,
) -> tuple[float, float]:
    """Height and reflectance where a ray meets the surface near sample j of its row, or the crest before it."""
    z = float(row[j])
    if row[crest] > z + SMOOTH:
        # the surface ends somewhere between two samples, and the ray may still meet what is left of it
        top = float(row[crest])
        found, reflectance = row_surface(slope * (optics.height - top), y, shape, pose, top)
        if abs(found - top) < SMOOTH:
            return found, reflectance
    inner_j = max(j - 1, 0) if slope > 0 else min(j + 1, row.size - 1)
    inner = float(row[inner_j])
    if abs(inner - z) < SMOOTH and inner_j != j:
        share = (slope * (optics.height - z) - xs[inner_j]) / (xs[j] - xs[inner_j])
        z = inner + share * (z - inner)
    for _ in range(STEPS_UP):
        found, reflectance = row_surface(slope * (optics.height - z), y, shape, pose, z)
        # likewise the ray meets a place that moves by its slope
        if abs((found - z) * slope) < ON_SURFACE:
            return found, reflectance
        z = found
    # a wall between two samples: the ray meets its face, whose height follows from the sample's place
    on_face = optics.height - xs[j] / slope if slope != 0.0 else float(row[j])
    low, high = min(row[j], inner), max(row[j], inner)
    return min(max(on_face, low), high), reflectance


@njit(cache=True, nogil=True)
def _hidden(
    x: float,
    z: float,
    i: int,
    xs: FloatArray,
    ys: FloatArray,
    field: NDArray[np.float32],
    optics: Optics,
    along: tuple[float, float, float],
    top: float,
) -> bool:
    """Whether the surface stands between a lit point of row i and the camera."""
    distance = optics.height - z
    pitch_x = xs[1] - xs[0]
    along_x, along_y, along_z = along
    share_per_mm, per_column = along_y / optics.baseline, 1.0 / pitch_x
    rise, start = share_per_mm * distance - along_z, ys[i]
    for n in range(1, ys.size - i):
        # where the line of sight crosses the laser's plane of a profile farther on, as seen from there
        ahead = ys[i + n] - start
        sight = z + ahead * rise
        if sight > top:
            return False
        j = int((x * (1.0 - ahead * share_per_mm) - ahead * along_x - xs[0]) * per_column + 0.5)
        if 0 <= j < xs.size and field[i + n, j] > sight + CLEARANCE:
            return True
    return False


@njit(cache=True, nogil=True)
def _facing(z: float, i: int, j: int, xs: FloatArray, ys: FloatArray, field: NDArray[np.float32]) -> float:
    """How squarely the surface faces the sensor, 1 when level: the light a matt surface sends up."""
    here, left, right = field[i, j], field[i, max(j - 1, 0)], field[i, min(j + 1, xs.size - 1)]
    below, above = max(i - 1, 0), min(i + 1, ys.size - 1)
    pitch_x, pitch_y = xs[1] - xs[0], max(ys[above] - ys[below], 1e-9) / 2
    if abs(z - here) > ON_WALL:
        gx = max(abs(here - left), abs(right - here)) / pitch_x
        gy = 0.0
    else:
        # the gentler slope of both sides: beside an edge a face is as bright as it is elsewhere
        gx = min(abs(here - left), abs(right - here)) / pitch_x
        gy = min(abs(here - field[below, j]), abs(field[above, j] - here)) / pitch_y
    return 1.0 / math.sqrt(1.0 + gx * gx + gy * gy)


FAINTEST, SATURATED = 0.06, 3.0
"""Light below which no peak is found on the camera, and above which it may be found in the wrong place."""
SPIKE_SHARE, SPIKE_REACH = 0.35, 2.5
"""What shines throws a second reflection, up to so many mm off, and that is the stronger one in this share."""
GREY_PER_LIGHT = 200.0


@njit(cache=True, nogil=True)
def _read_out(
    z: float,
    light: float,
    distance: float,
    optics: Optics,
    electronics: Electronics,
    draw: np.uint64,
    reference: float,
) -> tuple[float, int]:
    """The height and grey value that come out of the camera; NaN when no peak is found."""
    grey = int(min(255.0, light * GREY_PER_LIGHT + 0.5))
    if electronics.ideal:
        return z, grey
    if light < FAINTEST:
        return np.nan, 0
    first, second = _uniform(electronics.seed, draw, 1), _uniform(electronics.seed, draw, 2)
    normal = math.sqrt(-2.0 * math.log(first)) * math.cos(2.0 * math.pi * second)
    # fewer photons, more noise; beyond the nominal brightness speckle is left, which light does not reduce
    sigma = electronics.noise * (distance / optics.mid) ** 2 * math.sqrt(max(1.0, 0.5 / light))
    z += sigma * normal
    if light > SATURATED:
        ghost = z + SPIKE_REACH * (2.0 * _uniform(electronics.seed, draw, 4) - 1.0)
        stronger = _uniform(electronics.seed, draw, 3) < SPIKE_SHARE
        z = _chosen(z, ghost, stronger, optics.peaks, reference)
    return round(z / electronics.quantum) * electronics.quantum, max(grey, 1)


@njit(cache=True, nogil=True, inline="always")
def _chosen(z: float, ghost: float, stronger: bool, peaks: int, reference: float) -> float:
    """The reflection that counts, of the true one and a ghost."""
    if peaks == HIGHEST:
        return max(z, ghost)
    if peaks == LOWEST:
        return min(z, ghost)
    if peaks == NEAREST and not np.isnan(reference):
        return ghost if abs(ghost - reference) < abs(z - reference) else z
    return ghost if stronger else z


@njit(cache=True, nogil=True, inline="always")
def _uniform(seed: np.uint64, draw: np.uint64, stream: int) -> float:
    """A number in (0, 1) from the seed, the point and the stream alone (SplitMix64, Steele et al. 2014)."""
    h = seed * np.uint64(0x9E3779B97F4A7C15) + draw * np.uint64(8) + np.uint64(stream)
    h = (h ^ (h >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    h = (h ^ (h >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    h ^= h >> np.uint64(31)
    return (float(h >> np.uint64(11)) + 0.5) * (1.0 / 9007199254740992.0)
