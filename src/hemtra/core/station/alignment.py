"""Alignment: several sensors brought into one frame by one scan of a target of known geometry."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, TypeAlias

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.station.calibration import Calibration
from hemtra.core.station.target import Target


@dataclass(frozen=True)
class AlignRules:
    """Numbers that steer the fit, each with its reason."""

    search: float = 8.0
    """Largest distance of a sensor from its drawn place, and of the target from its expected one, mm."""
    search_step: float = 1.0
    """Distance between the places tried first, mm; less than the width of a flank."""
    coarse_points: int = 2_500
    points: int = 40_000
    """Points of each sensor in the fit; more would only be slower."""
    rounds: int = 30
    settled: float = 1e-7
    """Last change at which the fit has settled, mm and degrees."""
    trim: float = 3.0
    """Root mean squares beyond which a point is a spike, or of something else than the target."""
    first_trim: float = 1.5
    """Distance beyond which a point is left out at first, mm: a flank is that far off while its sensor is."""
    narrowing: float = 0.6
    """Factor by which that shrinks from round to round, until it reaches the noise."""
    tries: int = 4
    """Fits from other places, where one turns out to lie better once it is known how the sensors are turned."""
    least_share: float = 95.0
    """Minimum percentage of the points on the target for a valid fit."""
    worst: float = 0.1
    """Residual above which it was not this target, mm."""
    least_points: int = 1_000
    farthest: float = 40.0
    """Largest plausible correction, mm and degrees."""


RULES = AlignRules()
ABOVE_BASE = 0.5
"""Height above the base of a target from which on a point belongs to its pieces, mm."""
Place: TypeAlias = tuple[float, float, float]
OWN = ("x", "y", "z", "roll", "yaw", "lean")
"""Parameters found for each sensor."""
DEGREES = frozenset({"roll", "yaw", "lean"})


@dataclass(frozen=True)
class Aligned:
    """A sensor's calibration, and the residual between its points and the target, in mm."""

    calibration: Calibration
    rms: float
    mean: float
    points: int
    share: float = 1.0
    """Share of its points on the target that the fit kept, 0 to 1."""


@dataclass(frozen=True)
class Alignment:
    """All sensors in one frame, and how the target lay: turned by degrees, and climbing along travel."""

    sensors: tuple[Aligned, ...]
    turned: float
    climb: float


def align(
    clouds: Sequence[FloatArray],
    drawn: Sequence[float],
    target: Target,
    now: Sequence[Calibration],
    rules: AlignRules = RULES,
) -> Alignment:
    """Calibrations under which what all sensors saw lies on the target, by least squares.

    clouds: per sensor (n, 3) points as it gave them, y along travel; drawn: x in mm where each is drawn. The
    distance of every point from the target's surface is made small by Gauss-Newton steps over x, y, z, roll,
    yaw and lean of every sensor and, shared by all, how the target lies turned on the belt and how the travel
    climbs; scales are kept. Starts from the best of places on a grid, and, once it is known how the sensors are
    turned, looks for a better one again: steps of a target look alike to a sensor that leans. Raises
    `NotMeasured` when a sensor does not see the target, or when too many of its points lie off it.
    """
    rng = np.random.default_rng(0)
    chosen, starts = [], []
    for number, (cloud, x, kept) in enumerate(zip(clouds, drawn, now, strict=True), start=1):
        seen = _valid(cloud, number, rules)
        gains = {"gain_x": kept.gain_x, "gain_z": kept.gain_z}
        starts.append(_start(seen, x, target, gains, number, rules, rng))
        few = rng.permutation(len(seen))[: rules.points]
        chosen.append(seen[few])
    fit = _Fit(chosen, drawn, target, starts, rules)
    fit.run()
    for _ in range(rules.tries):
        moves = [_better(fit.placed(k), target, rules, rng) for k in range(len(chosen))]
        if not any(np.hypot(dx, dy) > rules.search_step for dx, dy, _ in moves):
            break
        fit.restart(moves)
        fit.run()
    found = tuple(fit.result(k) for k in range(len(chosen)))
    # sensors share how the target lies, so one that does not see it spoils the others a little, itself most
    worst = max(range(len(found)), key=lambda k: found[k].rms)
    if found[worst].rms > rules.worst or found[worst].points < rules.least_points:
        raise NotMeasured(
            f"sensor {worst + 1} does not see the {target.name} as it is drawn: {found[worst].rms:.2f} mm are"
            " left; lay it under all sensors, along the laser lines, and scan all of it"
        )
    least = min(range(len(found)), key=lambda k: found[k].share)
    share = 100.0 * found[least].share
    if share < rules.least_share:
        raise NotMeasured(
            f"only {share:.0f} % of what sensor {least + 1} sees of the {target.name} lies on it, and"
            f" {rules.least_share:g} % are needed; level the sensors first, lay it along the laser lines, and"
            " keep other objects out of view"
        )
    return Alignment(found, float(fit.shared[0]), float(fit.shared[1]))


