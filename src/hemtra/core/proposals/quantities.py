"""Proposals of characteristics from clicks: each takes what lies there, also features known already."""

from __future__ import annotations

import math
from contextlib import suppress

import numpy as np
import scipy  # its parts load when they are used first

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import HemtraError, NotMeasured
from hemtra.core.evaluation.engine import Engine
from hemtra.core.features.code import ReadCode
from hemtra.core.features.island import IslandKind
from hemtra.core.features.plane import FittedPlane
from hemtra.core.features.section import Cut
from hemtra.core.geometry.elements import Plane, Point
from hemtra.core.geometry.section_edge_kernels import ROUNDING, WHOLLY
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.plan.document import Plan, Step
from hemtra.core.plan.follow import followed
from hemtra.core.plan.registry import kind_named
from hemtra.core.proposals.option import option
from hemtra.core.proposals.pick_detection import RING_ROOM, PickedFeature, need, seen_at
from hemtra.core.proposals.proposing import (
    Proposal,
    datum_plane,
    propose_spot,
    propose_step,
    region_name,
    with_feature,
    with_row,
)
from hemtra.core.runs import runs
from hemtra.core.zones.zone import AnyZone, EllipseZone, RectangleZone

Place = tuple[float, float]
SAME = 0.25
"""Share of a zone's size within which a click on something known means that."""
ALIKE = 3.0
"""Ratio of areas within which two zones are about the same."""
CODE = 16.0
"""Size of the zone about a clicked code, mm."""
SEEN_STEP = 0.05
"""Minimum depth of a visible gap below its sides, mm."""
UNSEEN_GAP, BESIDE = 0.3, 0.5
ROUNDINGS = np.round(np.arange(0.1, 0.81, 0.05), 2)
"""Radii in mm of edges that are found from points on them."""
ENOUGH_LEVEL, ENOUGH_ROUND, ROUND_TO = 10, 4, 0.02
"""Points on the surface and on its rounding that takes, and mm in which these must agree."""
"""Width without data of a gap too deep to measure, and search distance beside a click for its sides, mm."""
BEYOND = 4.0
"""Length of a section behind either click, mm."""
HOLE_FILL = 0.65
"""Share of its rectangle from which on a patch without data is a hole by itself."""
FOOT, FOOT_NOISE = 0.02, 5.0
"""Minimum height of an island above the surface, mm, and in residuals of its plane."""
ROOM = 3.0
"""Margin of the zone about an island, mm."""
LONGEST_NAME = 60
"""Letters of a proposed name."""


def taken(plan: Plan, engine: Engine, seen: PickedFeature, title: str = "") -> tuple[Plan, str]:
    """Return the plan with the detected feature, or with the one there already."""
    for step in plan.steps:
        if step.kind != seen.kind or step.zone is None:
            continue
        homes = {s.id: s.home for s in plan.steps if s.home is not None}
        values = {i: r.value for i, r in engine.run(plan.edited(sheet=())).steps.items()}
        try:
            zone = followed(step.zone, step.follow, homes, values) if step.follow.anchors else step.zone
        except NotMeasured:
            continue
        near = math.hypot(zone.x - seen.zone.x, zone.y - seen.zone.y) <= SAME * min(zone.width, zone.height)
        alike = 1 / ALIKE <= zone.area / seen.zone.area <= ALIKE
        if near and alike and all(step.params.get(k, v) == v for k, v in seen.params.items()):
            return plan, step.id
    title = title or {"hole": "Hole", "boss": "Boss", "edge": "Edge", "level": "Spot"}[seen.what]
    step = Step(
        id=plan.free_id(title),
        name=f"{title} {region_name(engine.data, seen.zone.x, seen.zone.y)}",
        kind=seen.kind,
        params=seen.params,
        zone=seen.zone,
    )
    return with_feature(plan, engine, step)


