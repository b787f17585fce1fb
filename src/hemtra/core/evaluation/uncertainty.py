"""The uncertainty of every value of a plan, worked out by trying it on copies of scans (JCGM 101).

Some copies have noise like the scan's added, so that values scatter as they would from scan to scan; others
hold every second or third of its points only, which shows what the spacing does to them; in others a scale of
the station is larger. On a part of a running line what was worked out is scaled by the noise and the edges of
that part (`Budget.on`).
"""

from __future__ import annotations

import math
import os
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.form_floor import form_floor
from hemtra.core.evaluation.known_to import edges_of, method, seen_whole
from hemtra.core.evaluation.moved_edges import rooms_of, with_moved_edges
from hemtra.core.evaluation.results import Result, StepResult
from hemtra.core.evaluation.rows import unseen_share
from hemtra.core.evaluation.trial_values import NUDGE, THINNED, Ends, Look, Tried
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.noise import Noise, noise_of
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.budget import Budget
from hemtra.core.plan.document import Plan
from hemtra.core.plan.kind import Kind
from hemtra.core.plan.limits import CharacteristicResult
from hemtra.core.plan.registry import kind_named
from hemtra.core.plan.series import Series
from hemtra.core.progress import Progress
from hemtra.core.station.scale_uncertainty import ScaleUncertainty

COPIES, HELD, MOVED = 96, 24, 24
"""Copies with noise, those on which the anchors are held where they are, and those with moved edges."""
MOST_SCANS = 8
"""Scans that show what the spacing does; each shows the part to the grid in another way."""


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
    noises = [noise_of(scan) for scan in scans]
    level = math.sqrt(sum(noise.typical**2 for noise in noises) / len(noises))
    seen = []
    for k, scan in enumerate(scans):
        if not progress(k, len(scans), "scans"):
            return {}
        seen.append(_seen(plan, scan, rows, noises[k], level))
    # on profiles zones follow what each of them shows, and nothing is held
    still = min(HELD, copies) if plan.by_profile is None else 0
    work: list[Callable[[], Ends]] = []
    for k, (scan, (_, held)) in enumerate(zip(scans, seen, strict=True)):
        # each has its share of the copies, since noise does more or less to a value as the part lies
        turns, copy = range(k, copies, len(scans)), partial(_with_noise, plan, scan, noises[k], rows)
        work += [partial(copy, {}, (seed, n)) for n in turns]
        work += [partial(copy, held, (seed, n)) for n in turns if n < still]
        work += [partial(_thinned, plan, scan, rows, way) for way in THINNED]
    stretched = {axis: share for axis, share in vars(scales or Scales()).items() if share > 0.0}
    work += [partial(_stretched, plan, scans[0], rows, axis) for axis in stretched]
    rooms = rooms_of(plan, engine, first)
    loose = {i for i, room in rooms.items() if room > 0.0}
    trials = with_moved_edges(plan, engine, first, loose, MOVED * bool(loose), seed)
    work += [partial(_of_trial, trial, rows) for trial in trials]
    all_ends = _all(work, progress)
    if all_ends is None:
        return {}
    found = iter(all_ends)

    def taken(many: int) -> FloatArray:
        return np.array([next(found) for _ in range(many)], np.float64).reshape(many, len(rows), 2)

    looks = []
    for k, (look, _) in enumerate(seen):
        turns = range(k, copies, len(scans))
        free, fixed, thinned = map(taken, (len(turns), sum(n < still for n in turns), len(THINNED)))
        looks.append(replace(look, free=free, fixed=fixed, ends=np.concatenate([look.ends, thinned])))
    tried = Tried(
        looks=looks,
        scaled=[(taken(1)[0], share) for share in stretched.values()],
        moved=taken(len(trials)),
        kinds=[_kind(plan, row.step) for row in first.characteristics],
        middles=np.array([_middle(first.series.get(balloon)) for balloon in rows]),
        smooth=np.array([_on_smooth_sections(plan, row.step) for row in first.characteristics], bool),
    )
    return _of_rows(plan, first, tried, level, rooms)