@dataclass(frozen=True)
class Disagreement:
    """Largest difference between two alignments of the same sensors: mm and degrees."""

    distance: float
    angle: float


def disagreement(one: Alignment, other: Alignment) -> Disagreement:
    """Difference of two scans between which only the target was moved.

    Where the target lies is common to all sensors and says nothing of them, so their mean shift is taken out; a
    sensor that was put on the wrong step of the target is not where it was once the target lies otherwise.
    """
    pairs = [(a.calibration, b.calibration) for a, b in zip(one.sensors, other.sensors, strict=True)]
    moved = np.array([(b.x - a.x, b.y - a.y, b.z - a.z) for a, b in pairs])
    turned = np.array([(b.roll - a.roll, b.yaw - a.yaw, b.lean - a.lean) for a, b in pairs])
    off = np.linalg.norm(moved - moved.mean(axis=0), axis=1)
    return Disagreement(float(off.max()), float(np.abs(turned).max()))


def _valid(cloud: FloatArray, number: int, rules: AlignRules) -> FloatArray:
    seen = cloud[~np.isnan(cloud[:, 2])]
    if len(seen) < rules.least_points:
        raise NotMeasured(f"sensor {number} sees nothing; check its exposure, its band and its stand-off")
    return seen


def _start(
    seen: FloatArray,
    x: float,
    target: Target,
    gains: dict[str, float],
    number: int,
    rules: AlignRules,
    rng: np.random.Generator,
) -> Calibration:
    """Best position of a sensor's points on the target, on a grid of places."""
    above = seen[seen[:, 2] > np.quantile(seen[:, 2], 0.02) + 2.0]
    if len(above) < rules.least_points:
        raise NotMeasured(f"sensor {number} does not see the {target.name}; lay it under all sensors")
    few = above[rng.permutation(len(above))[: rules.coarse_points]] + np.array([x, 0.0, 0.0])
    best = _best_place(few, target, rules)
    if best is None:
        raise NotMeasured(f"sensor {number} does not see the {target.name} where it should lie")
    return Calibration(x=best[0], y=best[1], z=best[2], **gains)


