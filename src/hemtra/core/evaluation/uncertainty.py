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
from typing import Any

import numpy as np

from hemtra.core.detection.margin_kernels import WIDE
from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.form_floor import form_floor
from hemtra.core.evaluation.known_to import edges_of, method, room_of
from hemtra.core.evaluation.profiles import Column
from hemtra.core.evaluation.results import Result, StepResult
from hemtra.core.evaluation.rows import unseen_share
from hemtra.core.evaluation.trial_values import NUDGE, THINNED, Ends, Look, Tried
from hemtra.core.features.groove import Groove
from hemtra.core.geometry.elements import Circle, Line
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.noise import Noise, noise_of
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.budget import Budget
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
    noise, rooms = noise_of(scans[0]), _rooms(plan, engine, first)
    held = {i: first.steps[i] for i in _anchors(plan) if i in first.steps}
    work: list[Callable[[], Ends]] = []
    work += [partial(_with_noise, plan, scans[0], noise, rows, {}, (seed, k)) for k in range(copies)]
    fixed = [
        partial(_with_noise, plan, scans[0], noise, rows, held, (seed, k)) for k in range(min(HELD, copies))
    ]
    stretched = {axis: share for axis, share in vars(scales or Scales()).items() if share > 0.0}
    work += [*fixed, *(partial(_stretched, plan, scans[0], rows, axis) for axis in stretched)]
    moved = _with_moved_edges(plan, engine, first, {i for i, room in rooms.items() if room > 0.0}, seed)
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
    return _of_rows(plan, first, tried, noise.typical, rooms)


def _of_rows(
    plan: Plan, first: Result, tried: Tried, level: float, rooms: Mapping[str, float]
) -> dict[Balloon, Budget]:
    """The budgets of all rows that have one; level: mm of noise of the first scan; rooms: mm, of its edges."""
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


def _rooms(plan: Plan, engine: Engine, result: Result) -> dict[str, float]:
    """By step, mm by which the edge that it found may lie off; on profiles, that of a usual one."""
    if plan.by_profile is not None:
        return {i: column.room for i, column in engine.columns(plan).items()}
    return {i: room_of(one) for i, one in result.steps.items()}


def _with_moved_edges(
    plan: Plan, engine: Engine, first: Result, ids: set[str], seed: int
) -> list[Callable[[], Ends]]:
    """Trials with the edges of some steps elsewhere in the room that they have; none without edges."""
    rows = [row.balloon for row in first.characteristics]
    seeds = [(seed, k) for k in range(MOVED * bool(ids))]
    if plan.by_profile is not None:
        columns = {i: column for i, column in engine.columns(plan).items() if i in ids}
        return [partial(_moved_on_profiles, plan, engine, rows, columns, one) for one in seeds]
    edges = {i: one for i, one in first.steps.items() if i in ids}
    still = {i: one for i, one in first.steps.items() if i not in _resting_on(plan, ids)}
    return [partial(_moved, plan, engine.data, rows, still, edges, one) for one in seeds]


def _moved_on_profiles(
    plan: Plan,
    engine: Engine,
    rows: Sequence[Balloon],
    edges: Mapping[str, Column],
    seed: tuple[int, int],
) -> Ends:
    """With every edge anywhere in its room, alike on all profiles on which it lies between the same points.

    These points are columns of the map, which hold points of the sensor from half a spacing around each:
    where that lay leaves an edge as much room again.
    """
    rng = np.random.default_rng(seed)
    spacing = engine.data.grid.dx
    moved = {}
    for i, column in edges.items():
        known = column.parts("x")[:, 0]
        _, cells = np.unique(np.round(np.nan_to_num(known) / spacing), return_inverse=True)
        by = rng.uniform(-1.0, 1.0, (2, 2, int(cells.max(initial=0)) + 1)).sum(axis=0)[:, cells]
        values = [_moved_along(value, *by[:, k]) for k, value in enumerate(column.values)]
        moved[i] = replace(column, values=values)
    return _ends(engine.run_moved(plan, moved), rows)


def _moved_along(value: Any, one: float, other: float) -> Any:
    """An edge, or both flanks of a groove, so many rooms further along a profile."""
    room = getattr(value, "spread", 0.0)
    if not room:
        return value
    if isinstance(value, Groove):
        return replace(value, x=value.x + room * (one + other) / 2, width=value.width + room * (other - one))
    return replace(value, x=value.x + room * one)


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
    if isinstance(value, Groove):
        value = replace(value, width=value.width + across - turn)
        across = turn = (across + turn) / 2
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
    known = _rooms(plan, engine, result)
    edges = [edges_of(plan, steps[b], known) if steps[b] else () for b in rows]
    rooms = [math.hypot(*(known[i] for i in ids)) for ids in edges]
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


def _kind(plan: Plan, step_id: str | None) -> Kind | None:
    if step_id is None:
        return None
    step = plan.step(step_id)
    return kind_named(step.kind).model_validate(step.params)
