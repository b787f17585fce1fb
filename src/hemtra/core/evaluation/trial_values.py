"""What a plan reads on a scan and on its copies, and the uncertainty of its rows that follows.

Copies with noise show how values scatter; those with fewer points, what the spacing does to them.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from typing import TypeAlias

import numpy as np
import scipy  # its parts load when they are used first

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.plan.budget import NEAR, Budget
from hemtra.core.plan.kind import Kind

MOST_OF_SCANS = 0.75
"""Share of the scans for which what the spacing does is enough; the others may show dirt, or lie oddly."""
FEWEST = 0.5
"""Share of the copies on which a value must be measured for its scatter to be known."""
DOUBLED = math.sqrt(2.0) - 1.0
"""What noise adds to the furthest of many grows by this share where as much is added; what it adds to
other values doubles."""
SURELY = 2.0
"""Standard errors from which on a shift of the mean is one."""
FAR_OFF = 4.0
"""Standard deviations from which on a value on one copy is not counted."""
CLEARLY_FASTER, BY_CHANCE = 3.0, 1e-3
"""Least excess over proportional growth with the spacing that counts, and how seldom chance may reach it."""
SMOOTH = 2.0
"""Order of convergence from which on what is measured is smooth."""
WHOLE = 2.0
"""Least power of the spacing with which it misplaces edges that the points see whole: where lines of points
cross a wall of a given width, that vanishes far faster still, like a Gaussian of its width in spacings."""
NUDGE = 1e-3
"""Share by which a scale is changed to see what it does."""
THINNED: tuple[tuple[int, int, int, int], ...] = (
    *((i, j, n, n) for n in (2, 3) for i in range(n) for j in range(n)),
    *((i, 0, 2, 1) for i in range(2)),
    *((0, j, 1, 2) for j in range(2)),
)
"""First row and column, and every how many of each, of the copies that show what the spacing does.

