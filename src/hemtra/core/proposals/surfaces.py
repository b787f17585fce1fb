"""Proposals of what is requested less often: openings, rounded tops, counts, shares, and the reference."""

from __future__ import annotations

import numpy as np

from hemtra.core.characteristics.coplanarity import FEWEST
from hemtra.core.detection.island_kernels import runs_of
from hemtra.core.errors import HemtraError, NotMeasured
from hemtra.core.evaluation.engine import Engine
from hemtra.core.features.island import Island, IslandKind
from hemtra.core.geometry.elements import Plane
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.plan.document import Plan, Step
from hemtra.core.proposals.option import option
from hemtra.core.proposals.pick_detection import PickedFeature, need, seen_at
from hemtra.core.proposals.proposing import Proposal, datum_plane, propose_spot, region_name, with_feature
from hemtra.core.proposals.quantities import Place, island_at, quantity, taken
from hemtra.core.zones.zone import EllipseZone, RectangleZone

ROOM = 1.5
"""Margin of the zone about an opening, mm."""
ALIKE = 1.4
"""Ratio of areas and of heights within which things are alike."""
DEEP = 0.3
"""Minimum depth of an opening below its surroundings, mm."""
ROUNDED, PATCH = 5.0, 10.0
"""Size of the zones on a rounded top, and on a surface whose data or form is measured, mm."""


@option("slot-length", "Slot length", "L", "of an opening", "Sizes", clicks=("inside the opening",))
def propose_slot_length(plan: Plan, engine: Engine, place: Place) -> Proposal:
    """Length of the opening with straight sides at a place."""
    plan, slot = _opening(plan, engine, place)
    return quantity(plan, engine, "opening-size", {"of": (slot,)}, title="Length")


@option("slot-width", "Slot width", "K", "of an opening", "Sizes", clicks=("inside the opening",))
def propose_slot_width(plan: Plan, engine: Engine, place: Place) -> Proposal:
    """Width of the opening with straight sides at a place."""
    plan, slot = _opening(plan, engine, place)
    return quantity(plan, engine, "opening-size", {"of": (slot,)}, title="Width", what="width")


@option("dome-radius", "Radius", "Y", "of a rounded top", "Sizes", clicks=("the rounded top",))
def propose_dome_radius(plan: Plan, engine: Engine, place: Place) -> Proposal:
    """Radius of the rounded top at a place."""
    zone = EllipseZone(x=round(place[0], 2), y=round(place[1], 2), width=ROUNDED, height=ROUNDED)
    name = f"Rounded surface {region_name(engine.data, *place)}"
    plan, dome = with_feature(plan, engine, Step(id=plan.free_id("dome"), name=name, kind="dome", zone=zone))
    return quantity(plan, engine, "radius", {"of": (dome,)})


@option("position", "Coordinate", "Q", "of a hole, edge or spot", "Places", clicks=("the hole, edge or spot",))
def propose_position(plan: Plan, engine: Engine, place: Place) -> Proposal:
    """Place along x, in the part's frame, of what lies at a place."""
    plan, point = taken(plan, engine, seen_at(engine.data, *place))
    frames = [s.id for kind in ("frame", "outline") for s in plan.steps if s.kind == kind]
    inputs: dict[str, tuple[str, ...]] = {"point": (point,)}
    return quantity(plan, engine, "position", {**inputs, "frame": (frames[0],)} if frames else inputs)


@option("parallelism", "Parallelism", "J", "of a surface to the datum", "Form", clicks=("the surface",))
def propose_parallelism(plan: Plan, engine: Engine, place: Place) -> Proposal:
    """Parallelism of the surface at a place to the plan's datum plane."""
    plan, datum = datum_plane(plan, engine)
    plan, plane = taken(plan, engine, PickedFeature("level", "plane", propose_spot(engine.data, *place), {}))
    if plane == datum:
        raise HemtraError("That surface is the datum itself; click another one.")
    return quantity(plan, engine, "parallelism", {"plane": (plane,), "datum": (datum,)})


@option(
    "perpendicularity",
    "Perpendicularity",
    "2",
    "of one edge to another",
    "Form",
    clicks=("next to the edge to measure", "next to its datum edge"),
)
def propose_perpendicularity(plan: Plan, engine: Engine, place: Place, datum: Place) -> Proposal:
    """Perpendicularity of the edge at a place to the one at another."""
    plan, edge = taken(plan, engine, need(seen_at(engine.data, *place), ("edge",), "next to an edge"))
    plan, to = taken(plan, engine, need(seen_at(engine.data, *datum), ("edge",), "next to an edge"))
    if edge == to:
        raise HemtraError("Both clicks are on the same edge; click the edge it should be square to.")
    inputs: dict[str, tuple[str, ...]] = {"edge": (edge,), "to": (to,)}
    return quantity(plan, engine, "parallelism", inputs, title="Perpendicularity", turn="square")