def quantity(
    plan: Plan,
    engine: Engine,
    kind: str,
    inputs: dict[str, tuple[str, ...]],
    step: Step | None = None,
    title: str = "",
    **params: object,
) -> Proposal:
    """The plan with a quantity and its row; `step` where it is made already, `title` its name."""
    step = step or Step(
        id=plan.free_id(kind),
        name=named_after(plan, kind, inputs, title),
        kind=kind,
        inputs=inputs,
        params=params,
    )
    return with_row(plan, engine, step)


def named_after(plan: Plan, kind: str, inputs: dict[str, tuple[str, ...]], title: str) -> str:
    """Name of the quantity and its feature: “Diameter, Bore rim”."""
    title = title or kind_named(kind).title
    main = [plan.step(i).name for i in dict.fromkeys(i for ids in inputs.values() for i in ids)]
    of = " – ".join(main if kind not in ("tilt", "true-position") else main[:1])
    name = f"{title}, {of}" if of else title
    return name if len(name) <= LONGEST_NAME else f"{title} {plan.free_balloon()}"


@option("diameter", "Diameter", "O", "of a hole or boss", "Sizes", clicks=("inside the hole, or on the boss",))
def propose_diameter(plan: Plan, engine: Engine, place: Place) -> Proposal:
    """Diameter of the hole or boss at a place."""
    seen = need(seen_at(engine.data, *place), ("hole", "boss"), "inside a hole or on a round boss")
    plan, circle = taken(plan, engine, seen)
    return quantity(plan, engine, "diameter", {"of": (circle,)})


@option("roundness", "Roundness", "R", "of a hole or boss", "Form", clicks=("inside the hole, or on the boss",))
def propose_roundness(plan: Plan, engine: Engine, place: Place) -> Proposal:
    """Roundness of the hole or boss at a place."""
    seen = need(seen_at(engine.data, *place), ("hole", "boss"), "inside a hole or on a round boss")
    plan, circle = taken(plan, engine, seen)
    return quantity(plan, engine, "roundness", {"circle": (circle,)})


@option(
    "true-position", "Position", "P", "of a hole or boss", "Places", clicks=("inside the hole, or on the boss",)
)
def propose_true_position(plan: Plan, engine: Engine, place: Place) -> Proposal:
    """Position of the hole or boss at a place, in the plan's datum frame or outline."""
    seen = need(seen_at(engine.data, *place), ("hole", "boss"), "inside a hole or on a round boss")
    plan, circle = taken(plan, engine, seen)
    frames = [s.id for kind in ("frame", "outline") for s in plan.steps if s.kind == kind]
    if not frames:
        raise HemtraError(
            "A position counts from a frame of the part; find the part by its outline first, or add datums."
        )
    inputs: dict[str, tuple[str, ...]] = {"point": (circle,), "frame": (frames[0],)}
    probe = Step(id="here", name="here", kind="position", inputs=inputs)
    facts = engine.run(plan.edited(sheet=(), steps=(*plan.steps, probe))).steps["here"]
    if facts.outcome is None:
        raise HemtraError(f"Its place is not known: {facts.reason}.")
    x, y = (round(float(dict(facts.outcome.facts)[axis].removesuffix(" mm")), 2) for axis in ("x", "y"))
    return quantity(plan, engine, "true-position", inputs, x=x, y=y)


@option(
    "distance",
    "Distance",
    "D",
    "between holes, edges or spots",
    "Sizes",
    clicks=("the first", "the second"),
    printed=True,
)
def propose_distance(
    plan: Plan, engine: Engine, first: Place, second: Place, *, printed: bool = False
) -> Proposal:
    """Distance between what lies at two places; printed: edges of intensity come before those of height."""
    plan, start = taken(plan, engine, seen_at(engine.data, *first, printed=printed))
    plan, end = taken(plan, engine, seen_at(engine.data, *second, printed=printed))
    return quantity(plan, engine, "distance", {"start": (start,), "end": (end,)})


