"""The uncertainty of every value of a plan, worked out by trying it on copies of scans (JCGM 101).

Some copies have noise like the scan's added, so that values scatter as they would from scan to scan; others
hold every second or third of its points only, which shows what the spacing does to them; in others a scale of
the station is larger. On a part of a running line what was worked out is scaled by the noise and the edges of
that part (`Budget.on`).
"""

from __future__ import annotations

import math
import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import partial
from typing import Any, TypeAlias

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.detection.margin_kernels import WIDE
from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.form_floor import form_floor
from hemtra.core.evaluation.known_to import edge_room, edges_of, method, room_of
from hemtra.core.evaluation.results import Result, StepResult
from hemtra.core.evaluation.rows import unseen_share
from hemtra.core.geometry.elements import Circle, Line
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.noise import Noise, noise_of
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.budget import NEAR, Budget
from hemtra.core.plan.document import Plan
from hemtra.core.plan.graph import effective
from hemtra.core.plan.kind import Kind
from hemtra.core.plan.limits import CharacteristicResult
from hemtra.core.plan.registry import kind_named
from hemtra.core.progress import Progress
from hemtra.core.station.scale_uncertainty import ScaleUncertainty

COPIES, HELD, MOVED = 64, 16, 24
"""Copies with noise, those on which the anchors are held where they are, and those with moved edges."""
MOST_SCANS = 8
"""Scans that show what the spacing does; each shows the part to the grid in another way."""
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
CLEARLY_FASTER = 3.0
"""Excess over proportional growth with the spacing from which on it is no chance."""
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
class Scales:
    """Standard uncertainty of the scales of a station, as shares; 0 where it is not known."""

    x: float = 0.0
    y: float = 0.0
    z: float = 0.0

    @classmethod
    def of(cls, snapshot: Mapping[str, Any]) -> Scales:
        """Scale uncertainty of the station the scan was taken with."""
        stated = ScaleUncertainty.of(snapshot)
        return cls(stated.x / 100.0, stated.y / 100.0, stated.z / 100.0)


def budgets(
    plan: Plan,
    scans: Sequence[HeightMap],
    scales: Scales | None = None,
    *,
    copies: int = COPIES,
    seed: int = 0,
    progress: Progress = lambda done, of, what: True,
) -> dict[Balloon, Budget]:
    """By balloon, the budget of each row whose uncertainty can be worked out from scans.

    scans: the first is the reference scan; the others lie as parts do. Nothing where `progress` asks to stop.
    Raises `PlanError` when the plan does not hold, and `HemtraError` without a scan.
    """
    if not scans:
        raise HemtraError("Uncertainty is worked out on scans; add that of a good part.")
    scans = scans[:MOST_SCANS]
    engine = Engine(scans[0])
    first = engine.run(plan)
    rows = [row.balloon for row in first.characteristics]
    noise = noise_of(scans[0])
    held = {i: first.steps[i] for i in _anchors(plan) if i in first.steps}
    work: list[Callable[[], Ends]] = []
    work += [partial(_with_noise, plan, scans[0], noise, rows, {}, (seed, k)) for k in range(copies)]
    fixed = [
        partial(_with_noise, plan, scans[0], noise, rows, held, (seed, k)) for k in range(min(HELD, copies))
    ]
    stretched = {axis: share for axis, share in vars(scales or Scales()).items() if share > 0.0}
    work += [*fixed, *(partial(_stretched, plan, scans[0], rows, axis) for axis in stretched)]
    edges = {i: one for i, one in first.steps.items() if room_of(one) > 0.0}
    still = {i: one for i, one in first.steps.items() if i not in _resting_on(plan, set(edges))}
    moved = [partial(_moved, plan, scans[0], rows, still, edges, (seed, k)) for k in range(MOVED * bool(edges))]
    work += moved
    work += [partial(_thinned, plan, scan, rows, way) for scan in scans for way in THINNED]
    all_ends = _all(work, progress)
    if all_ends is None:
        return {}
    found = iter(all_ends)
    free = np.array([next(found) for _ in range(copies)])
    tried = Tried(
        here=_ends(first, rows),
        free=free,
        fixed=np.array([next(found) for _ in fixed]),
        scaled=[(next(found), share) for share in stretched.values()],
        moved=np.array([next(found) for _ in moved]).reshape(-1, len(rows), 2),
        looks=[_looked(plan, scan, rows, found, noise.typical) for scan in scans],
        kinds=[_kind(plan, row.step) for row in first.characteristics],
    )
    result, asked = {}, {row.balloon: row for row in plan.sheet}
    for n, row in enumerate(first.characteristics):
        if row.value is None or row.text or row.step not in first.steps:
            continue
        # cells at the rim of a zone hold more or fewer points as the part lies
        floor = float(max(look.floors[n] for look in tried.looks))
        outward = floor > 0.0 or row.least is not None
        magnitude = asked[row.balloon].lower is None and row.least is None
        budget = tried.budget(n, outward=outward, length=magnitude and not outward)
        if budget is None:
            continue
        rests = edges_of(plan, row.step, first.steps)
        own = {
            "unseen": unseen_share(row),
            "level": noise.typical,
            "edges": edge_room(first.steps, rests),
            "edge_steps": rests,
            "floor": floor,
            "magnitude": magnitude,
            "unit": row.unit,
            "method": method(plan, asked[row.balloon]),
        }
        result[row.balloon] = budget.model_copy(update=own)
    return result


