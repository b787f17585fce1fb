"""Form floor: the reading of a part of perfect form, caused by spacing and noise alone."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import astuple, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.detection.unseen import Looked, noise_in
from hemtra.core.errors import NotMeasured
from hemtra.core.geometry.elements import Circle, Line, Number, Plane
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.noise import noise_within
from hemtra.core.plan.document import Characteristic, Plan
from hemtra.core.plan.registry import kind_named
from hemtra.core.zones.window import window
from hemtra.core.zones.zone import AnyZone

if TYPE_CHECKING:
    from hemtra.core.evaluation.engine import Engine
    from hemtra.core.evaluation.results import Result

TIMES = 5.0
"""Multiple of the floor below which a limit says little about form."""
BESIDE = 4.0
"""Points of the map beside an edge from which the levels on its sides are taken."""
DRAWS = 4
DARK = 0.5
"""Share of the points right behind an edge that are missing where it throws a shadow."""


def form_floor(engine: Engine, result: Result, step_id: str) -> float | None:
    """Form value of a perfect part at the same place, in the row's unit; None for values that are no form.

    The features it is taken of are drawn perfect into a copy of the map, with the noise of the scan, found
    there anew, and its form is taken of these; the largest of a few draws, each a part of a spacing on.
    """
    found = result.steps[step_id]
    kind = kind_named(found.step.kind).model_validate(found.step.params)
    if found.outcome is None:
        return None
    try:
        ideal = kind.ideal(engine.given(result, step_id))
        floors = [_of_perfect(engine, result, step_id, ideal, k) for k in range(DRAWS)] if ideal else []
    except NotMeasured:
        return None
    return max(floors, default=None)


def _of_perfect(
    engine: Engine, result: Result, step_id: str, ideal: Mapping[str, tuple[Any, ...]], draw: int
) -> float:
    """The value of one draw."""
    found, given = result.steps[step_id], engine.given(result, step_id)
    data, inputs = given.data, dict(given.inputs)
    for name, shapes in ideal.items():
        again: list[Any] = []
        for source, shape in zip(found.step.inputs[name], shapes, strict=True):
            own, step = engine.given(result, source), result.steps[source].step
            if own.zone is None:
                raise NotMeasured("it was not found in a zone")
            data = _drawn(data, own.zone, shape, draw)
            maker = kind_named(step.kind).model_validate(step.params)
            again.append(maker.evaluate(replace(own, data=_drawn(own.data, own.zone, shape, draw))).value)
        inputs[name] = tuple(again)
    kind = kind_named(found.step.kind).model_validate(found.step.params)
    value = kind.evaluate(replace(given, data=data, inputs=inputs)).value
    assert isinstance(value, Number)
    return value.value


def near_their_floor(plan: Plan, engine: Engine, result: Result) -> Iterator[tuple[Characteristic, str]]:
    """The rows of a plan whose limit of form lies near to what a perfect part would read, and a sentence."""
    for row in sorted(plan.sheet, key=lambda c: c.balloon):
        if row.step is None or row.off or row.upper is None or row.step not in result.steps:
            continue
        floor = form_floor(engine, result, row.step)
        if floor is not None and row.upper < TIMES * floor:
            yield row, f"{floor_text(floor, row)}."


def floor_text(floor: float, row: Characteristic) -> str:
    """The floor in words, and that a limit is too close to it, if it is."""
    message = f"a perfect part would read {floor:.3f} mm at this spacing and noise"
    if row.upper is None or row.upper >= TIMES * floor:
        return message
    return f"{message}, too close to the limit: {TIMES:g} times that would be {TIMES * floor:.3f} mm"


def _drawn(data: HeightMap, zone: AnyZone, shape: Plane | Line | Circle, draw: int) -> HeightMap:
    """The map with a perfect plane, edge or rim within a zone."""
    view = window(zone, data)
    grid = view.grid(data)
    z = data.z[view.rows, view.cols].astype(np.float64)
    x, y = np.meshgrid(grid.x0 + grid.dx * np.arange(z.shape[1]), grid.y0 + grid.dy * np.arange(z.shape[0]))
    inside = np.ones(z.shape, np.bool_) if view.inside is None else view.inside
    noise = noise_within(np.where(inside, z, np.nan))
    if noise is None:
        noise = noise_in(np.ascontiguousarray(data.z[view.rows, view.cols]), Looked.at(z.shape, view.inside))
    if isinstance(shape, Plane):
        perfect = np.where(np.isnan(z), np.nan, shape.height_at(x, y))
    else:
        shift = draw / DRAWS
        off = _ahead(shape, x - shift * grid.dx, y - shift * grid.dy)
        perfect = _parted(z, x, y, inside, off, max(grid.dx, grid.dy))
    drawn = data.z.copy()
    perfect = perfect + np.random.default_rng(draw).normal(0.0, noise, z.shape)
    drawn[view.rows, view.cols] = np.where(inside, perfect, z)
    return HeightMap(drawn, data.intensity, *astuple(data.grid)[2:], *astuple(data.grid)[:2])


def _ahead(shape: Line | Circle, x: FloatArray, y: FloatArray) -> FloatArray:
    """Distances of places to the left of a line, or outside a circle, mm."""
    if isinstance(shape, Circle):
        outside: FloatArray = np.hypot(x - shape.x, y - shape.y) - shape.radius
        return outside
    ux, uy = shape.along
    return (y - shape.y) * ux - (x - shape.x) * uy


def _parted(
    z: FloatArray, x: FloatArray, y: FloatArray, inside: BoolArray, off: FloatArray, spacing: float
) -> FloatArray:
    """Heights of a surface that ends where `off` is 0: its higher side a plane, the other lower or unseen."""
    seen = inside & ~np.isnan(z)
    sides = [seen & (way * off > 0.5 * spacing) & (way * off < BESIDE * spacing) for way in (1.0, -1.0)]
    # a side that is hardly seen lies in the shadow of the other
    most = max(np.count_nonzero(side) for side in sides)
    known = [np.count_nonzero(side) > DARK * most for side in sides]
    heights = [
        float(np.median(z[side])) if is_known else -math.inf
        for side, is_known in zip(sides, known, strict=True)
    ]
    way = 1.0 if heights[0] >= heights[1] else -1.0
    upper, lower = (sides[0], sides[1]) if way > 0.0 else (sides[1], sides[0])
    if np.count_nonzero(upper) < 3:
        raise NotMeasured("too little is seen beside the edge")
    middle = np.array([x[upper].mean(), y[upper].mean()])
    design = np.column_stack([x[upper] - middle[0], y[upper] - middle[1], np.ones(np.count_nonzero(upper))])
    a, b, c = np.linalg.lstsq(design, z[upper], rcond=None)[0]
    level = a * (x - middle[0]) + b * (y - middle[1]) + c
    drop = float(np.median((level - z)[lower])) if lower.any() else math.nan
    behind = inside & (way * off < 0.0)
    shadow = float(np.mean(np.isnan(z[behind & (way * off > -1.5 * spacing)]))) > DARK
    gone = np.isnan(z) | (shadow & (z > level - drop / 2)) | math.isnan(drop)
    return np.where(
        behind, np.where(gone, np.nan, level - drop), np.where(seen | (way * off < BESIDE * spacing), level, z)
    )