The last are thinner one way only, for what is too narrow to be found on the others.
"""
Ends: TypeAlias = FloatArray
"""(rows, 2) least and greatest value of each row, twice the same where it has one, NaN without."""


@dataclass(frozen=True)
class Look:
    """A scan and what its copies give.

    ends: (1 + copies, rows, 2), of the scan as it is and by `THINNED`. free, fixed: (copies, rows, 2) with
    noise, the anchors found anew, and held where they are. rooms: (rows,) mm by which the edges that a row
    rests on may lie off; whole: (rows,) whether it rests on edges alone, and the points see each of
    them whole. floors: (rows,) what a perfect part would read of a value of form, with the noise of the first
    scan; 0 of others.
    """

    ends: FloatArray
    free: FloatArray
    fixed: FloatArray
    rooms: FloatArray
    whole: BoolArray
    floors: FloatArray


@dataclass(frozen=True)
class Copies:
    """(copies, 2) what a row gives on copies of a scan, and (2,) on the scan itself."""

    values: FloatArray
    here: FloatArray

    @property
    def known(self) -> FloatArray:
        """Those that have a value."""
        known: FloatArray = self.values[~np.isnan(self.values).any(axis=1)]
        return known


@dataclass(frozen=True)
class Tried:
    """The ends of all rows on some scans and on their copies.

    looks: of each scan. scaled: (rows, 2) on the first with one of the scales larger by `NUDGE`, and the
    standard uncertainty of that scale as a share. moved: (copies, rows, 2) on the first with every edge
    anywhere in its room. kinds: (rows,) of their steps. middles: (rows,) median of those that have many values
    on the first, NaN of the others. smooth: (rows,) whether these come from sections of something smooth.
    """

    looks: Sequence[Look]
    scaled: Sequence[tuple[Ends, float]]
    moved: FloatArray
    kinds: Sequence[Kind | None]
    middles: FloatArray
    smooth: BoolArray

    def budget(self, n: int, *, outward: bool, length: bool = False) -> Budget | None:
        """Noise of the n-th row; None where too many copies have no value.

        outward: whether it is the furthest of many, besides what its kind says. length: whether it is that of
        two coordinates.
        """
        kind, here = self.kinds[n], self.looks[0].ends[0, n]
        outward = outward or (kind is not None and kind.outward)
        length = length and not outward
        there = [look for look in self.looks if not np.isnan(look.ends[0, n]).any()]
        free = [Copies(look.free[:, n], look.ends[0, n]) for look in there]
        scatter = _scatter(free, length)
        held = _scatter([Copies(look.fixed[:, n], look.ends[0, n]) for look in there], length)
        noise = min(scatter, held) if held == held else scatter
        # thinner maps find their anchors anew, too
        spaced = self._spacing(n, scatter, length)
        if math.isnan(noise) or spaced is None:
            return None
        slopes = [float(np.abs(ends[n] - here).max()) / NUDGE * share for ends, share in self.scaled]
        return Budget(
            noise=noise,
            anchors=math.sqrt(max(scatter**2 - noise**2, 0.0)),
            sampling=spaced[0],
            phase=spaced[1],
            calibration=math.hypot(*(slope for slope in slopes if slope == slope)),
            form=_floor(free, DOUBLED if outward else 1.0, float(self.middles[n])),
            outward=outward,
        )

    def _spacing(self, n: int, noise: float, length: bool) -> tuple[float, float] | None:
        """Shares of spacing and phase for a row, as standard uncertainties; None where no thinner map has it.

        What the spacing does shrinks with it as the kind says (`Kind.convergence`), or faster where that shows.
        How far values on maps of other points lie apart shrinks in proportion, or faster where a rim crosses
        the grid in all directions, and counts for the edges as they lie on the first scan; maps of fewer points
        scatter by more noise.
        """
        off: list[float] = []
        apart: list[float] = []
        thinner = [(look, _thinner(look, n)) for look in self.looks]
        kind = self.kinds[n]
        own = order = 1.0 if kind is None else kind.convergence
        power = max(1.0, own - 1.0)
        # of sheer edges the few thinner maps may happen to agree; what is smooth hardly rests on them
        if own >= SMOOTH or not any(look.rooms[n] > 0.0 for look in self.looks):
            order = max(own, _shown_order(thinner, n, noise, own))
            # where that shows, what the phase does shrinks by one power less than what the spacing does
            power = max(_shown_power(thinner, noise), order - 1.0)
            if all(look.whole[n] for look in self.looks):
                order, power = max(order, WHOLE), max(power, WHOLE)
        # many values say together how fast their ends come nearer to each other, whatever their anchors do
        spreading = max(order, SMOOTH if self.smooth[n] else 1.0, _shown_spreading(thinner, n))
        for look, found in thinner:
            if not found:
                continue
            every, values = next(iter(found.items()))
            middle, apart_by = _off(look, n, values, every)
            off.append(middle / (every**order - 1.0) + apart_by / (every**spreading - 1.0))
            used = {k: v for k, v in found.items() if k == every or order <= own}
            about = look.ends[0, n] if length else None
            left = [
                np.maximum(_variance(v, about) - (k * noise) ** 2, 0.0) / k ** (2.0 * power)
                for k, v in used.items()
            ]
            weights = [len(v) - 1 for v in used.values()]
            spread = math.sqrt(float(np.average(left, axis=0, weights=weights).max()))
            first, here = self.looks[0].rooms[n], look.rooms[n]
            apart.append(spread * first / here if first > 0.0 and here > 0.0 else spread)
        if not off:
            return None
        usual, scatter = (float(np.quantile(found, MOST_OF_SCANS)) for found in (off, apart))
        # where edges run along the grid the few thinner maps may all happen to agree
        # these are spread evenly, so that none are needed for chance
        moved = _scatter([Copies(self.moved[:, n], self.looks[0].ends[0, n])], length, drawn=False)
        even = 1.0 if kind is not None and kind.adds_up else math.sqrt(3.0)
        return usual / even, max(scatter, float(np.nan_to_num(moved)))


def _thinner(look: Look, n: int) -> dict[int, FloatArray]:
    """By every how many rows and columns, (k, 2) what the n-th row gives there; nothing where too few do."""
    found = {}
    for every in (2, 3):
        values = _measured(look.ends, n, (every, every))
        if len(values) >= every:
            found[every] = values
    if not found:
        both = np.concatenate([_measured(look.ends, n, way) for way in ((2, 1), (1, 2))])
        found = {2: both} if len(both) > 1 else {}
    return {} if np.isnan(look.ends[0, n]).any() else found


def _off(look: Look, n: int, values: FloatArray, every: int) -> tuple[float, float]:
    """By how much the n-th row lies off on maps of every second or third point, (k, 2) values.

    Of many values, by how much the middle of their ends does, and by how much farther these lie from it. To
    leading order, maps that are thinner one way only lie off by as much together. These are nearer to the
    map as it is, but hide what the nearer of their points do; so the mean of both counts. The least and the
    greatest of many values do not add up so.
    """
    here = look.ends[0, n]
    low, high = (values.mean(axis=0) - here).tolist()
    if here[0] != here[1]:
        return abs(low + high) / 2.0, abs(high - low) / 2.0
    both = max(abs(low), abs(high))
    ways = [_measured(look.ends, n, way) for way in ((2, 1), (1, 2))]
    if every != 2 or not all(len(way) for way in ways):
        return both, 0.0
    return (both + float(np.abs(sum(way.mean(axis=0) - here for way in ways)).max())) / 2.0, 0.0


def _shown_spreading(thinner: Sequence[tuple[Look, Mapping[int, FloatArray]]], n: int) -> float:
    """Order of convergence, 1 to 4, of how far the ends of many values lie apart; 1 if maps do not show it."""
    both = [(look, found) for look, found in thinner if {2, 3} <= found.keys()]
    second, third = (sum(_off(look, n, found[k], k)[1] ** 2 for look, found in both) for k in (2, 3))
    return _observed_order(math.sqrt(third / second)) if second > 0.0 else 1.0


def _shown_order(
    thinner: Sequence[tuple[Look, Mapping[int, FloatArray]]], n: int, noise: float, own: float
) -> float:
    """Order of convergence that a row's values on thinner maps clearly show, at most 4; 1 if none.

    Where edges are wide enough for the points to see them whole, values of every third point lie off, or apart,
    but those of every second hardly do; every third then says nothing of all. Of what is smooth, so that its
    `own` order is 2 or more, the observed order is taken as it is (Roache 1994).
    """
    both = [(look.ends[0, n], found) for look, found in thinner if {2, 3} <= found.keys()]
    if not both:
        return 1.0

    def usual(size: Callable[[FloatArray, FloatArray], float], every: int) -> float:
        return math.sqrt(float(np.mean([size(found[every], whole) ** 2 for whole, found in both])))

    def off(values: FloatArray, whole: FloatArray) -> float:
        return float(np.abs(values.mean(axis=0) - whole).max())

    def apart(values: FloatArray, whole: FloatArray) -> float:
        return float(values.std(axis=0, ddof=1).max())

    def by_chance(values: FloatArray, whole: FloatArray) -> float:
        return apart(values, whole) / math.sqrt(len(values))

    surely = math.sqrt(max(usual(off, 3) ** 2 - usual(by_chance, 3) ** 2, 0.0))
    observed = _observed_order(surely / max(usual(off, 2), usual(by_chance, 2), noise, 1e-15))
    if observed >= 3.0 or own >= SMOOTH:
        return observed
    left = math.sqrt(max((usual(apart, 3) / 3.0) ** 2 - noise**2, 0.0))
    return 2.0 if left > _clearly_faster(len(both)) * usual(apart, 2) / 2.0 else 1.0


@cache
def _clearly_faster(scans: int) -> float:
    """Excess over proportional growth of how far values on thinner maps lie apart that is no chance."""
    of_third, of_second = (scans * (k * k - 1) for k in (3, 2))
    return max(CLEARLY_FASTER, math.sqrt(float(scipy.special.fdtri(of_third, of_second, 1.0 - BY_CHANCE))))


def _shown_power(thinner: Sequence[tuple[Look, Mapping[int, FloatArray]]], noise: float) -> float:
    """Power of the spacing with which values on maps of other points come nearer to each other, 1 to 1.5.

    1 where a rim runs along the grid; 1.5 where it crosses it in all directions, so that the errors of its
    points are independent of each other.
    """
    both = [found for _, found in thinner if {2, 3} <= found.keys()]
    if not both:
        return 1.0
    second, third = (
        max(float(np.mean([found[k].var(axis=0, ddof=1).max() for found in both])) - (k * noise) ** 2, 0.0)
        for k in (2, 3)
    )
    if second <= 0.0 or third <= 0.0:
        return 1.0
    return min(max(math.log(third / second) / (2.0 * math.log(1.5)), 1.0), 1.5)


def _observed_order(ratio: float) -> float:
    """Order p, from 1 to 4, with which (3^p - 1) / (2^p - 1) is the ratio of the deviations."""
    orders = np.linspace(1.0, 4.0, 61)
    return float(np.interp(ratio, (3.0**orders - 1.0) / (2.0**orders - 1.0), orders))


def _measured(ends: FloatArray, n: int, thinner: tuple[int, int]) -> FloatArray:
    """(k, 2) what the n-th row gives on those of a scan's thinner maps that have it."""
    values = ends[[1 + k for k, way in enumerate(THINNED) if way[2:] == thinner], n]
    known: FloatArray = values[~np.isnan(values).any(axis=1)]
    return known