@option("coplanarity", "Coplanarity", "1", "of four spots or more", "Form", clicks=("the spots",), more="spots")
def propose_coplanarity(plan: Plan, engine: Engine, *places: Place) -> Proposal:
    """Coplanarity of the spots at several places."""
    if len(places) < FEWEST:
        raise HemtraError(f"Coplanarity needs {FEWEST} spots or more; {len(places)} were clicked.")
    spots = []
    for place in places:
        spot = PickedFeature("level", "spot", propose_spot(engine.data, *place), {})
        plan, step_id = taken(plan, engine, spot)
        spots.append(step_id)
    if len(set(spots)) < FEWEST:
        raise HemtraError(f"Coplanarity needs {FEWEST} different spots; some clicks were on the same one.")
    return quantity(plan, engine, "coplanarity", {"points": tuple(dict.fromkeys(spots))})


@option("fill", "Filled share", "3", "of a surface", "Surfaces", clicks=("what fills it",))
def propose_fill(plan: Plan, engine: Engine, place: Place) -> Proposal:
    """Share of the surface about a place that stands above half the height of what is there."""
    plan, plane_id = datum_plane(plan, engine)
    plane = engine.run(plan.edited(sheet=())).steps[plane_id].value
    at = engine.data.height_at(*place)
    if plane is None or at is None:
        raise NotMeasured("there is no data where you clicked; click on what fills the surface")
    rise = at - plane.height_at(*place)
    params = {"side": "above" if rise >= 0 else "below", "level": round(rise / 2, 3)}
    step = Step(
        id=plan.free_id("fill"),
        name=f"Filled share {region_name(engine.data, *place)}",
        kind="fill-share",
        params=params,
        zone=_patch(place),
    )
    plan, fill = with_feature(plan, engine, step)
    step = plan.step(fill)
    step = step.edited(follow=step.follow.edited(z=plane_id, tilt=plane_id))
    return quantity(plan.edited(steps=plan.steps[:-1]), engine, "fill-share", {}, step)


@option("count", "Count", "N", "of a raised region", "Surfaces", clicks=("one raised region",))
def propose_count(plan: Plan, engine: Engine, place: Place) -> Proposal:
    """Number of raised regions like the one at a place, by size and height, on the surface about it."""
    plan, plane = datum_plane(plan, engine)
    plan, island = island_at(plan, engine, place)
    step, surface = plan.step(island), plan.step(plane)
    result = engine.run(plan.edited(sheet=()))
    one = result.steps[island].value
    if not isinstance(one, Island) or one.area <= 0.0:
        raise HemtraError(
            f"The count was not added: {result.steps[island].reason or 'no raised region there'}."
        )
    height = abs(one.volume / one.area + float(str(step.params["level"])) * (1 if one.volume else 0))
    params = {
        **step.params,
        "least_area": round(one.area / ALIKE, 3),
        "greatest_area": round(one.area * ALIKE, 3),
        "least_height": round(height / ALIKE, 3),
        "greatest_height": round(height * ALIKE, 3),
    }
    zone = step.zone
    if surface.zone is not None:
        # all over the surface, with what is cut out of it for being no part of it, not only about
        # what was clicked
        zone = surface.zone.model_copy(update={"cut": (), "add": ()})
    plan = plan.with_step(step.edited(zone=zone, params=params, name=f"{step.name}, all alike"))
    result = engine.run(plan.edited(sheet=()))
    kind = IslandKind.model_validate(params)
    if result.steps[island].outcome is None or not kind.holds(engine.given(result, island), *place):
        # it lies partly outside of the surface: then only its surroundings count
        plan = plan.with_step(plan.step(island).edited(zone=step.zone))
    return quantity(plan, engine, "count", {"of": (island,)})


@option("depth", "Depth", "B", "of a floor below the datum", "Heights", clicks=("the floor",))
def propose_depth(plan: Plan, engine: Engine, place: Place) -> Proposal:
    """Depth of the floor at a place below the plan's datum plane."""
    plan, plane = datum_plane(plan, engine)
    need(seen_at(engine.data, *place), ("hole", "boss", "edge", "level"), "on the floor")
    spot = PickedFeature("level", "spot", propose_spot(engine.data, *place), {})
    plan, floor = taken(plan, engine, spot)
    return quantity(plan, engine, "height", {"point": (floor,), "plane": (plane,)}, title="Depth")