def _seen(
    plan: Plan, data: HeightMap, rows: Sequence[Balloon], noise: Noise, level: float
) -> tuple[Look, dict[str, StepResult]]:
    """A scan without copies yet, and the anchors there; level: mm of noise of a usual one."""
    engine = Engine(data)
    result = engine.run(plan)
    steps = {row.balloon: row.step for row in result.characteristics}
    known = rooms_of(plan, engine, result)
    edges = [edges_of(plan, steps[b], known) if steps[b] else () for b in rows]
    floors = [0.0 if step is None else form_floor(engine, result, step) or 0.0 for step in map(steps.get, rows)]
    none = np.empty((0, len(rows), 2))
    look = Look(
        ends=_ends(result, rows)[None],
        free=none,
        fixed=none,
        rooms=np.array([math.hypot(*(known[i] for i in ids)) for ids in edges]),
        whole=np.array([steps[b] is not None and seen_whole(plan, steps[b], result.steps) for b in rows], bool),
        floors=np.array(floors) * (level / noise.typical if noise.typical > 0.0 else 1.0),
    )
    return look, {i: result.steps[i] for i in _anchors(plan) if i in result.steps}


def _of_rows(
    plan: Plan, first: Result, tried: Tried, level: float, rooms: Mapping[str, float]
) -> dict[Balloon, Budget]:
    """The budgets of all rows that have one; level: mm of noise; rooms: mm, of its edges."""
    result, asked = {}, {row.balloon: row for row in plan.sheet}
    for n, row in enumerate(first.characteristics):
        if row.value is None or row.step not in first.steps or (row.text and row.least is None):
            continue
        # cells at the rim of a zone hold more or fewer points as the part lies
        floor = float(max(look.floors[n] for look in tried.looks))
        outward = floor > 0.0 or row.least is not None
        magnitude = asked[row.balloon].lower is None and row.least is None
        budget = tried.budget(n, outward=outward, length=magnitude and not outward)
        if budget is None:
            continue
        rests = edges_of(plan, row.step, rooms)
        own = {
            "unseen": unseen_share(row),
            "level": level,
            "edges": math.hypot(*(rooms[i] for i in rests)),
            "edge_steps": rests,
            "floor": floor,
            "magnitude": magnitude,
            "unit": row.unit,
            "method": method(plan, asked[row.balloon]),
        }
        result[row.balloon] = budget.model_copy(update=own)
    return result


def with_budgets(plan: Plan, found: Mapping[Balloon, Budget]) -> Plan:
    """The plan with what was worked out at its rows; the others keep theirs."""
    rows = (
        row.model_copy(update={"budget": found[row.balloon]}) if row.balloon in found else row
        for row in plan.sheet
    )
    return plan.edited(sheet=tuple(rows))


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


def _of_trial(trial: Callable[[], Result], rows: Sequence[Balloon]) -> Ends:
    return _ends(trial(), rows)


def _ends(result: Result, rows: Sequence[Balloon]) -> Ends:
    known = {row.balloon: row for row in result.characteristics}

    def ends(row: CharacteristicResult) -> tuple[float, float]:
        if row.least is not None and row.greatest is not None:
            return row.least, row.greatest
        value = math.nan if row.value is None else row.value
        return value, value

    return np.array([ends(known[balloon]) for balloon in rows], np.float64).reshape(-1, 2)


def _middle(series: Series | None) -> float:
    if series is None or not series.measured.any():
        return math.nan
    return float(np.median(series.values[series.measured]))


def _on_smooth_sections(plan: Plan, step_id: str | None) -> bool:
    """Whether a step takes sizes of something smooth along a path."""
    of = () if step_id is None else (i for ids in plan.step(step_id).inputs.values() for i in ids)
    return any(getattr(_kind(plan, i), "smooth", False) for i in of)


def _kind(plan: Plan, step_id: str | None) -> Kind | None:
    if step_id is None:
        return None
    step = plan.step(step_id)
    return kind_named(step.kind).model_validate(step.params)