def _better(placed: FloatArray, target: Target, rules: AlignRules, rng: np.random.Generator) -> Place:
    """Shift of points (n, 3), as placed on the target, that fits it best."""
    few = placed[rng.permutation(len(placed))[: rules.coarse_points // 4]]
    return _best_place(few, target, rules) or (0.0, 0.0, 0.0)


def _best_place(few: FloatArray, target: Target, rules: AlignRules) -> Place | None:
    """Best position of points (n, 3) on the target, on a grid: mm along x, y and z; None without one."""
    steps = np.arange(-rules.search, rules.search + rules.search_step / 2, rules.search_step)
    best, least = None, math.inf
    for dx in steps:
        for dy in steps:
            off = few[:, 2] - target.height(few[:, 0] + dx, few[:, 1] + dy)
            on = ~np.isnan(off)
            if np.count_nonzero(on) < len(few) / 2:
                continue
            middle = float(np.median(off[on]))
            # places beside the target count as badly missed
            cost = float(np.mean(np.minimum(np.abs(off[on] - middle), 2.0))) + 2.0 * float(np.mean(~on))
            if cost < least:
                best, least = (float(dx), float(dy), -middle), cost
    return best


class _Fit:
    """Gauss-Newton over all sensors at once; `shared` is how the target lies turned and how travel climbs."""

    def __init__(
        self,
        clouds: Sequence[FloatArray],
        drawn: Sequence[float],
        target: Target,
        starts: Sequence[Calibration],
        rules: AlignRules,
    ) -> None:
        self.clouds, self.drawn, self.target, self.rules = clouds, drawn, target, rules
        self.own = [np.array([getattr(start, name) for name in OWN]) for start in starts]
        self.gains = [(start.gain_x, start.gain_z) for start in starts]
        self.shared = np.zeros(2)
        self.limit = rules.first_trim

    def calibration(self, k: int, own: FloatArray, shared: FloatArray) -> Calibration:
        """The calibration that parameters stand for."""
        gain_x, gain_z = self.gains[k]
        named: dict[str, Any] = dict(zip(OWN, map(float, own), strict=True))
        return Calibration(**named, pitch=float(shared[1]), gain_x=gain_x, gain_z=gain_z)

    def distances(self, k: int, own: FloatArray) -> FloatArray:
        """Distance in mm of the points of sensor k from the target's surface; NaN beside it."""
        x, y, z = self._on_target(self.clouds[k], k, own, self.shared)
        off: FloatArray = (z - self.target.height(x, y)) / self._steep(x, y)
        return off

    def _on_target(
        self, cloud: FloatArray, k: int, own: FloatArray, shared: FloatArray
    ) -> tuple[FloatArray, FloatArray, FloatArray]:
        """Where points of sensor k lie on the target."""
        placed = self.calibration(k, own, shared).applied(cloud) + np.array([self.drawn[k], 0.0, 0.0])
        c, s = math.cos(math.radians(shared[0])), math.sin(math.radians(shared[0]))
        return c * placed[:, 0] + s * placed[:, 1], c * placed[:, 1] - s * placed[:, 0], placed[:, 2]

    def _steep(self, x: FloatArray, y: FloatArray) -> FloatArray:
        """Height per distance from the surface."""
        slope_x, slope_y = self.target.slopes(x, y)
        steep: FloatArray = np.sqrt(1.0 + slope_x**2 + slope_y**2)
        return steep

    def placed(self, k: int) -> FloatArray:
        """(n, 3) points of sensor k above the base, as they lie on the target now."""
        at = self.calibration(k, self.own[k], self.shared).applied(self.clouds[k])
        at = self._turned(at + np.array([self.drawn[k], 0.0, 0.0]))
        found: FloatArray = at[at[:, 2] > self.target.base + ABOVE_BASE]
        return found if len(found) >= self.rules.least_points else at

    def _turned(self, at: FloatArray) -> FloatArray:
        c, s = math.cos(math.radians(self.shared[0])), math.sin(math.radians(self.shared[0]))
        return np.column_stack([c * at[:, 0] + s * at[:, 1], c * at[:, 1] - s * at[:, 0], at[:, 2]])

    def restart(self, moves: Sequence[Place]) -> None:
        """Begin again with each sensor moved on the target, turned as it was found."""
        for own, (dx, dy, dz) in zip(self.own, moves, strict=True):
            own[:3] += dx, dy, dz
        self.limit = self.rules.first_trim

    def run(self) -> None:
        """Step until nothing changes any more."""
        rules = self.rules
        for _ in range(rules.rounds):
            change = self._step()
            left = [off[used] for off, used in (self._used(k, own) for k, own in enumerate(self.own))]
            noise = max(math.sqrt(float(np.mean(off**2))) if off.size else rules.first_trim for off in left)
            narrower = min(self.limit, max(self.limit * rules.narrowing, rules.trim * noise))
            if change < rules.settled and narrower == self.limit:
                break
            self.limit = narrower

    def _step(self) -> float:
        size = len(OWN) * len(self.own) + 2
        normal, right = np.zeros((size, size)), np.zeros(size)
        for k, own in enumerate(self.own):
            off, used = self._used(k, own)
            columns = self._derivatives(k, own, used)
            at = [*range(k * len(OWN), (k + 1) * len(OWN)), *range(size - 2, size)]
            good = ~np.isnan(columns).any(axis=1)
            a, r = columns[good], off[used][good]
            normal[np.ix_(at, at)] += a.T @ a
            right[at] += a.T @ r
        change = -np.linalg.lstsq(normal, right, rcond=1e-12)[0]
        for k, own in enumerate(self.own):
            own += change[k * len(OWN) : (k + 1) * len(OWN)]
        self.shared += change[-2:]
        lost = [k for k, own in enumerate(self.own) if np.abs(own).max() > self.rules.farthest]
        if lost or np.abs(self.shared).max() > self.rules.farthest:
            which = f"sensor {lost[0] + 1}" if lost else "one of the sensors"
            raise NotMeasured(f"{which} does not see the {self.target.name} as it is drawn; lay it straight")
        return float(np.abs(change).max())

    def _used(self, k: int, own: FloatArray) -> tuple[FloatArray, BoolArray]:
        """Distances, and which points are of the target."""
        off = self.distances(k, own)
        on = ~np.isnan(off)
        if not on.any():
            raise NotMeasured(f"sensor {k + 1} no longer sees the {self.target.name}")
        return off, on & (np.abs(np.where(on, off, np.inf)) < self.limit)

    def _derivatives(self, k: int, own: FloatArray, used: BoolArray) -> FloatArray:
        """(n, 8) by central differences, small against any flank, which is as steep at both ends of them."""
        cloud, columns = self.clouds[k][used], []
        steep = self._steep(*self._on_target(cloud, k, own, self.shared)[:2])
        for j in range(len(OWN) + 2):
            h = 0.02 if j < len(OWN) and OWN[j] not in DEGREES else 0.01
            ends = []
            for side in (h, -h):
                moved, shared = own.copy(), self.shared.copy()
                if j < len(OWN):
                    moved[j] += side
                else:
                    shared[j - len(OWN)] += side
                x, y, z = self._on_target(cloud, k, moved, shared)
                ends.append(z - self.target.height(x, y))
            columns.append((ends[0] - ends[1]) / (2 * h * steep))
        return np.column_stack(columns)

    def result(self, k: int) -> Aligned:
        """The result for sensor k."""
        off, used = self._used(k, self.own[k])
        left = off[used]
        rms = math.sqrt(float(np.mean(left**2)))
        share = left.size / max(int(np.count_nonzero(~np.isnan(off))), 1)
        calibration = self.calibration(k, self.own[k], self.shared)
        return Aligned(calibration, rms, float(np.mean(left)), left.size, share)


@dataclass(frozen=True)
class OverlapError:
    """Agreement of two sensors on a plate both see: mean step in mm, its tilt in degrees, rms, and points."""

    step: float
    tilt: float
    rms: float
    points: int


def seam_between(left: HeightMap, right: HeightMap) -> OverlapError:
    """The seam of two maps on one grid. Raises `NotMeasured` where they do not overlap."""
    both = ~np.isnan(left.z) & ~np.isnan(right.z)
    rows, cols = np.nonzero(both)
    if rows.size < 100:
        raise NotMeasured("the two sensors have no data in common; mount them closer together")
    off = right.z[both].astype(np.float64) - left.z[both]
    usual = float(np.median(off))
    kept = np.abs(off - usual) <= max(6 * float(np.median(np.abs(off - usual))), 1e-6)
    off, x = off[kept], cols[kept] * left.grid.dx
    step, centred = float(np.mean(off)), x - x.mean()
    spread = float(centred @ centred)
    tilt = math.degrees(math.atan(float(centred @ off) / spread)) if spread > 0 else 0.0
    return OverlapError(step, tilt, float(np.std(off)), off.size)
