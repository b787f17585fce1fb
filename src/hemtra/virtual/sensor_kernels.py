"""Simulation of a laser-profile sensor on a surface, as compiled loops.

Sensor coordinates in mm, z = 0 where the mount has it. The laser sits at (0, 0, height) and fans out along x in
the plane y = 0; the camera sits at (0, baseline, height) and looks back. A point gives data when the laser
reaches it and the camera sees it lit. From profile to profile the sensor moves along the travel, past a part
that stands still; a sensor mounted askew moves askew.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from hemtra.core.arrays import FloatArray
from hemtra.core.compiled import lean
from hemtra.virtual.shapes import surface_at
from hemtra.virtual.sight_kernels import (
    CLEARLY,
    HALVINGS,
    LEAVING,
    ON_SURFACE,
    STRIDE,
    Pose,
    SightLine,
    _ceiling,
    descend,
    line_of,
    rise_at,
    row_surface,
)

SMOOTH = 0.02
"""Height difference between neighbouring samples without a wall between them, mm."""
BESIDE = 1e-3
"""Half width over which the slope of the surface is taken, mm."""
NEARLY_LEVEL = 0.05
"""Height difference to the next samples that occludes nothing, mm."""
CREST_ROUNDS = 12
BLOCK = 10
"""Samples along and across of which only the highest is tested first."""


class Optics(NamedTuple):
    """The sensor as it is mounted, in mm."""

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
    """Choice among several reflections: STRONGEST and so on."""
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


@lean
def sample_field(xs: FloatArray, ys: FloatArray, shape: Any, pose: Pose, field: NDArray[np.float32]) -> None:
    """Fill field (rows, cols) with the heights that a sensor has before it at ys of its way, at xs."""
    for i in range(ys.size):
        for j in range(xs.size):
            field[i, j] = row_surface(xs[j], ys[i], shape, pose)


@lean
def see_profiles(
    xs: FloatArray,
    ys: FloatArray,
    field: NDArray[np.float32],
    tops: NDArray[np.float32],
    shape: Any,
    pose: Pose,
    optics: Optics,
    electronics: Electronics,
    reference: FloatArray,
    rows: NDArray[np.int64],
    number: int,
    hits: NDArray[np.int64],
    crests: NDArray[np.int64],
    x_out: FloatArray,
    z_out: NDArray[np.float32],
    grey_out: NDArray[np.uint8],
) -> None:
    """Take the profiles at ys[rows] into x_out, z_out, grey_out (rows, points); z NaN without data.

    ys rise; reference: (points,) heights that the nearest peak is near to, NaN where there is none; number: of
    the first profile, which its noise follows from; hits, crests: (points,) room to work in, as an array made
    here would have its references counted, for which threads wait on each other.
    """
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
            if _hidden(x, z, i, xs, ys, field, tops, shape, pose, optics):
                continue
            light = electronics.exposure * reflectance * _facing(x, z, i, j, xs, ys, field, shape, pose)
            draw = np.uint64(number + n) * np.uint64(optics.points) + np.uint64(k)
            z, grey = _read_out(z, light, distance, optics, electronics, draw, reference[k])
            z_out[n, k] = z
            grey_out[n, k] = grey


@lean
def _first_hits(
    xs: FloatArray,
    row: NDArray[np.float32],
    optics: Optics,
    hits: NDArray[np.int64],
    crests: NDArray[np.int64],
) -> None:
    """For each ray the sample of the row that it reaches first, counted from the middle outward; -1 for none.

    crests: a sample before that one, from which on it may meet something.

    A ray of slope q reaches x = q (height - z). Going outward, a sample is lit when its slope exceeds all
    slopes passed before; what lies lower behind a wall does not, and stays dark. A wall lies somewhere between
    two samples, so rays just above the last one before it may still meet what continues as high.
    """
    hits[:] = -1
    middle = np.searchsorted(xs, 0.0)
    for side in (1, -1):
        reached, brink_slope = 0.0, 0.0
        j, crest = (middle, middle - 1) if side == 1 else (middle - 1, middle)
        brink = crest
        while 0 <= j < xs.size:
            slope = side * xs[j] / (optics.height - row[j])
            if slope > reached:
                # all rays between the last lit slope and this one meet the surface in this step
                first = (side * reached - optics.first_slope) / optics.slope_step
                last = (side * slope - optics.first_slope) / optics.slope_step
                low, high = min(first, last), max(first, last)
                for k in range(max(0, math.ceil(low)), min(optics.points - 1, math.floor(high)) + 1):
                    over_brink = side * (optics.first_slope + k * optics.slope_step) > brink_slope
                    hits[k], crests[k] = j, crest if over_brink else brink
                reached, crest = slope, j
            if 0 <= j + side < xs.size and row[j + side] < row[j] - SMOOTH:
                farthest = side * xs[j + side] / (optics.height - row[j])
                if farthest > max(reached, brink_slope):
                    # of several in a row the first, from which on all of them are passed
                    brink = j if brink_slope <= reached else brink
                    brink_slope = farthest
            j += side


@lean
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
    """Height and reflectance where a ray meets the surface, which it passes above at `crest` and not at j."""
    a = pose.along
    line = line_of(slope * optics.height + y * a[0], y * a[1], y * a[2], -slope, 0.0, 1.0, pose)
    clear = _ceiling(line, pose.highest)
    if slope * xs[crest] > 0.0:
        clear = min(clear, optics.height - xs[crest] / slope + CLEARLY)
    guess, z, high = clear, float(row[j]), float(row[crest])
    if abs(crest - j) == 1 and abs(high - z) < SMOOTH:
        share = (slope * (optics.height - z) - xs[crest]) / (xs[j] - xs[crest])
        guess = min(clear, high + share * (z - high))
    return descend(line, clear, guess, STRIDE, shape)


@lean
def _hidden(
    x: float,
    z: float,
    i: int,
    xs: FloatArray,
    ys: FloatArray,
    field: NDArray[np.float32],
    tops: NDArray[np.float32],
    shape: Any,
    pose: Pose,
    optics: Optics,
) -> bool:
    """Whether the surface stands between a lit point of row i and the camera.

    From row to row the samples about the line of sight say whether it is clear there; where they do not, it is
    followed.
    """
    along_x, along_y, along_z = pose.along
    distance = optics.height - z
    share_per_mm, per_column = along_y / optics.baseline, 1.0 / (xs[1] - xs[0])
    rise, start = share_per_mm * distance - along_z, ys[i]
    before, sight_before = 0.0, z
    high_before, low_before = _about((x - xs[0]) * per_column, i, field)
    n = 1
    while n < ys.size - i:
        ahead = ys[i + n] - start
        sight = z + ahead * rise
        column = (x * (1.0 - ahead * share_per_mm) - ahead * along_x - xs[0]) * per_column
        if n == 2 or (i + n) % BLOCK == 0:
            # most of the way nothing comes near: whole blocks of samples are passed at once
            block = (i + n) // BLOCK
            last = min((block + 2) * BLOCK, ys.size) - 1
            far = ys[last] - start
            end = (x * (1.0 - far * share_per_mm) - far * along_x - xs[0]) * per_column
            peak = max(high_before, _top_about(column, end, block, tops))
            if peak < sight_before - SMOOTH:
                n = last - i + 1
                before, sight_before, high_before, low_before = far, z + far * rise, peak, peak
                if sight_before > pose.top + SMOOTH:
                    return False
                continue
        high, low = _about(column, i + n, field)
        peak = max(high, high_before)
        if n == 1 and sight - z > 2.0 * NEARLY_LEVEL:
            clear = peak - z < NEARLY_LEVEL and z - min(low, low_before) < NEARLY_LEVEL
        else:
            clear = peak < sight_before - SMOOTH
        if not clear:
            # counted from the first profile: how far the sensor must go to stand over a place
            line = line_of(
                x + start * along_x,
                start * along_y,
                z + start * along_z,
                -x * share_per_mm,
                along_y,
                share_per_mm * distance,
                pose,
            )
            if _crosses(line, before, ahead, shape):
                return True
        if sight > pose.top + SMOOTH:
            return False
        before, sight_before, high_before, low_before = ahead, sight, high, low
        n += 1
    return False


@lean
def _about(column: float, i: int, field: NDArray[np.float32]) -> tuple[float, float]:
    """The higher and the lower of the two samples of a row about a column; beside the row there is nothing."""
    j = math.floor(column)
    if not 0 <= j < field.shape[1] - 1:
        return -math.inf, -math.inf
    a, b = float(field[i, j]), float(field[i, j + 1])
    return max(a, b), min(a, b)


@lean
def _top_about(one: float, other: float, block: int, tops: NDArray[np.float32]) -> float:
    """The highest sample of two rows of blocks between two columns, and one farther on either side."""
    first = max(0, math.floor(min(one, other) - 1.0) // BLOCK)
    last = min(tops.shape[1] - 1, math.floor(max(one, other) + 2.0) // BLOCK)
    top = -math.inf
    for k in range(first, last + 1):
        top = max(top, float(tops[block, k]))
        if block + 1 < tops.shape[0]:
            top = max(top, float(tops[block + 1, k]))
    return top


@lean
def highest_of_blocks(field: NDArray[np.float32], first: int, last: int, tops: NDArray[np.float32]) -> None:
    """Take rows first to last of the field into tops (rows, cols) of blocks of BLOCK by BLOCK samples."""
    for i in range(first, last):
        for j in range(field.shape[1]):
            tops[i // BLOCK, j // BLOCK] = max(tops[i // BLOCK, j // BLOCK], field[i, j])


@lean
def _crosses(line: SightLine, first: float, last: float, shape: Any) -> bool:
    """Whether a line of sight goes through the surface between t = first and last."""
    steps = max(2, math.ceil((last - first) / STRIDE))
    a = max(first, LEAVING)
    over_a = rise_at(a, line, shape)[0]
    if over_a > CLEARLY:
        return True
    for k in range(1, steps + 1):
        b = first + (last - first) * k / steps
        if b <= a:
            continue
        over_b = rise_at(b, line, shape)[0]
        if over_b > CLEARLY or _peeps(line, (a, over_a), (b, over_b), shape):
            return True
        a, over_a = b, over_b
    return False


@lean
def _peeps(line: SightLine, one: tuple[float, float], other: tuple[float, float], shape: Any) -> bool:
    """Whether the surface reaches above a line between two places (t and rise to the surface) clear of it.

    It does so at a wall, whose place is halved down to, or at a rounded crest, which is searched for.
    """
    (a, over_a), (b, over_b) = one, other
    steep = line.w / line.upright
    if max(over_a, over_b + steep * (b - a)) < -SMOOTH:
        return False  # both sides lie below the line where it is lowest
    if abs(over_b - over_a + steep * (b - a)) > SMOOTH:
        for _ in range(HALVINGS):
            t = (a + b) / 2
            over = rise_at(t, line, shape)[0]
            if over > CLEARLY:
                return True
            # the height of the surface shows on which side of the wall the middle is
            if abs(over - over_a + steep * (t - a)) < abs(over - over_b + steep * (t - b)):
                a, over_a = t, over
            else:
                b, over_b = t, over
            if b - a < ON_SURFACE:
                break
        return False
    little = (b - a) / 64
    if rise_at(a + little, line, shape)[0] <= over_a or rise_at(b - little, line, shape)[0] <= over_b:
        return False  # no crest between them: highest against the line at one of both
    for _ in range(CREST_ROUNDS):
        third = (b - a) / 3
        left, right = rise_at(a + third, line, shape)[0], rise_at(b - third, line, shape)[0]
        if left > CLEARLY or right > CLEARLY:
            return True
        if left > right:
            b -= third
        else:
            a += third
    return False


@lean
def _facing(
    x: float,
    z: float,
    i: int,
    j: int,
    xs: FloatArray,
    ys: FloatArray,
    field: NDArray[np.float32],
    shape: Any,
    pose: Pose,
) -> float:
    """Cosine of the surface towards the sensor, 1 when horizontal: the light of a matt surface.

    Where the samples about it lie evenly, they say so; beside edges the surface itself is asked.
    """
    here, left, right = field[i, j], field[i, max(j - 1, 0)], field[i, min(j + 1, xs.size - 1)]
    below, above = max(i - 1, 0), min(i + 1, ys.size - 1)
    pitch_x, pitch_y = xs[1] - xs[0], max(ys[above] - ys[below], 1e-9) / 2
    gx, gy = (right - left) / (2.0 * pitch_x), (field[above, j] - field[below, j]) / (2.0 * pitch_y)
    bend_x, bend_y = right + left - 2.0 * here, field[above, j] + field[below, j] - 2.0 * here
    if abs(bend_x) < SMOOTH and abs(bend_y) < SMOOTH and abs(z - here) < abs(right - left) + SMOOTH:
        return 1.0 / math.sqrt(1.0 + gx * gx + gy * gy)
    a, y = pose.along, ys[i]
    line = line_of(x + y * a[0], y * a[1], z + y * a[2], 0.0, 0.0, 1.0, pose)
    # the belt is level; beside the part it stands for what is not there
    belt = line.z + line.ground * line.upright
    here_z = _height(line.x, line.y, belt, shape)
    on_face = abs(here_z - line.z) > SMOOTH
    slope_x = _slope(
        _height(line.x - BESIDE, line.y, belt, shape),
        here_z,
        _height(line.x + BESIDE, line.y, belt, shape),
        on_face,
    )
    slope_y = _slope(
        _height(line.x, line.y - BESIDE, belt, shape),
        here_z,
        _height(line.x, line.y + BESIDE, belt, shape),
        on_face,
    )
    r = pose.rotation
    upward: float = r[2, 2] - r[2, 0] * slope_x - r[2, 1] * slope_y
    return max(upward, 0.0) / math.sqrt(1.0 + slope_x * slope_x + slope_y * slope_y)


@lean
def _slope(before: float, here: float, after: float, on_face: bool) -> float:
    """Through three heights; at an edge that of its gentler side, on the face of a wall that of the wall."""
    first, second = (here - before) / BESIDE, (after - here) / BESIDE
    if on_face:
        return (first + second) / 2.0
    return first if abs(first) < abs(second) else second


@lean
def _height(x: float, y: float, belt: float, shape: Any) -> float:
    """The higher of part and belt, in the part's own coordinates."""
    height, _, element = surface_at(x, y, shape)
    higher: float = belt if element == 0 else max(height, belt)
    return higher