@dataclass(frozen=True)
class Look:
    """A scan and what it gives with fewer points.

    ends: (1 + copies, rows, 2), of the scan as it is and by `THINNED`. rooms: (rows,) mm by which the edges
    that a row rests on may lie off. floors: (rows,) what a perfect part would read of a value of form, with the
    noise of the first scan; 0 of others.
    """

    ends: FloatArray
    rooms: FloatArray
    floors: FloatArray


@dataclass(frozen=True)
class Tried:
    """The ends of all rows on a scan and on its copies: (rows, 2), and (copies, rows, 2).

    free, fixed: with noise, the anchors found anew, and held where they are. scaled: with one of the scales
    larger by `NUDGE`, and the standard uncertainty of that scale as a share. moved: with every edge anywhere
    in its room. looks: of each scan. kinds: (rows,) of their steps.
    """

    here: Ends
    free: FloatArray
    fixed: FloatArray
    scaled: Sequence[tuple[Ends, float]]
    moved: FloatArray
    looks: Sequence[Look]
    kinds: Sequence[Kind | None]

    def budget(self, n: int, *, outward: bool, length: bool = False) -> Budget | None:
        """Noise of the n-th row; None where too many copies have no value.

        outward: whether it is the furthest of many, besides what its kind says. length: whether it is that of
        two coordinates.
        """
        kind = self.kinds[n]
        outward = outward or (kind is not None and kind.outward)
        about = self.here[n] if length and not outward else None
        scatter, held = _scatter(self.free[:, n], about), _scatter(self.fixed[:, n], about)
        noise = min(scatter, held) if held == held else scatter
        spaced = self._spacing(n, noise, about)
        if math.isnan(noise) or spaced is None:
            return None
        slopes = [float(np.abs(ends[n] - self.here[n]).max()) / NUDGE * share for ends, share in self.scaled]
        return Budget(
            noise=noise,
            anchors=math.sqrt(max(scatter**2 - noise**2, 0.0)),
            sampling=spaced[0],
            phase=spaced[1],
            calibration=math.hypot(*(slope for slope in slopes if slope == slope)),
            form=_floor(self.free[:, n], self.here[n], DOUBLED if outward else 1.0),
            outward=outward,
        )

    def _spacing(self, n: int, noise: float, about: FloatArray | None) -> tuple[float, float] | None:
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
        # of sheer edges the few thinner maps may happen to agree
        if not any(look.rooms[n] > 0.0 for look in self.looks):
            order = max(own, _shown_order(thinner, n, noise, own))
            # where that shows, what the phase does shrinks by one power less than what the spacing does
            power = max(_shown_power(thinner, noise), order - 1.0)
        for look, found in thinner:
            if not found:
                continue
            every, values = next(iter(found.items()))
            larger = every**order - 1.0
            off.append(_off(look, n, values, every) / larger)
            used = {k: v for k, v in found.items() if k == every or order <= own}
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
        return usual / math.sqrt(3.0), max(scatter, float(np.nan_to_num(_scatter(self.moved[:, n], about))))