@option("data-share", "Data share", "M", "of a surface", "Surfaces", clicks=("the surface",))
def propose_data_share(plan: Plan, engine: Engine, place: Place) -> Proposal:
    """Share of the surface about a place that holds data."""
    return _alone(plan, engine, "data-share", place)


@option("deviation", "Deviation", "Z", "from the reference part", "Surfaces", clicks=("the surface",))
def propose_deviation(plan: Plan, engine: Engine, place: Place) -> Proposal:
    """Largest deviation of the surface about a place from the reference."""
    step = Step(
        id=plan.free_id("difference"),
        name=f"Difference {region_name(engine.data, *place)}",
        kind="deviation-map",
        zone=_patch(place),
    )
    plan, difference = with_feature(plan, engine, step)
    return quantity(plan, engine, "surface-deviation", {"of": (difference,)})


@option("match", "Match", "0", "of the part's outline", "Other")
def propose_match(plan: Plan, engine: Engine) -> Proposal:
    """Share of the part's outline that is found."""
    outline = next((s.id for s in plan.steps if s.kind == "outline"), None)
    if outline is None:
        raise HemtraError("A match score is that of an outline; find the part by its outline first.")
    return quantity(plan, engine, "match", {"of": (outline,)})


def _alone(plan: Plan, engine: Engine, kind: str, place: Place) -> Proposal:
    """A quantity that reads the data itself."""
    name = f"Surface {region_name(engine.data, *place)}"
    step = Step(id=plan.free_id(kind), name=name, kind=kind, zone=_patch(place))
    before = {s.id for s in plan.steps}
    placed, step_id = with_feature(plan, engine, step)
    step = placed.step(step_id)
    rest = placed.edited(steps=tuple(s for s in placed.steps if s.id in before))
    return quantity(rest, engine, kind, {}, step=step)


def _patch(place: Place) -> RectangleZone:
    return RectangleZone(x=round(place[0], 2), y=round(place[1], 2), width=PATCH, height=PATCH)


def _opening(plan: Plan, engine: Engine, place: Place) -> tuple[Plan, str]:
    plan, plane_id = datum_plane(plan, engine)
    plane = engine.run(plan.edited(sheet=())).steps[plane_id].value
    if plane is None:
        raise NotMeasured("the datum plane was not found, so nothing can lie below it")
    zone, deep = _about_opening(engine.data, plane, place)
    seen = PickedFeature(
        "level", "slot", zone, {"change": "rises", "least_step": round(min(0.5 * deep, 1.0), 3)}
    )
    return taken(plan, engine, seen, title="Slot")


def _about_opening(data: HeightMap, plane: Plane, place: Place) -> tuple[EllipseZone, float]:
    """A zone about the opening that a place lies in, and about how deep that is; without data, 2 mm."""
    grid, (rows, cols) = data.grid, data.shape
    j, i = round((place[0] - grid.x0) / grid.dx), round((place[1] - grid.y0) / grid.dy)
    if not (0 <= i < rows and 0 <= j < cols):
        raise HemtraError("That is beside the scan; click inside the opening.")
    here = data.z[i, j]
    deep = 2.0 if np.isnan(here) else plane.height_at(*place) - float(here)
    x, y = data.x, data.y
    ground = plane.height_at(x, np.array(plane.y0))[None, :] + (plane.slope_y * (y - plane.y0))[:, None]
    # an opening too deep to measure has no data
    mask = ~(data.z - ground.astype(np.float32) > -0.5 * max(deep, DEEP))
    runs, region = runs_of(mask)
    at = np.flatnonzero((runs[:, 0] == i) & (runs[:, 1] <= j) & (runs[:, 2] >= j))
    inside = runs[region == region[at[0]]] if at.size else runs[:0]
    if deep < DEEP or not inside.size:
        raise NotMeasured("there is no opening where you clicked; click inside it")
    first, last = inside[:, 1].min(), inside[:, 2].max()
    low, high = inside[:, 0].min(), inside[:, 0].max()
    if first == 0 or low == 0 or last == cols - 1 or high == rows - 1:
        raise HemtraError("The opening reaches to the end of the scan; click one that is seen whole.")
    size = float(np.hypot((last - first) * grid.dx, (high - low) * grid.dy)) + 2 * ROOM
    mx, my = grid.x0 + grid.dx * (first + last) / 2, grid.y0 + grid.dy * (low + high) / 2
    return EllipseZone(x=round(mx, 2), y=round(my, 2), width=round(size, 2), height=round(size, 2)), deep
