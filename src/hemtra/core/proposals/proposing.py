"""Proposals: from a click on the data to zones, features, nominal and limits."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from hemtra.core.detection.main_level import main_level
from hemtra.core.detection.part_box import part_box
from hemtra.core.edits.anchors import place_back, usual_follow
from hemtra.core.errors import HemtraError, NotMeasured, OffScan
from hemtra.core.evaluation.engine import Engine
from hemtra.core.geometry.frames import Frame
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.plan.document import Characteristic, Follow, Plan, Step
from hemtra.core.plan.graph import dependants
from hemtra.core.plan.registry import kind_named
from hemtra.core.plan.usual_limits import limits_along
from hemtra.core.proposals.option import option
from hemtra.core.zones.window import window
from hemtra.core.zones.zone import EllipseZone, RectangleZone

DIAMETERS = (12.0, 10.0, 8.0, 6.0, 5.0, 4.0, 3.0, 2.0, 1.5, 1.0)
"""Spot diameters tried in mm, largest first."""
NEAR, TURNS = (0.5, 1.0, 1.5, 2.0, 3.0), 12
"""Distances in mm, and directions, of the search for a better place when a click lies on an edge."""
AMPLE = 2.0
"""Diameter at which the search for a better place ends, mm."""
LEVEL_REACH = 0.15
"""Range around the clicked height that counts as the same level, mm."""
LEVEL_SHARE = 0.9
"""Share of a spot's points that must hold data on the clicked level."""
SPIKES = 0.005
"""Share of a spot's points that may lie off the clicked level."""
LEVEL_BINS = 400
STRAY, PART_SHARE, BELT_SHARE = 0.05, 0.08, 0.3
"""Percent of the heights at either end that are no level; shares of the points that a part has at least, and of
the
scan's border that must hold data to show a belt."""
BAND_ROOM = 5
"""Percent a proposed band reaches beyond its level: trimming drops what is too much, but nothing brings back
what is too little, and a band that cuts into a warped surface tilts it."""


@dataclass(frozen=True)
class Proposal:
    """A plan with one characteristic more, or one feature.

    doubts: what does not hold of it, one sentence each, on the part it was made from and on others it was
    tried on.
    """

    plan: Plan
    balloon: int | None
    """Id of the new characteristic; None where only a feature was made."""
    step: str
    """Id of the step made last."""
    doubts: tuple[str, ...] = ()


def propose_spot(data: HeightMap, x: float, y: float) -> EllipseZone:
    """The largest round zone about a place that stays on its level.

    Where the click lies within that distance of an edge, the nearest place of its level that has room for one.
    Raises `NotMeasured` without data.
    """
    at = _level_at(data, x, y)
    best = _round(x, y, DIAMETERS[-1])
    for reach in (0.0, *NEAR):
        turns = 1 if reach == 0.0 else TURNS
        places = [
            (x + reach * math.cos(2 * math.pi * k / turns), y + reach * math.sin(2 * math.pi * k / turns))
            for k in range(turns)
        ]
        found = [zone for place in places if (zone := _largest_spot(data, *place, at)) is not None]
        best = max((best, *found), key=lambda zone: zone.width)
        if best.width >= AMPLE:
            break
    return best


def _largest_spot(data: HeightMap, x: float, y: float, level: float) -> EllipseZone | None:
    """The largest round zone about exactly this place whose points lie on a level, but for isolated ones."""
    for diameter in DIAMETERS:
        zone = _round(x, y, diameter)
        try:
            view = window(zone, data)
        except OffScan:
            continue
        z = data.z[view.rows, view.cols]
        inside = z[view.inside] if view.inside is not None else z.ravel()
        on_level = np.count_nonzero(np.abs(inside - level) <= LEVEL_REACH)
        off_level = np.count_nonzero(np.abs(inside - level) > LEVEL_REACH)
        if on_level >= LEVEL_SHARE * inside.size and off_level <= SPIKES * inside.size:
            return zone
    return None


def _round(x: float, y: float, diameter: float) -> EllipseZone:
    return EllipseZone(x=round(x, 2), y=round(y, 2), width=diameter, height=diameter)


@option("height", "Height", "H", "of a spot above the datum plane", "Heights", clicks=("the spot",))
def propose_height(plan: Plan, engine: Engine, place: tuple[float, float]) -> Proposal:
    """Height of the clicked place above the plan's datum plane, or above a proposed one."""
    plan, plane = datum_plane(plan, engine)
    plan, spot = _with_spot(plan, engine, place, "Spot")
    step = Step(
        id=plan.free_id("height"),
        name=f"Height {region_name(engine.data, *place)}",
        kind="height",
        inputs={"point": (spot,), "plane": (plane,)},
    )
    return with_row(plan, engine, step)