def with_budgets(plan: Plan, found: Mapping[Balloon, Budget]) -> Plan:
    """The plan with what was worked out at its rows; the others keep theirs."""
    rows = (
        row.model_copy(update={"budget": found[row.balloon]}) if row.balloon in found else row
        for row in plan.sheet
    )
    return plan.edited(sheet=tuple(rows))


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


def _off(look: Look, n: int, values: FloatArray, every: int) -> float:
    """By how much the n-th row lies off on maps of every second or third point, (k, 2) values.

    To leading order, maps that are thinner one way only lie off by as much together. These are nearer to the
    map as it is, but hide what the nearer of their points do; so the mean of both counts. The least and the
    greatest of many values do not add up so.
    """
    here = look.ends[0, n]
    both = float(np.abs(values.mean(axis=0) - here).max())
    ways = [_measured(look.ends, n, way) for way in ((2, 1), (1, 2))]
    if every != 2 or here[0] != here[1] or not all(len(way) for way in ways):
        return both
    return (both + float(np.abs(sum(way.mean(axis=0) - here for way in ways)).max())) / 2.0


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

    observed = _observed_order(usual(off, 3) / max(usual(off, 2), noise, 1e-15))
    if observed >= 3.0 or own >= 2.0:
        return observed
    left = math.sqrt(max((usual(apart, 3) / 3.0) ** 2 - noise**2, 0.0))
    return 2.0 if left > CLEARLY_FASTER * usual(apart, 2) / 2.0 else 1.0


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


def _resting_on(plan: Plan, chosen: set[str]) -> set[str]:
    """Some steps, and all that rest on them."""
    by_id, found = effective(plan), set(chosen)
    while more := {i for i, step in by_id.items() if i not in found and found & set(step.needs)}:
        found |= more
    return found


def _anchors(plan: Plan) -> set[str]:
    return {i for step in plan.steps for i in step.follow.anchors}


def _all(trials: Sequence[Callable[[], Ends]], progress: Progress) -> list[Ends] | None:
    """Values of each trial, in order, on all cores; None when stopped."""
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        waiting = [pool.submit(trial) for trial in trials]
        found = []
        try:
            for done, one in enumerate(waiting):
                if not progress(done, len(waiting), "copies of scans"):
                    return None
                found.append(one.result())
        finally:
            for one in waiting:
                one.cancel()
    return found


def _with_noise(
    plan: Plan,
    data: HeightMap,
    noise: Noise,
    rows: Sequence[Balloon],
    fixed: Mapping[str, StepResult],
    seed: tuple[int, int],
) -> Ends:
    copy = noise.added_to(data, np.random.default_rng(seed))
    return _ends(Engine(copy, fixed=fixed).run(plan), rows)


def _moved(
    plan: Plan,
    data: HeightMap,
    rows: Sequence[Balloon],
    still: Mapping[str, StepResult],
    edges: Mapping[str, StepResult],
    seed: tuple[int, int],
) -> Ends:
    """With every edge anywhere in the room that the points of the map leave it; the rest is as it was."""
    rng = np.random.default_rng(seed)
    moved = {
        i: replace(found, outcome=replace(found.outcome, value=_shifted(found.value, room_of(found), rng)))
        for i, found in edges.items()
        if found.outcome is not None
    }
    return _ends(Engine(data, fixed={**still, **moved}).run(plan), rows)


def _shifted(value: Any, room: float, rng: np.random.Generator) -> Any:
    """A straight edge or an end of data somewhere in its room.

    A rim crosses the grid in all directions, so that its room is some standard errors of its centre; twice as
    many points have their say about its radius.
    """
    if isinstance(value, Circle):
        x, y, grown = rng.normal(0.0, room / WIDE, 3)
        return replace(value, x=value.x + x, y=value.y + y, radius=value.radius + grown / math.sqrt(2.0))
    across, turn = rng.uniform(-room, room, 2)
    if isinstance(value, Line):
        ux, uy = value.along
        direction = value.direction + math.degrees(math.atan2(turn, max(value.length, room)))
        return replace(value, x=value.x - across * uy, y=value.y + across * ux, direction=direction)
    return replace(value, x=value.x + across, y=value.y + turn)