def _scatter(groups: Sequence[Copies], length: bool, *, drawn: bool = True) -> float:
    """Standard deviation of copies about the mean of those of their scan, the larger of both ends.

    NaN where too few were measured. length: as for `_variance`. drawn: whether copies are drawn at random; then
    it is a standard error more than they show, since a value is known no better for few that happen to agree.
    """
    known, many = sum(len(one.known) for one in groups), sum(len(one.values) for one in groups)
    several = [one for one in groups if len(one.known) > 1]
    if not several or known < max(2.0, FEWEST * many):
        return math.nan
    weights = [len(one.known) - 1 for one in several]
    both = [
        np.average(
            [
                _variance(found, one.here if length else None).max()
                for one, found in zip(several, usual, strict=True)
            ],
            weights=weights,
        )
        for usual in (_usual(several, end) for end in (0, 1))
    ]
    return math.sqrt(float(max(both))) * (1.0 + drawn / math.sqrt(2.0 * sum(weights)))


def _usual(groups: Sequence[Copies], end: int) -> list[FloatArray]:
    """The least or greatest values of each scan, without single ones far off.

    In a copy, rougher than a scan, something may be found by chance.
    """
    known = [one.known[:, end] for one in groups]
    off = [np.abs(values - np.median(values)) for values in known]
    reach = FAR_OFF * 1.4826 * float(np.median(np.concatenate(off)))
    near = [values[far <= reach] for values, far in zip(known, off, strict=True)]
    return [some if len(some) > 1 else every for some, every in zip(near, known, strict=True)]