@option(
    "width",
    "Width",
    "W",
    "between two edges",
    "Sizes",
    clicks=("next to the first edge", "next to the other edge"),
)
def propose_width(plan: Plan, engine: Engine, first: Place, second: Place) -> Proposal:
    """Width between the edges at two places."""
    plan, one = taken(plan, engine, need(seen_at(engine.data, *first), ("edge",), "next to an edge"))
    plan, other = taken(plan, engine, need(seen_at(engine.data, *second), ("edge",), "next to an edge"))
    return quantity(plan, engine, "width", {"one": (one,), "other": (other,)})


@option(
    "angle",
    "Angle",
    "A",
    "between two edges",
    "Places",
    clicks=("next to the first edge", "next to the other edge"),
)
def propose_angle(plan: Plan, engine: Engine, first: Place, second: Place) -> Proposal:
    """Angle between the edges at two places."""
    plan, one = taken(plan, engine, need(seen_at(engine.data, *first), ("edge",), "next to an edge"))
    plan, other = taken(plan, engine, need(seen_at(engine.data, *second), ("edge",), "next to an edge"))
    return quantity(plan, engine, "angle", {"line": (one,), "to": (other,)})


@option("straightness", "Straightness", "I", "of an edge", "Form", clicks=("next to the edge",))
def propose_straightness(plan: Plan, engine: Engine, place: Place) -> Proposal:
    """Straightness of the edge at a place."""
    plan, edge = taken(plan, engine, need(seen_at(engine.data, *place), ("edge",), "next to an edge"))
    return quantity(plan, engine, "straightness", {"edge": (edge,)})


@option("flatness", "Flatness", "F", "of a surface", "Form", clicks=("the surface",))
def propose_flatness(plan: Plan, engine: Engine, place: Place) -> Proposal:
    """Flatness of the surface at a place."""
    plan, plane = surface_at(plan, engine, place)
    return quantity(plan, engine, "flatness", {"surfaces": (plane,)})


@option("tilt", "Tilt", "T", "of a surface against the datum", "Places", clicks=("the surface",))
def propose_tilt(plan: Plan, engine: Engine, place: Place) -> Proposal:
    """Tilt of the surface at a place against the plan's datum plane."""
    plan, datum = datum_plane(plan, engine)
    plan, plane = surface_at(plan, engine, place)
    return quantity(plan, engine, "tilt", {"plane": (plane,), "to": (datum,)})


@option(
    "flush", "Flush", "U", "of two surfaces beside each other", "Heights", clicks=("one surface", "the other")
)
def propose_flush(plan: Plan, engine: Engine, first: Place, second: Place) -> Proposal:
    """Height of one surface above another beside it."""
    return propose_step(plan, engine, first, second)