def _looked(
    plan: Plan, data: HeightMap, rows: Sequence[Balloon], thinner: Iterator[Ends], level: float
) -> Look:
    """A scan, and the next of what its copies by `THINNED` give; level: mm of noise of the first scan."""
    engine = Engine(data)
    result, own = engine.run(plan), noise_of(data).typical
    steps = {row.balloon: row.step for row in result.characteristics}
    edges = [edges_of(plan, steps[b], result.steps) if steps[b] else () for b in rows]
    rooms = [edge_room(result.steps, ids) for ids in edges]
    smoother = level / own if own > 0.0 else 1.0
    floors = [0.0 if step is None else form_floor(engine, result, step) or 0.0 for step in map(steps.get, rows)]
    ends = [_ends(result, rows), *(next(thinner) for _ in THINNED)]
    return Look(np.array(ends), np.array(rooms), smoother * np.array(floors))


def _thinned(plan: Plan, data: HeightMap, rows: Sequence[Balloon], way: tuple[int, int, int, int]) -> Ends:
    """With only some rows and columns: from the first of each on, every so many."""
    i, j, down, right = way
    g, z = data.grid, np.ascontiguousarray(data.z[i::down, j::right])
    if min(z.shape) < 1:
        return np.full((len(rows), 2), np.nan)
    grey = None if data.intensity is None else np.ascontiguousarray(data.intensity[i::down, j::right])
    copy = HeightMap(z, grey, g.dx * right, g.dy * down, g.x0 + j * g.dx, g.y0 + i * g.dy)
    return _ends(Engine(copy).run(plan), rows)


def _stretched(plan: Plan, data: HeightMap, rows: Sequence[Balloon], axis: str) -> Ends:
    """With one of the scales a little larger."""
    grow = {name: 1.0 + NUDGE * (name == axis) for name in "xyz"}
    g = data.grid
    copy = HeightMap(
        data.z * np.float32(grow["z"]),
        data.intensity,
        g.dx * grow["x"],
        g.dy * grow["y"],
        g.x0 * grow["x"],
        g.y0 * grow["y"],
    )
    return _ends(Engine(copy).run(plan), rows)


def _ends(result: Result, rows: Sequence[Balloon]) -> Ends:
    known = {row.balloon: row for row in result.characteristics}

    def ends(row: CharacteristicResult) -> tuple[float, float]:
        if row.least is not None and row.greatest is not None:
            return row.least, row.greatest
        value = math.nan if row.value is None else row.value
        return value, value

    return np.array([ends(known[balloon]) for balloon in rows], np.float64).reshape(-1, 2)


def _scatter(values: FloatArray, about: FloatArray | None) -> float:
    """Standard deviation of (copies, 2) values, the larger of both ends; NaN where too few were measured.

    about: as for `_variance`.
    """
    known = values[~np.isnan(values).any(axis=1)]
    if not len(values) or len(known) < max(2.0, FEWEST * len(values)):
        return math.nan
    return math.sqrt(max(float(_variance(_usual(end), about).max()) for end in known.T))


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


def _usual(values: FloatArray) -> FloatArray:
    """Without single ones far off: in a copy, rougher than a scan, something may be found by chance."""
    off = np.abs(values - np.median(values))
    near = off <= FAR_OFF * 1.4826 * np.median(off)
    return values[near] if np.count_nonzero(near) > 1 else values


def _kind(plan: Plan, step_id: str | None) -> Kind | None:
    if step_id is None:
        return None
    step = plan.step(step_id)
    return kind_named(step.kind).model_validate(step.params)


def _floor(values: FloatArray, here: FloatArray, grows: float) -> float:
    """Standard uncertainty that noise alone adds to a value; 0 where its mean does not move.

    grows: share by which that is more with twice the variance.
    """
    known = values[~np.isnan(values).any(axis=1)]
    added = 0.0
    for end, first in zip(known.T, here, strict=True):
        usual = _usual(end) if len(known) > 1 else end[:0]
        shift = abs(float(usual.mean()) - first) if usual.size else 0.0
        if usual.size and shift > SURELY * usual.std(ddof=1) / math.sqrt(usual.size):
            added = max(added, shift)
    return added / grows / math.sqrt(3.0)
