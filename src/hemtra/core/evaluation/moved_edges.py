"""Trials with the edges of a plan elsewhere: points only part a sheer edge, which has room between them."""

from __future__ import annotations

import math
from collections.abc import Callable, Collection, Mapping
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.detection.margin_kernels import WIDE
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.known_to import room_of
from hemtra.core.evaluation.profiles import Column
from hemtra.core.evaluation.results import Result, StepResult
from hemtra.core.features.groove import Groove
from hemtra.core.geometry.elements import Circle, Line
from hemtra.core.plan.document import Plan
from hemtra.core.plan.graph import effective


def rooms_of(plan: Plan, engine: Engine, result: Result) -> dict[str, float]:
    """By step, mm by which the edge that it found may lie off; on profiles, that of a usual one."""
    if plan.by_profile is not None:
        return {i: column.room for i, column in engine.columns(plan).items()}
    return {i: room_of(one) for i, one in result.steps.items()}


def with_moved_edges(
    plan: Plan, engine: Engine, result: Result, ids: Collection[str], count: int, seed: int
) -> list[Callable[[], Result]]:
    """So many trials with the edges of some steps elsewhere in their room; the rest is as it was."""
    if plan.by_profile is not None:
        columns = {i: column for i, column in engine.columns(plan).items() if i in ids}
        shifts = {
            i: _shifts(column, engine.data.grid.dx, count, (seed, k))
            for k, (i, column) in enumerate(columns.items())
        }
        return [partial(_on_profiles, plan, engine, columns, shifts, k) for k in range(count)]
    edges = {i: one for i, one in result.steps.items() if i in ids}
    resting = _resting_on(plan, set(ids))
    still = {i: one for i, one in result.steps.items() if i not in resting}
    return [partial(_on_map, plan, engine, still, edges, (seed, k)) for k in range(count)]


def _resting_on(plan: Plan, chosen: set[str]) -> set[str]:
    """Some steps, and all that rest on them."""
    by_id, found = effective(plan), set(chosen)
    while more := {i for i, step in by_id.items() if i not in found and found & set(step.needs)}:
        found |= more
    return found


def _shifts(column: Column, spacing: float, count: int, seed: tuple[int, int]) -> FloatArray:
    """(count, 2, profiles) rooms by which both flanks of an edge move, alike between the same points.

    These points are columns of the map, which hold points of the sensor from half a spacing around each: where
    that lay leaves an edge as much room again. Each is anywhere in its room alike often (McKay et al. 1979).
    """
    _, cells = np.unique(np.round(np.nan_to_num(column.parts("x")[:, 0]) / spacing), return_inverse=True)
    drawn = np.tile(
        (np.arange(count) + 0.5) * 2.0 / max(count, 1) - 1.0, (2, 2, int(cells.max(initial=0)) + 1, 1)
    )
    mixed = np.random.default_rng(seed).permuted(drawn, axis=-1).sum(axis=0)
    return np.asarray(np.moveaxis(mixed, -1, 0)[:, :, cells])


def _on_profiles(
    plan: Plan, engine: Engine, edges: Mapping[str, Column], shifts: Mapping[str, FloatArray], trial: int
) -> Result:
    moved = {
        i: replace(column, lanes=_moved_on_profiles(column.lanes, *shifts[i][trial]))
        for i, column in edges.items()
    }
    return engine.run(plan, moved)


def _moved_on_profiles(value: Any, one: FloatArray, other: FloatArray) -> Any:
    """Lanes of edges, or both flanks of grooves, so many rooms further along each profile."""
    room = value.spread
    if isinstance(value, Groove):
        return replace(value, x=value.x + room * (one + other) / 2, width=value.width + room * (other - one))
    return replace(value, x=value.x + room * one)


def _on_map(
    plan: Plan,
    engine: Engine,
    still: Mapping[str, StepResult],
    edges: Mapping[str, StepResult],
    seed: tuple[int, int],
) -> Result:
    rng = np.random.default_rng(seed)
    moved = {
        i: replace(found, outcome=replace(found.outcome, value=_moved(found.value, room_of(found), rng)))
        for i, found in edges.items()
        if found.outcome is not None
    }
    return Engine(engine.data, fixed={**still, **moved}).run(plan)


def _moved(value: Any, room: float, rng: np.random.Generator) -> Any:
    """An edge, or both flanks of a groove, somewhere in their room.

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
