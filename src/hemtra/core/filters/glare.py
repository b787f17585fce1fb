"""Points that glare: the light overran the camera there, and nothing of the part can look like them.

What shines throws a second reflection into the sensor, which then takes the wrong one of two peaks. Intensity
alone condemns nothing: a saturated point that agrees with its neighbours stays, and so does a burr that shines,
for its points agree with each other.
"""

from __future__ import annotations

import numpy as np

from hemtra.core.arrays import BoolArray, ByteArray, FloatArray, Heights, IntArray
from hemtra.core.compiled import compiled, lean
from hemtra.core.geometry.middle import middle_of

SATURATED = 255
"""Intensity at which the light has overrun the camera."""
PROFILES = 3
"""Profiles on which points stand off alike, from which on they are part of the part."""
BESIDE, ABOUT = 4, 12
"""Of the 8 neighbours of a place, and of the 24 in two rings, those that make it one of them."""
CHANCE = 3
"""Points that stand off alike by chance where as many about them glare."""
MOST = 20_000
"""Saturated points up to which glare is detected; more of them leave no surface to compare with."""
MIXED = 1 / 3
"""Share of the reach from which on a point of a spot with glare is a mixture of glare and surface."""
LOOKED_AT = 2
"""Points from a place up to which others support it."""
ROUNDS = 8
"""Number of passes: a point supported only by glare stands alone once that is removed."""