@option("gap", "Gap", "G", "between two sides", "Sizes", clicks=("one side of it", "the other side"))
def propose_gap(plan: Plan, engine: Engine, first: Place, second: Place) -> Proposal:
    """Gap between two places on either side of it, on a section through both."""
    length = math.dist(first, second)
    if length < 0.1:
        raise HemtraError("Click the two sides of the gap, not the same place twice.")
    turn = math.degrees(math.atan2(second[1] - first[1], second[0] - first[0]))
    x, y = (first[0] + second[0]) / 2, (first[1] + second[1]) / 2
    whole = length + 2 * BEYOND
    zone = RectangleZone(
        x=round(x, 2), y=round(y, 2), width=round(whole, 2), height=2.0, rotation=round(turn, 2)
    )
    number = plan.free_balloon()
    cut = Step(id=plan.free_id("cut"), name=f"Cut {number}", kind="section", zone=zone)
    plan, cut_id = with_feature(plan, engine, cut)
    found = engine.run(plan.edited(sheet=())).steps[cut_id]
    if not isinstance(found.value, Cut):
        raise HemtraError(f"The gap was not added: {found.reason}.")
    half = length / 2
    # a gap too deep to measure ends the data, a shallow one is a step; the likelier one is tried first
    ways = ("data", "steepest") if _widest_unseen(found.value, half) >= UNSEEN_GAP else ("steepest", "data")
    heights = found.value.z[np.abs(found.value.x) <= half + BESIDE]
    low, high = float(np.nanmin(heights)), float(np.nanmax(heights))
    look = RectangleZone(
        x=0.0,
        y=round((low + high) / 2, 2),
        width=round(length + 2 * BESIDE, 2),
        height=round(high - low + 2 * BESIDE, 2),
    )
    for by in ways:
        sides = [
            Step(
                id=plan.free_id(f"gap-{name}"),
                name=f"Gap {number}, {name}",
                kind="profile-edge",
                params={"by": by, "change": change, "pick": pick, "least_gap": UNSEEN_GAP / 2},
                inputs={"section": (cut_id,)},
                zone=look,
            )
            for name, change, pick in (("left", "falls", "first"), ("right", "rises", "last"))
        ]
        tried = plan.edited(steps=(*plan.steps, *sides))
        results = engine.run(tried.edited(sheet=())).steps
        ends = [_along(found.value, results[side.id].value) for side in sides]
        left, right = ends
        if left is None or right is None or not -half - BESIDE <= left < right <= half + BESIDE:
            continue
        if by == "data":
            radius = _rounding(found.value, left, right)
            sides = [side.edited(params={**side.params, "radius": radius}) for side in sides]
            tried = plan.edited(steps=(*plan.steps, *sides))
        if _opens(found.value, left, right):
            return quantity(tried, engine, "gap", {"left": (sides[0].id,), "right": (sides[1].id,)})
    raise HemtraError(
        "No gap was found between the two clicks: click the flat surface on either side, closer to the gap."
    )


def _opens(cut: Cut, left: float, right: float) -> bool:
    """Whether a section lies below both sides between two places, or has no data there."""
    step = float(cut.x[1] - cut.x[0])
    between = cut.z[(cut.x > left + step) & (cut.x < right - step)]
    if between.size == 0 or np.isnan(between).mean() > 0.5:
        return True
    before = cut.z[(cut.x > left - 2 * BESIDE) & (cut.x < left - step)]
    after = cut.z[(cut.x > right + step) & (cut.x < right + 2 * BESIDE)]
    if np.isnan(before).all() or np.isnan(after).all():
        return False
    lower = min(float(np.nanmedian(before)), float(np.nanmedian(after)))
    return float(np.nanmedian(between)) < lower - SEEN_STEP


def _widest_unseen(cut: Cut, half: float) -> float:
    """Width of the widest stretch without data within so many mm of the middle of a section, mm."""
    step = float(cut.x[1] - cut.x[0])
    unseen = np.isnan(cut.z) if cut.seen is None else cut.seen < 0.5
    return max((many * step for _, many in runs(unseen & (np.abs(cut.x) <= half), False)), default=0.0)


def _rounding(cut: Cut, left: float, right: float) -> float:
    """Radius in mm, to a twentieth, by which both sides of a gap are rounded; 0 where they are sharp.

    It is the one for which all points on either rounding say that it stands upright at the same place.
    """
    spreads = np.hypot(_spreads(cut, left, 1), _spreads(cut, right, -1))
    best = int(np.argmin(spreads))
    return float(ROUNDINGS[best]) if spreads[best] <= ROUND_TO else 0.0


