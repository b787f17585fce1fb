"""What a laser-profile sensor sees of a surface, as compiled loops.

Station coordinates in mm. The laser sits at (0, y, height) above the profile's line and fans out along x; the
camera sits at (0, y + baseline, height) and looks back. A point gives data when the laser reaches it and the
camera sees it lit.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from hemtra.core.arrays import FloatArray
from hemtra.virtual.cover_kernels import cover_surface

BELT_REFLECTANCE = 0.16
STEPS_UP = 8
"""Rounds at most to meet a tilted surface; level ones take one."""
ON_SURFACE = 1e-6
"""mm within which a round has met the surface."""
SMOOTH = 0.02
"""mm between two samples below which the surface between them is guessed to be straight."""
CLEARANCE = 0.03
"""mm a surface must rise above a line of sight to block it: more than the sampled field errs on slopes."""


class Pose(NamedTuple):
    """How the part lies: rotation (3, 3) from part to station, and the station position of its origin."""

    rotation: FloatArray
    origin: FloatArray
    belt: NDArray[np.float64]
    """(3,) height at the origin and slopes in x and y."""
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


@njit(cache=True, nogil=True)
def station_surface(x: float, y: float, shape: Any, pose: Pose, guess: float) -> tuple[float, float]:
    """Height and reflectance of part or belt at x, y of the station; `guess` is a height to start from."""
    r, o = pose.rotation, pose.origin
    belt = pose.belt[0] + pose.belt[1] * x + pose.belt[2] * y
    z, reflectance = guess, BELT_REFLECTANCE
    tilt = abs(r[2, 0]) + abs(r[2, 1])
    for _ in range(STEPS_UP):
        dx, dy, dz = x - o[0], y - o[1], z - o[2]
        px = r[0, 0] * dx + r[1, 0] * dy + r[2, 0] * dz
        py = r[0, 1] * dx + r[1, 1] * dy + r[2, 1] * dz
        pz = r[0, 2] * dx + r[1, 2] * dy + r[2, 2] * dz
        part, reflectance, element = cover_surface(px, py, shape)
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


@njit(cache=True, nogil=True)
def sample_field(xs: FloatArray, ys: FloatArray, shape: Any, pose: Pose, field: NDArray[np.float32]) -> None:
    """Fill field (rows, cols) with the surface's heights at ys, xs."""
    for i in range(ys.size):
        z = 0.0
        for j in range(xs.size):
            z, _ = station_surface(xs[j], ys[i], shape, pose, z)
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
    rows: tuple[int, int],
    x_out: FloatArray,
    z_out: NDArray[np.float32],
    grey_out: NDArray[np.uint8],
) -> None:
    """Take the profiles of ys[rows[0]:rows[1]] into x_out, z_out, grey_out (ys, points); z NaN without data."""
    hits = np.empty(optics.points, np.int64)
    for i in range(rows[0], rows[1]):
        _first_hits(xs, field[i], optics, hits)
        for k in range(optics.points):
            slope = optics.first_slope + k * optics.slope_step
            x_out[i, k] = slope * (optics.height - pose.belt[0])
            z_out[i, k] = np.nan
            grey_out[i, k] = 0
            j = hits[k]
            if j < 0:
                continue
            z, reflectance = _meet(slope, ys[i], xs, field[i], j, shape, pose, optics)
            x = slope * (optics.height - z)
            x_out[i, k] = x
            distance = optics.height - z
            if not optics.near <= distance <= optics.far:
                continue
            if not (optics.z_low <= z <= optics.z_high and optics.x_low <= x <= optics.x_high):
                continue
            if _hidden(x, z, i, xs, ys, field, optics, pose.top):
                continue
            light = electronics.exposure * reflectance * _facing(i, j, xs, ys, field)
            draw = np.uint64(i) * np.uint64(optics.points) + np.uint64(k)
            z, grey = _read_out(z, light, distance, optics, electronics, draw)
            z_out[i, k] = z
            grey_out[i, k] = grey