@option(
    "step", "Step", "S", "of one spot above another", "Heights", clicks=("the first spot", "the second spot")
)
def propose_step(
    plan: Plan, engine: Engine, first: tuple[float, float], second: tuple[float, float]
) -> Proposal:
    """Step between two clicked places, the higher above the lower, square to the datum plane if any."""
    upper, lower = sorted((first, second), key=lambda place: _level_at(engine.data, *place), reverse=True)
    plane = _busiest_plane(plan)
    plan, top = _with_spot(plan, engine, upper, "Upper spot")
    plan, bottom = _with_spot(plan, engine, lower, "Lower spot")
    inputs: dict[str, tuple[str, ...]] = {"upper": (top,), "lower": (bottom,)}
    if plane is not None:
        inputs["plane"] = (plane,)
    name = f"Step {region_name(engine.data, *upper)}"
    step = Step(id=plan.free_id("step"), name=name, kind="step", inputs=inputs)
    return with_row(plan, engine, step)


def region_name(data: HeightMap, x: float, y: float) -> str:
    """Describe a place on the part in words: “far left”, “middle”; as it lies on this scan."""
    box = part_box(data)
    x0, x1, y0, y1 = data.extent if box is None else box
    across, along = (x - x0) / max(x1 - x0, 1e-9), (y - y0) / max(y1 - y0, 1e-9)
    words = [
        "far" if along > 2 / 3 else "near" if along < 1 / 3 else "",
        "right" if across > 2 / 3 else "left" if across < 1 / 3 else "",
    ]
    return " ".join(word for word in words if word) or "middle"


def _level_at(data: HeightMap, x: float, y: float) -> float:
    """Height in mm of the place, or of the data nearest around it."""
    at = data.height_at(x, y)
    if at is not None:
        return at
    heights = window(_round(x, y, DIAMETERS[-1]), data).heights(data)
    if heights.size == 0:
        raise NotMeasured("there is no data where you clicked; click on the part's surface")
    return float(np.median(heights))


def with_feature(plan: Plan, engine: Engine, step: Step, *, follow: Follow | None = None) -> tuple[Plan, str]:
    """The plan with one more feature whose zone was drawn on the engine's map, moving with what others follow.

    Heights of a zone count above the tilt of the plan's busiest plane, if it has one.

    Raises `NotMeasured` when what it should follow was not found on that map.
    """
    follow = usual_follow(plan) if follow is None else follow
    zone = step.zone
    if kind_named(step.kind).levelled and not step.inputs and follow.tilt is None:
        follow = follow.edited(tilt=_busiest_plane(plan))
    if zone is not None and follow.anchors:
        zone = place_back(plan, engine.run(plan.edited(sheet=())), zone, follow)
        if isinstance(zone, EllipseZone) and zone.width == zone.height:
            zone = zone.model_copy(update={"rotation": 0.0})  # a circle looks the same however it is turned
        step = step.edited(zone=zone, follow=follow)
    return plan.edited(steps=(*plan.steps, step)), step.id


def _with_spot(plan: Plan, engine: Engine, place: tuple[float, float], name: str) -> tuple[Plan, str]:
    zone = propose_spot(engine.data, *place)
    step = Step(id=plan.free_id(name), name=f"{name} {plan.free_balloon()}", kind="spot", zone=zone)
    return with_feature(plan, engine, step)


def _busiest_plane(plan: Plan) -> str | None:
    planes = [s.id for s in plan.steps if s.kind == "plane"]
    return max(planes, key=lambda i: len(dependants(plan, i)), default=None)