def _spreads(cut: Cut, end: float, way: int) -> FloatArray:
    """For each of `ROUNDINGS`, how far apart in mm points on it say that it ends; infinite where too few do.

    way: 1 where the surface lies at smaller x, -1 where at larger.
    """
    behind = way * (end - cut.x)
    held = ~np.isnan(cut.z) & (np.ones(cut.x.size) if cut.seen is None else cut.seen >= WHOLLY)
    level = held & (behind > ROUNDINGS[-1]) & (behind < 2.5 * ROUNDINGS[-1])
    out = np.full(ROUNDINGS.size, np.inf)
    if np.count_nonzero(level) < ENOUGH_LEVEL:
        return out
    b, a = np.polyfit(cut.x[level], cut.z[level], 1)
    x, depth = cut.x, np.where(held, a + b * cut.x - cut.z, np.nan)
    for k, radius in enumerate(ROUNDINGS):
        on = (depth > ROUNDING[0] * radius) & (depth < ROUNDING[1] * radius)
        on &= (behind > -radius / 2) & (behind < 1.5 * radius)
        if np.count_nonzero(on) < ENOUGH_ROUND:
            continue
        run = np.sqrt(2 * radius * depth[on] - depth[on] ** 2)
        ends, weight = x[on] + way * (radius - run), (run / (radius - depth[on])) ** 2
        # where it is steep a height says more about the place
        out[k] = math.sqrt(np.average((ends - np.average(ends, weights=weight)) ** 2, weights=weight))
    return out


def _along(cut: Cut, point: object) -> float | None:
    """Position of a section's point along it, in mm from its middle; None where there is none."""
    if not isinstance(point, Point):
        return None
    turn = math.radians(cut.direction)
    return (point.x - cut.at[0]) * math.cos(turn) + (point.y - cut.at[1]) * math.sin(turn)


@option("area", "Area", "E", "of a raised region", "Surfaces", clicks=("the raised region",))
def propose_area(plan: Plan, engine: Engine, place: Place) -> Proposal:
    """Area of the island at a place, down to its base."""
    plan, island = _whole_island(plan, engine, place)
    return quantity(plan, engine, "area", {"of": (island,)})


@option("volume", "Volume", "V", "of a raised region", "Surfaces", clicks=("the raised region",))
def propose_volume(plan: Plan, engine: Engine, place: Place) -> Proposal:
    """Volume of the island at a place, from the surface it stands on."""
    plan, island = _whole_island(plan, engine, place)
    return quantity(plan, engine, "volume", {"of": (island,)})


def _whole_island(plan: Plan, engine: Engine, place: Place) -> tuple[Plan, str]:
    """Area raised or sunk from the datum plane at a place, down to its base, ignoring dropouts."""
    plan, island = island_at(plan, engine, place, foot=True)
    step, found = plan.step(island), engine.run(plan.edited(sheet=())).steps[island]
    if found.outcome is None or step.zone is None or found.zone is None:
        return plan, island
    kind = IslandKind.model_validate(step.params)
    pieces: list[AnyZone] = []
    for about, fill in kind.unseen_inside(engine.given(engine.run(plan.edited(sheet=())), island)):
        hole = _hole(engine.data, about, fill)
        if hole is not None:
            # from the scan into the zone's own coordinates
            u, v = found.zone.local(np.array(hole.x), np.array(hole.y))
            changes = {"x": float(u), "y": float(v), "rotation": -found.zone.rotation}
            pieces.append(hole.model_copy(update=changes))
    if pieces:
        zone = step.zone.model_copy(update={"cut": (*step.zone.cut, *pieces)})
        plan = plan.with_step(step.edited(zone=zone))
    return plan, island


def _hole(data: HeightMap, about: AnyZone, fill: float) -> AnyZone | None:
    """The hole around a patch without data: round, or the patch itself where that is a plain shape."""
    with suppress(NotMeasured):
        seen = seen_at(data, about.x, about.y)
        if seen.what == "hole":
            size = seen.zone.width - RING_ROOM
            return EllipseZone(x=seen.zone.x, y=seen.zone.y, width=size, height=size)
    return about if fill >= HOLE_FILL else None


@option("code", "Code", "C", "that must be readable", "Other", clicks=("the middle of the code",))
def propose_code(plan: Plan, engine: Engine, place: Place) -> Proposal:
    """Propose the content of the code at a place."""
    zone = RectangleZone(x=round(place[0], 2), y=round(place[1], 2), width=CODE, height=CODE)
    step = Step(id=plan.free_id("code"), name=f"Code {plan.free_balloon()}", kind="code", zone=zone)
    plan, code = with_feature(plan, engine, step)
    found = engine.run(plan.edited(sheet=())).steps[code]
    if not isinstance(found.value, ReadCode):
        raise HemtraError(f"The code was not added: {found.reason}.")
    # serial numbers count up, so digits may be any
    pattern = "".join("#" if letter.isdecimal() else letter for letter in found.value.text)
    return quantity(plan, engine, "code-reads", {"of": (code,)}, expected=pattern)