@njit(cache=True, nogil=True)
def _first_hits(xs: FloatArray, row: NDArray[np.float32], optics: Optics, hits: NDArray[np.int64]) -> None:
    """For each ray the sample of the row that it reaches first, counted from the middle outward; -1 for none.

    A ray of slope q reaches x = q (height - z). Going outward, a sample is lit when its slope exceeds all
    slopes passed before; what lies lower behind a wall does not, and stays dark.
    """
    hits[:] = -1
    middle = np.searchsorted(xs, 0.0)
    for side in (1, -1):
        reached = 0.0
        j = middle if side == 1 else middle - 1
        while 0 <= j < xs.size:
            slope = side * xs[j] / (optics.height - row[j])
            if slope > reached:
                # all rays between the last lit slope and this one meet the surface in this step
                first = (side * reached - optics.first_slope) / optics.slope_step
                last = (side * slope - optics.first_slope) / optics.slope_step
                low, high = min(first, last), max(first, last)
                for k in range(max(0, math.ceil(low)), min(optics.points - 1, math.floor(high)) + 1):
                    hits[k] = j
                reached = slope
            j += side


@njit(cache=True, nogil=True)
def _meet(
    slope: float,
    y: float,
    xs: FloatArray,
    row: NDArray[np.float32],
    j: int,
    shape: Any,
    pose: Pose,
    optics: Optics,
) -> tuple[float, float]:
    """Height and reflectance where a ray meets the surface near sample j of its row."""
    z = float(row[j])
    inner_j = max(j - 1, 0) if slope > 0 else min(j + 1, row.size - 1)
    inner = float(row[inner_j])
    if abs(inner - z) < SMOOTH and inner_j != j:
        share = (slope * (optics.height - z) - xs[inner_j]) / (xs[j] - xs[inner_j])
        z = inner + share * (z - inner)
    for _ in range(STEPS_UP):
        found, reflectance = station_surface(slope * (optics.height - z), y, shape, pose, z)
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
    top: float,
) -> bool:
    """Whether the surface stands between a lit point of row i and the camera."""
    distance = optics.height - z
    pitch_x, pitch_y = xs[1] - xs[0], ys[1] - ys[0]
    rise = pitch_y / optics.baseline
    for n in range(1, ys.size - i):
        share = n * rise
        sight = z + share * distance
        if sight > top:
            return False
        j = int((x * (1.0 - share) - xs[0]) / pitch_x + 0.5)
        if 0 <= j < xs.size and field[i + n, j] > sight + CLEARANCE:
            return True
    return False


@njit(cache=True, nogil=True)
def _facing(i: int, j: int, xs: FloatArray, ys: FloatArray, field: NDArray[np.float32]) -> float:
    """How squarely the surface faces the sensor, 1 when level: the light a matt surface sends up."""
    left, right = max(j - 1, 0), min(j + 1, xs.size - 1)
    below, above = max(i - 1, 0), min(i + 1, ys.size - 1)
    gx = (field[i, right] - field[i, left]) / (xs[right] - xs[left])
    gy = (field[above, j] - field[below, j]) / (ys[above] - ys[below])
    return 1.0 / math.sqrt(1.0 + gx * gx + gy * gy)


FAINTEST, SATURATED = 0.06, 3.0
"""Light below which no peak is found on the camera, and above which it may be found in the wrong place."""
SPIKE_SHARE, SPIKE_REACH = 0.35, 2.5
"""Share of saturated points that come out wrong, and by up to how many mm."""
GREY_PER_LIGHT = 200.0


@njit(cache=True, nogil=True)
def _read_out(
    z: float, light: float, distance: float, optics: Optics, electronics: Electronics, draw: np.uint64
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
    if light > SATURATED and _uniform(electronics.seed, draw, 3) < SPIKE_SHARE:
        z += SPIKE_REACH * (2.0 * _uniform(electronics.seed, draw, 4) - 1.0)
    return round(z / electronics.quantum) * electronics.quantum, max(grey, 1)


@njit(cache=True, nogil=True, inline="always")
def _uniform(seed: np.uint64, draw: np.uint64, stream: int) -> float:
    """A number in (0, 1) from the seed, the point and the stream alone (SplitMix64, Steele et al. 2014)."""
    h = seed * np.uint64(0x9E3779B97F4A7C15) + draw * np.uint64(8) + np.uint64(stream)
    h = (h ^ (h >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    h = (h ^ (h >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    h ^= h >> np.uint64(31)
    return (float(h >> np.uint64(11)) + 0.5) * (1.0 / 9007199254740992.0)