def _variance(values: FloatArray, about: FloatArray | None) -> FloatArray:
    """Variance of (copies, ...) values; of what is a length on the scan, about (2,), that of its coordinates.

    A length near zero scatters by less than the coordinates that it is made of, which the mean of its squares
    shows: each adds its variance to that.
    """
    own: FloatArray = np.asarray(values.var(axis=0, ddof=1))
    if about is None or about[0] ** 2 > NEAR**2 * own.max():
        return own
    of_each: FloatArray = np.maximum(own, (np.mean(values**2, axis=0) - about[0] ** 2) / 2.0)
    return of_each


def _floor(groups: Sequence[Copies], grows: float, middle: float) -> float:
    """Standard uncertainty that noise alone adds to a value; 0 where its mean does not move.

    grows: share by which that is more with twice the variance. middle: median of many values; noise pushed the
    furthest of them no farther than they lie from it, though copies that are rougher than the scan may say so.
    """
    added, there = 0.0, [one for one in groups if len(one.known)]
    for end in (0, 1):
        usual = _usual(there, end)
        moved = [values - one.here[end] for values, one in zip(usual, there, strict=True)]
        many = sum(map(len, moved))
        if many == len(moved):
            continue
        scatter = math.sqrt(sum(len(found) * float(found.var()) for found in moved) / (many - len(moved)))
        if abs(float(np.concatenate(moved).mean())) > SURELY * scatter / math.sqrt(many):
            # as for the scatter, a standard error more than they show
            shifts = [abs(float(found.mean())) for found in moved]
            added = max(added, float(np.quantile(shifts, MOST_OF_SCANS)) + scatter / math.sqrt(many))
    first = groups[0].here
    most = math.inf if math.isnan(middle) else float(np.abs(first - middle).max())
    return min(added / grows, most) / math.sqrt(3.0)