FAINTEST, SATURATED = 0.06, 3.0
"""Light below which no peak is found on the camera, and above which it may be found in the wrong place."""
SPIKE_SHARE, SPIKE_REACH = 0.35, 2.5
"""What shines throws a second reflection, up to so many mm off, and that is the stronger one in this share."""
GREY_PER_LIGHT = 200.0


@lean
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
    # fewer photons, more noise; beyond the nominal intensity speckle is left, which light does not reduce
    sigma = electronics.noise * (distance / optics.mid) ** 2 * math.sqrt(max(1.0, 0.5 / light))
    z += sigma * normal
    if light > SATURATED:
        ghost = z + SPIKE_REACH * (2.0 * _uniform(electronics.seed, draw, 4) - 1.0)
        stronger = _uniform(electronics.seed, draw, 3) < SPIKE_SHARE
        z = _chosen(z, ghost, stronger, optics.peaks, reference)
    return round(z / electronics.quantum) * electronics.quantum, max(grey, 1)


@lean
def _chosen(z: float, ghost: float, stronger: bool, peaks: int, reference: float) -> float:
    """The reflection that counts, of the true one and a ghost."""
    if peaks == HIGHEST:
        return max(z, ghost)
    if peaks == LOWEST:
        return min(z, ghost)
    if peaks == NEAREST and not np.isnan(reference):
        return ghost if abs(ghost - reference) < abs(z - reference) else z
    return ghost if stronger else z


@lean
def _uniform(seed: np.uint64, draw: np.uint64, stream: int) -> float:
    """A number in (0, 1) from the seed, the point and the stream alone (SplitMix64, Steele et al. 2014)."""
    h = seed * np.uint64(0x9E3779B97F4A7C15) + draw * np.uint64(8) + np.uint64(stream)
    h = (h ^ (h >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    h = (h ^ (h >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    h ^= h >> np.uint64(31)
    return (float(h >> np.uint64(11)) + 0.5) * (1.0 / 9007199254740992.0)