@option("formula", "Formula", "X", "over other rows", "Other", on=("map", "profile"))
def propose_formula(plan: Plan, engine: Engine) -> Proposal:
    """A formula that begins with the first two rows of the sheet."""
    rows = tuple(row.step for row in plan.sheet if row.step is not None)[:2]
    if not rows:
        raise HemtraError("A formula calculates with other rows of the sheet; add one first.")
    text = "a - b" if len(rows) > 1 else "a"
    return quantity(plan, engine, "formula", {"numbers": rows}, text=text)


def surface_at(plan: Plan, engine: Engine, place: Place) -> tuple[Plan, str]:
    """The plane of the surface at a place, fitted to a spot there."""
    seen = PickedFeature("level", "plane", propose_spot(engine.data, *place), {})
    return taken(plan, engine, seen, "Plane")


def island_at(plan: Plan, engine: Engine, place: Place, *, foot: bool = False) -> tuple[Plan, str]:
    """Area raised or sunk from the datum plane at a place, bounded at half its height or at its toe."""
    plan, plane_id = datum_plane(plan, engine)
    plane = engine.run(plan.edited(sheet=())).steps[plane_id].value
    at = engine.data.height_at(*place)
    if plane is None or at is None:
        raise NotMeasured("there is no data where you clicked; click on the raised region")
    rise = at - plane.height_at(*place)
    if abs(rise) < 0.05:
        raise NotMeasured("no raised region above the datum plane there; click on one")
    number = plan.free_balloon()
    params: dict[str, object] = {"side": "above" if rise > 0 else "below", "level": round(rise / 2, 3)}
    if foot:
        # above what the plane itself leaves, and no more of the island than that is lost
        rest = plane.rms if isinstance(plane, FittedPlane) else 0.0
        level = math.copysign(min(max(FOOT, FOOT_NOISE * rest), abs(rise) / 2), rise)
        params |= {"level": round(level, 3), "volume_from": "base"}
    zone = box_about(engine.data, plane, place, float(str(params["level"])))
    step = Step(id=plan.free_id("island"), name=f"Island {number}", kind="island", params=params, zone=zone)
    plan, island = with_feature(plan, engine, step)
    follow = plan.step(island).follow.edited(z=plane_id, tilt=plane_id)
    return plan.with_step(plan.step(island).edited(follow=follow)), island


def box_about(data: HeightMap, plane: Plane, place: Place, level: float, room: float = ROOM) -> RectangleZone:
    """A rectangle with mm of room in all about the region beyond a level that a place lies in."""
    grid, (rows, cols) = data.grid, data.shape
    x, y = grid.x0 + grid.dx * np.arange(cols), grid.y0 + grid.dy * np.arange(rows)
    ground = plane.height_at(x, np.array(plane.y0))[None, :] + (plane.slope_y * (y - plane.y0))[:, None]
    height = data.z - ground
    labels, _ = scipy.ndimage.label(height > level if level > 0 else height < level)
    j, i = round((place[0] - grid.x0) / grid.dx), round((place[1] - grid.y0) / grid.dy)
    found = labels == labels[i, j]
    across, along = np.flatnonzero(found.any(axis=0)), np.flatnonzero(found.any(axis=1))
    ends = x[across[[0, -1]]], y[along[[0, -1]]]
    return RectangleZone(
        x=round(float(ends[0].mean()), 2),
        y=round(float(ends[1].mean()), 2),
        width=round(float(np.ptp(ends[0])) + room, 2),
        height=round(float(np.ptp(ends[1])) + room, 2),
    )