def datum_plane(plan: Plan, engine: Engine) -> tuple[Plan, str]:
    """The plan and the id of its busiest plane, or of one proposed through the largest level."""
    known, data = _busiest_plane(plan), engine.data
    if known is not None:
        return plan, known
    heights = np.sort(data.z[~np.isnan(data.z)][::7].astype(np.float64))
    if heights.size == 0:
        raise NotMeasured("the scan holds no data at all")
    # a few stray points must not stretch the bins
    ends = np.searchsorted(heights, np.percentile(heights, (STRAY, 100.0 - STRAY)))
    counts, edges = np.histogram(heights[ends[0] : max(ends[1], ends[0] + 1)], LEVEL_BINS)
    # the belt may be the largest level of all; the part is the largest of those off it
    belt = _belt(data)
    off = counts.copy()
    if belt is not None:
        near = LEVEL_REACH + edges[1] - edges[0]
        off = counts * ((edges[1:] < belt - near) | (edges[:-1] > belt + near))
    peak = int(np.argmax(off if off.sum() > PART_SHARE * counts.sum() else counts))
    on_level = np.abs(data.z - (edges[peak] + edges[peak + 1]) / 2) <= LEVEL_REACH
    rows, cols = (np.flatnonzero(on_level.any(axis=axis)) for axis in (1, 0))
    grid = data.grid
    zone = RectangleZone(
        x=grid.x0 + grid.dx * float(cols[0] + cols[-1]) / 2,
        y=grid.y0 + grid.dy * float(rows[0] + rows[-1]) / 2,
        width=max(grid.dx, grid.dx * float(cols[-1] - cols[0]) * 0.9),
        height=max(grid.dy, grid.dy * float(rows[-1] - rows[0]) * 0.9),
    )
    inside = np.sort(window(zone, data).heights(data))
    ends = np.searchsorted(inside, [edges[peak] - LEVEL_REACH, edges[peak + 1] + LEVEL_REACH])
    start, stop = (round(100.0 * float(end) / max(inside.size, 1)) for end in ends)
    band = max(0, start - BAND_ROOM), min(100, stop + BAND_ROOM)
    params = {"use": "band", "band_from": band[0], "band_to": band[1], "trim": 3}
    plane = Step(id=plan.free_id("plane"), name="Plane A", kind="plane", params=params, zone=zone)
    return with_feature(plan, engine, plane)


def _belt(data: HeightMap) -> float | None:
    """Height in mm of what surrounds the part to the borders of the scan; None where nothing does."""
    z = data.z
    border = np.concatenate([z[0], z[-1], z[:, 0], z[:, -1]])
    known = np.sort(border[~np.isnan(border)].astype(np.float64))
    if known.size < BELT_SHARE * border.size:
        return None
    low, high = main_level(known)
    on_level = np.count_nonzero((known >= low) & (known <= high))
    return (low + high) / 2 if on_level >= 0.5 * known.size else None


def with_row(plan: Plan, engine: Engine, step: Step) -> Proposal:
    """Add the step and its row, with the value found, rounded, as nominal."""
    step = _in_the_part(plan, step)
    plan = plan.edited(steps=(*plan.steps, step))
    number = plan.free_balloon()
    found = engine.run(engine.taught(plan.edited(sheet=()))).steps[step.id]
    if plan.by_profile is not None:
        # limits come from all profiles, since one of them says nothing of the others
        probe = Characteristic(balloon=number, name=step.name, step=step.id, lower=0.0)
        series = engine.run(engine.taught(plan.edited(sheet=(probe,)))).series[number]
        if not series.measured.any():
            raise HemtraError(f"{step.name} was not added: {next(iter(series.reasons.values()), 'no value')}.")
        limits = limits_along(series)
    elif found.outcome is None:
        raise HemtraError(f"{step.name} was not added: {found.reason}.")
    elif not math.isfinite(found.value.value):
        raise HemtraError(f"{step.name} was not added: it gives no finite number here.")
    else:
        limits = kind_named(step.kind).limits_from(found.value, found.span)
    row = Characteristic(balloon=number, name=step.name, step=step.id, **limits)
    return Proposal(plan.edited(sheet=(*plan.sheet, row)), row.balloon, step.id)


def part_frame(plan: Plan) -> str | None:
    """The step that says how the part lies: a datum frame, else what most zones turn with, else an outline."""
    frames = [s for s in plan.steps if issubclass(kind_named(s.kind).output, Frame)]
    usual = usual_follow(plan).rotation
    datums = [s.id for s in frames if s.kind == "frame"]
    return next(iter([*datums, *(s.id for s in frames if s.id == usual), *(s.id for s in frames)]), None)


def _in_the_part(plan: Plan, step: Step) -> Step:
    """The step with its directions those of the part, where the plan knows how that lies, not of the scan."""
    frame = part_frame(plan)
    if frame is None:
        return step
    accepted = kind_named(step.kind).accepted()
    counts_in = {k: (frame,) for k, wanted in accepted.items() if wanted.type is Frame and k not in step.inputs}
    return step.edited(inputs={**step.inputs, **counts_in}) if counts_in else step