def glaring(z: Heights, intensity: ByteArray, reach: float, half: tuple[int, int]) -> BoolArray:
    """Mask of the points of a map (rows, cols) that are glare.

    Such a point is saturated or beside one that is, stands off by more than `reach` mm from the surface in the
    window of 2 `half` + 1 rows and columns about it, and is not supported. It is where it is connected to
    others that do so alike, within `reach`, on three profiles or by pairs on two, and where half of its
    neighbours stand off to the same side. What stands off by a part of the reach in the same spot of
    light is a mixture, and goes too.
    """
    found = np.zeros(z.shape, np.bool_)
    places = _about(np.column_stack(np.divmod(saturated(intensity), z.shape[1])), z)
    if not len(places):
        return found
    count = len(places)
    off, supported, gone = np.zeros(count), np.zeros(count, np.bool_), np.zeros(count, np.bool_)
    look = np.ones(count, np.bool_)
    for _ in range(ROUNDS):
        _stand_off(z, found, places, look, reach, half, (off, supported))
        more = (off > reach) & ~supported & ~gone
        if not more.any():
            break
        gone |= more
        found[tuple(places[more].T)] = True
        # elsewhere nothing has changed since
        look = _near(places, more, z.shape, half)
    if gone.any():
        look = np.ones(count, np.bool_)
        _stand_off(
            z, found, places, look, reach, (max(1, half[0] // 2), max(1, half[1] // 2)), (off, supported)
        )
        mixed = (off > MIXED * reach) & (off <= reach) & in_spots_of(places, gone)
        found[tuple(places[mixed].T)] = True
    return found


def saturated(intensity: ByteArray) -> IntArray:
    """(n,) where in a map the light has overrun the camera, counted along its rows."""
    found: IntArray = np.flatnonzero(intensity == SATURATED)
    return found


def _near(places: IntArray, chosen: BoolArray, shape: tuple[int, int], half: tuple[int, int]) -> BoolArray:
    """(n,) the places whose surroundings hold a chosen one."""
    near = np.zeros(shape, np.bool_)
    up, aside = max(half[0], LOOKED_AT), max(half[1], LOOKED_AT)
    for i, j in places[chosen].tolist():
        near[max(i - up, 0) : i + up + 1, max(j - aside, 0) : j + aside + 1] = True
    found: BoolArray = near[tuple(places.T)]
    return found


def _about(places: IntArray, z: Heights) -> IntArray:
    """(n, 2) the places that hold data among some of a map and their neighbours."""
    steps = np.argwhere(np.ones((3, 3))) - 1
    near = (places[:, None] + steps).reshape(-1, 2)
    near = near[((near >= 0) & (near < z.shape)).all(axis=1)]
    rows, cols = np.divmod(np.unique(near[:, 0] * z.shape[1] + near[:, 1]), z.shape[1])
    held = ~np.isnan(z[rows, cols])
    return np.column_stack([rows[held], cols[held]])


@compiled
def in_spots_of(places: IntArray, chosen: BoolArray) -> BoolArray:
    """(n,) which places (n, 2) are connected with a chosen one, also over corners; sorted by row."""
    top, left = places[0, 0], places[:, 1].min()
    rows, cols = places[-1, 0] - top + 1, places[:, 1].max() - left + 1
    number = np.full((rows, cols), -1, np.int32)
    waiting = np.empty(len(places), np.int32)
    found = chosen.copy()
    count = 0
    for n in range(len(places)):
        number[places[n, 0] - top, places[n, 1] - left] = n
        if chosen[n]:
            waiting[count] = n
            count += 1
    while count:
        count -= 1
        at = waiting[count]
        i, j = places[at, 0] - top, places[at, 1] - left
        for p in range(max(i - 1, 0), min(i + 2, rows)):
            for q in range(max(j - 1, 0), min(j + 2, cols)):
                n = number[p, q]
                if n >= 0 and not found[n]:
                    found[n] = True
                    waiting[count] = n
                    count += 1
    return found


@compiled
def _stand_off(
    z: Heights,
    left_out: BoolArray,
    places: IntArray,
    look: BoolArray,
    reach: float,
    half: tuple[int, int],
    found: tuple[FloatArray, BoolArray],
) -> None:
    """Find, for the places (n, 2) to look at, the mm by which they stand off from the surface about them.

    found: (n,) these mm, and whether others support a place that stands off by more than `reach`.

    The surface is the plane of the median slopes between neighbours and the median height: what glares lies on
    either side of it alike, so that these hold with more than half of the points far off.
    """
    rows, cols = z.shape
    off, supported = found
    most = (2 * half[0] + 1) * (2 * half[1] + 1)
    near, down, right = np.empty(most), np.empty(most), np.empty(most)
    for n in range(len(places)):
        if not look[n]:
            continue
        i, j = places[n]
        first, last = max(i - half[0], 0), min(i + half[0] + 1, rows)
        left, end = max(j - half[1], 0), min(j + half[1] + 1, cols)
        downs = rights = count = 0
        for p in range(first, last):
            for q in range(left, end):
                if np.isnan(z[p, q]) or left_out[p, q]:
                    continue
                if p + 1 < last and not np.isnan(z[p + 1, q]) and not left_out[p + 1, q]:
                    down[downs] = z[p + 1, q] - z[p, q]
                    downs += 1
                if q + 1 < end and not np.isnan(z[p, q + 1]) and not left_out[p, q + 1]:
                    right[rights] = z[p, q + 1] - z[p, q]
                    rights += 1
        slope_y = middle_of(down, downs) if downs else 0.0
        slope_x = middle_of(right, rights) if rights else 0.0
        for p in range(first, last):
            for q in range(left, end):
                if not np.isnan(z[p, q]) and not left_out[p, q]:
                    near[count] = z[p, q] - slope_y * (p - i) - slope_x * (q - j)
                    count += 1
        level = middle_of(near, count)
        off[n] = abs(level - z[i, j])
        # about this place: mm a row and a column, and the height from which something stands off
        surface = slope_y, slope_x, level - slope_y * i - slope_x * j
        supported[n] = off[n] > reach and _is_supported(z, left_out, (i, j), surface, reach)


@compiled
def _is_supported(
    z: Heights,
    left_out: BoolArray,
    place: tuple[int, int],
    surface: tuple[float, float, float],
    reach: float,
) -> bool:
    """Whether points that stand off alike are connected to a place on three profiles, or by pairs on two.

    One profile proves nothing, since resampling makes three alike of two that glare beside each other.
    """
    found = [place]
    first = 0
    for _ in range(2):
        last = len(found)
        for k in range(first, last):
            for at in _alike(z, left_out, found[k], surface, reach):
                if at not in found:
                    found.append(at)
        first = last
    counts = np.zeros(5, np.int64)
    for i, _ in found:
        counts[i - place[0] + 2] += 1
    if _stands_among_its_like(z, left_out, place, surface, reach):
        return True
    if len(found) <= CHANCE:
        # a point on each of three profiles, among others that have gone already, is one more chance
        i, j = place
        gone = left_out[max(i - 2, 0) : i + 3, max(j - 2, 0) : j + 3].sum()
        if gone >= CHANCE:
            return False
    return bool(np.count_nonzero(counts) >= PROFILES or np.count_nonzero(counts >= 2) >= 2)


@lean
def _stands_among_its_like(
    z: Heights,
    left_out: BoolArray,
    place: tuple[int, int],
    surface: tuple[float, float, float],
    reach: float,
) -> bool:
    """Whether enough of what is about a place stands off to the same side, as on a tip or a ridge.

    Among second reflections most neighbours lie on the surface, and the others to either side of it. Of the
    nearest, such as have gone already count as these; of those farther about, all count as they were seen.
    """
    i, j = place
    by_row, by_col, base = surface
    side = 1.0 if z[i, j] > base + by_row * i + by_col * j else -1.0
    beside = about = 0
    for p in range(max(i - 2, 0), min(i + 3, z.shape[0])):
        for q in range(max(j - 2, 0), min(j + 3, z.shape[1])):
            if (p == i and q == j) or not side * (z[p, q] - (base + by_row * p + by_col * q)) > reach:
                continue
            about += 1
            beside += abs(p - i) <= 1 and abs(q - j) <= 1 and not left_out[p, q]
    return beside >= BESIDE or about >= ABOUT


@compiled
def _alike(
    z: Heights,
    left_out: BoolArray,
    place: tuple[int, int],
    surface: tuple[float, float, float],
    reach: float,
) -> list[tuple[int, int]]:
    """Neighbours of a place that stand off from a surface by more than `reach` mm, as far as it but for that.

    surface: mm a row and a column, and the height of row and column 0.
    """
    i, j = place
    by_row, by_col, base = surface
    here = z[i, j] - (base + by_row * i + by_col * j)
    found = [(i, j) for _ in range(0)]
    for p in range(max(i - 1, 0), min(i + 2, z.shape[0])):
        for q in range(max(j - 1, 0), min(j + 2, z.shape[1])):
            if (p == i and q == j) or left_out[p, q]:
                continue
            there = z[p, q] - (base + by_row * p + by_col * q)
            if abs(there) > reach and abs(there - here) <= reach:
                found.append((p, q))
    return found
