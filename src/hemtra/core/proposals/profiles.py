"""Proposals of characteristics from clicks on a profile: each takes what lies there, or is known already."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import HemtraError, NotMeasured
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.profile_runs import single
from hemtra.core.evaluation.results import Result
from hemtra.core.features.section import Cut, SectionFeature
from hemtra.core.geometry.elements import Line
from hemtra.core.geometry.profile_fits import plain_line, robust_arc
from hemtra.core.plan.document import Follow, Plan, Step
from hemtra.core.plan.follow import followed_on_profile
from hemtra.core.plan.registry import kind_named
from hemtra.core.proposals.option import option
from hemtra.core.proposals.proposing import Proposal, with_row
from hemtra.core.zones.zone import AnyZone, RectangleZone

Place = tuple[float, float]
"""x and z in mm of a click on a profile."""
SEED = 4
"""Points either side of a click from which a straight stretch or an arc is grown."""
ROOM = 0.02
"""Tolerance of points while a stretch grows, besides their noise, mm."""
ABOVE = 0.6
"""Margin of a zone above and below its target, mm."""
EDGE_REACH, EDGE_WIDTH, FEWEST = 2.5, 2.4, 3
"""Search distance about a click for an edge, mm; size of its zone, mm; minimum number of points in it."""
GROOVE_HALVES = (1.0, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 7.0, 10.0)
"""Half widths of zones tried about a clicked groove, mm."""
EVEN = 0.03
"""rms in mm of the base beside a groove that is still even."""
PARALLEL = 0.05
"""Sine of the angle of two lines from which on they are taken to meet."""
BENT = 0.05
"""Smallest distance of an arc's middle from its chord, mm."""


@dataclass(frozen=True)
class OnProfile:
    """Context of the clicks: the plan, the engine of the part, and the profile shown."""

    plan: Plan
    engine: Engine
    index: int

    @property
    def result(self) -> Result:
        """The plan on that profile."""
        return self.engine.at_profile(self.plan, self.index).run(single(self.plan))

    @property
    def cut(self) -> Cut:
        """The profile itself."""
        return self.engine.profiles(self.plan).cuts[self.index]


@option(
    "level-step",
    "Step",
    "S",
    "of one level above another",
    "Heights",
    clicks=("one level", "the other level"),
    on=("profile",),
)
def propose_level_step(at: OnProfile, first: Place, second: Place) -> Proposal:
    """Height of one level above another."""
    return _of_two(at, "profile-level", (first, second), "distance", title="Step", along="z")


@option(
    "edge-distance",
    "Distance",
    "D",
    "between two edges",
    "Sizes",
    clicks=("next to the first edge", "next to the other edge"),
    on=("profile",),
)
def propose_edge_distance(at: OnProfile, first: Place, second: Place) -> Proposal:
    """Distance of two edges along the profile."""
    return _of_two(at, "profile-edge", (first, second), "distance", along="x")


@option(
    "line-angle",
    "Angle",
    "A",
    "between two straight stretches",
    "Places",
    clicks=("one stretch", "the other stretch"),
    on=("profile",),
)
def propose_line_angle(at: OnProfile, first: Place, second: Place) -> Proposal:
    """Angle between two straight stretches."""
    plan, one = _feature(at, "profile-line", first)
    plan, other = _feature(OnProfile(plan, at.engine, at.index), "profile-line", second)
    if one == other:
        raise HemtraError("Both clicks mean the same stretch; click two that lie apart.")
    found = OnProfile(plan, at.engine, at.index).result.steps
    take = "obtuse" if _is_obtuse((found[one].value, first), (found[other].value, second)) else "acute"
    return _row(at, plan, "angle", {"line": (one,), "to": (other,)}, take=take)


def _is_obtuse(one: tuple[Line | None, Place], other: tuple[Line | None, Place]) -> bool:
    """Whether two lines make an obtuse angle on the side of the clicks, as a bend is dimensioned."""
    (line, first), (to, second) = one, other
    if line is None or to is None:
        return False
    (ax, _, az), (bx, _, bz) = line.unit, to.unit
    turn = ax * bz - az * bx
    if abs(turn) < PARALLEL:
        return False
    along = ((to.x - line.x) * bz - (to.z - line.z) * bx) / turn
    x, z = line.x + along * ax, line.z + along * az
    return (first[0] - x) * (second[0] - x) + (first[1] - z) * (second[1] - z) < 0.0


@option(
    "profile-gap",
    "Gap",
    "G",
    "between two edges, also rounded ones",
    "Sizes",
    clicks=("one side of it", "the other side"),
    on=("profile",),
)
def propose_profile_gap(at: OnProfile, first: Place, second: Place) -> Proposal:
    """Gap between two sides: between arcs where the edges are rounded, else between edges."""
    return _of_sides(at, (first, second), "lateral")


@option(
    "profile-flush",
    "Flush",
    "U",
    "of the two sides of a gap",
    "Heights",
    clicks=("one side of the gap", "the other side"),
    on=("profile",),
)
def propose_profile_flush(at: OnProfile, first: Place, second: Place) -> Proposal:
    """Height of one side of a gap above the other."""
    return _of_sides(at, (first, second), "flush")


@option("arc-radius", "Radius", "R", "of an arc", "Sizes", clicks=("the arc",), on=("profile",))
def propose_arc_radius(at: OnProfile, place: Place) -> Proposal:
    """Radius of the arc at a place."""
    plan, step_id = _feature(at, "arc", place)
    return _row(at, plan, "radius", {"of": (step_id,)})


@option(
    "groove-depth",
    "Groove depth",
    "H",
    "or height of a ridge",
    "Heights",
    clicks=("the middle of it",),
    on=("profile",),
)
def propose_groove_depth(at: OnProfile, place: Place) -> Proposal:
    """Depth of the groove at a place."""
    plan, step_id = _feature(at, "groove", place)
    return _row(at, plan, "groove-size", {"of": (step_id,)}, "Depth")


@option(
    "groove-width",
    "Groove width",
    "W",
    "or width of a ridge",
    "Sizes",
    clicks=("the middle of it",),
    on=("profile",),
)
def propose_groove_width(at: OnProfile, place: Place) -> Proposal:
    """Width of the groove at a place."""
    plan, step_id = _feature(at, "groove", place)
    return _row(at, plan, "groove-size", {"of": (step_id,)}, "Width", what="width")


def _of_two(
    at: OnProfile,
    kind: str,
    places: tuple[Place, Place],
    quantity: str,
    names: tuple[str, str] = ("start", "end"),
    title: str = "",
    **params: object,
) -> Proposal:
    plan, first = _feature(at, kind, places[0])
    plan, second = _feature(OnProfile(plan, at.engine, at.index), kind, places[1])
    if first == second:
        raise HemtraError("Both clicks mean the same feature; click two that lie apart.")
    return _row(at, plan, quantity, {names[0]: (first,), names[1]: (second,)}, title, **params)


def _of_sides(at: OnProfile, places: tuple[Place, Place], take: str) -> Proposal:
    left, right = sorted(places)
    title = "Flush" if take == "flush" else "Gap"
    try:
        return _of_two(at, "arc", (left, right), "gap", ("left", "right"), title, take=take)
    except (HemtraError, NotMeasured):
        return _of_two(at, "profile-edge", (left, right), "gap", ("left", "right"), title, take=take)


def _row(
    at: OnProfile, plan: Plan, kind: str, inputs: dict[str, tuple[str, ...]], title: str = "", **params: object
) -> Proposal:
    title = title or kind_named(kind).title
    of = " – ".join(plan.step(i).name for ids in inputs.values() for i in ids)
    step = Step(
        id=plan.free_id(kind),
        name=f"{title}, {of}"[:120],
        kind=kind,
        inputs=inputs,
        params=params,
    )
    return with_row(plan, at.engine, step)


def _feature(at: OnProfile, kind: str, place: Place) -> tuple[Plan, str]:
    """The plan with a feature of a kind at a place, or the one there already."""
    known = [
        (zone.area, step.id)
        for step, zone in placed_on(at)
        if step.kind == kind and zone.contains(np.array(place[0]), np.array(place[1]))
    ]
    if known:
        return at.plan, min(known)[1]
    zone, params = laid(kind, at.cut, place)
    plan, profile = _with_profile(at.plan)
    follow = _usual_follow(plan)
    if follow.anchors:
        values = {i: at.result.steps[i].value for i in follow.anchors}
        if any(value is None for value in values.values()):
            raise HemtraError("What zones follow here was not found on this profile; go to another one.")
        homes = {s.id: s.home for s in plan.steps if s.home is not None}
        zone = followed_on_profile(zone, follow, homes, values, back=True)
    title = kind_named(kind).title.removesuffix(" on a section").removesuffix(" or ridge")
    step = Step(
        id=plan.free_id(title),
        name=f"{title} at x {place[0]:.1f}",
        kind=kind,
        params=params,
        inputs={"section": (profile,)},
        zone=_tidy(zone),
        follow=follow,
    )
    return plan.edited(steps=(*plan.steps, step)), step.id


def laid(kind: str, cut: Cut, place: Place) -> tuple[AnyZone, dict[str, object]]:
    """The zone about what lies at a place, for a feature of a kind, and its parameters.

    Raises `HemtraError` where nothing of that kind lies there.
    """
    return _LAID[kind](cut, place)


def placed_on(at: OnProfile) -> list[tuple[Step, AnyZone]]:
    """The features on profiles, and where the zone of each is on this one."""
    found = at.result.steps
    return [
        (step, placed)
        for step in at.plan.steps
        if issubclass(kind_named(step.kind), SectionFeature)
        and step.id in found
        and (placed := found[step.id].zone) is not None
    ]


def _with_profile(plan: Plan) -> tuple[Plan, str]:
    known = next((s.id for s in plan.steps if s.kind == "profile"), None)
    if known is not None:
        return plan, known
    step = Step(id=plan.free_id("profile"), name="Profile", kind="profile")
    return plan.edited(steps=(*plan.steps, step)), step.id


def _usual_follow(plan: Plan) -> Follow:
    counts = Counter(s.follow for s in plan.steps if s.zone is not None and s.follow.anchors)
    return counts.most_common(1)[0][0] if counts else Follow()


# -- what lies at a click -------------------------------------------------------------------------


def _points(cut: Cut, x: float) -> tuple[FloatArray, FloatArray, int]:
    """The points that hold data, and which of them is nearest to x."""
    found = cut.valid
    u, w = cut.x[found], cut.z[found]
    if u.size < 4 * SEED or not u[0] <= x <= u[-1]:
        raise HemtraError("There is no data where you clicked; click on the profile.")
    k = int(np.clip(np.argmin(np.abs(u - x)), SEED, u.size - SEED - 1))
    return u, w, k


def _straight(cut: Cut, place: Place) -> tuple[AnyZone, dict[str, object]]:
    """About the longest straight stretch that holds a place."""
    u, w, k = _points(cut, place[0])
    low, high = k - SEED, k + SEED
    step = float(np.median(np.diff(u)))
    room = ROOM + 4.0 * _noise(w)
    for reach in (32, 8, 1):
        for side in (-1, 1):
            while True:
                a, b = (low - reach, high) if side < 0 else (low, high + reach)
                if a < 0 or b >= u.size or np.diff(u[a : b + 1]).max() > 4 * step:
                    break
                height, slope = plain_line(u[a : b + 1], w[a : b + 1])
                if np.abs(w[a : b + 1] - height - slope * u[a : b + 1]).max() > room * np.hypot(1.0, slope):
                    break
                low, high = a, b
    # its ends may be rounded already
    trim = (high - low) // 10
    return _about(u[low + trim : high - trim + 1], w[low + trim : high - trim + 1]), {}


def _round(cut: Cut, place: Place) -> tuple[AnyZone, dict[str, object]]:
    """About the longest arc that holds a place."""
    u, w, k = _points(cut, place[0])
    room = ROOM + 4.0 * _noise(w)
    low, high = k - SEED, k + SEED
    for reach in (8, 2, 1):
        growing = True
        while growing:
            growing = False
            for a, b in ((low - reach, high), (low, high + reach)):
                if a < 0 or b >= u.size:
                    continue
                cx, cz, radius, _ = robust_arc(u[a : b + 1], w[a : b + 1], ROOM)
                off = np.abs(np.hypot(u[a : b + 1] - cx, w[a : b + 1] - cz) - radius)
                if np.isfinite(radius) and off.max() <= room:
                    low, high, growing = a, b, True
    x, z = u[low : high + 1], w[low : high + 1]
    chord = np.interp(x, x[[0, -1]], z[[0, -1]])
    if np.abs(z - chord).max() < BENT:
        raise HemtraError("Nothing round lies there; click on an arc.")
    return _about(x, z), {}


def _edge(cut: Cut, place: Place) -> tuple[AnyZone, dict[str, object]]:
    """About the steepest place near a click."""
    u, w, _ = _points(cut, place[0])
    near = np.flatnonzero(np.abs((u[1:] + u[:-1]) / 2 - place[0]) <= EDGE_REACH)
    slope = np.diff(w)[near] / np.diff(u)[near]
    if near.size == 0 or np.abs(slope).max() < 0.2:
        raise HemtraError("No edge lies near there; click next to a step of the profile.")
    k = int(near[np.argmax(np.abs(slope))])
    middle = float(u[k] + u[k + 1]) / 2
    about = np.abs(u - middle) <= EDGE_WIDTH / 2
    if np.count_nonzero(about) < FEWEST:
        raise HemtraError(f"No data lies within {EDGE_WIDTH / 2:g} mm of the edge; click one that is seen.")
    zone = _about(u[about], w[about])
    rises = bool(w[k + 1] > w[k])
    return zone.model_copy(update={"x": middle, "width": EDGE_WIDTH}), {"change": "rises" if rises else "falls"}


def _groove(cut: Cut, place: Place) -> tuple[AnyZone, dict[str, object]]:
    """About the groove or ridge at a place, with an even base on either side."""
    u, w, _ = _points(cut, place[0])
    for half in GROOVE_HALVES:
        about = np.abs(u - place[0]) <= half
        x, z = u[about], w[about]
        if x.size < 4 * SEED:
            continue
        beside = np.abs(x - place[0]) >= 0.6 * half
        # a base without data is not even
        if min(np.count_nonzero(x[beside] < place[0]), np.count_nonzero(x[beside] > place[0])) < SEED:
            continue
        height, slope = plain_line(x[beside], z[beside])
        uneven = float(np.sqrt(np.mean((z[beside] - height - slope * x[beside]) ** 2)))
        off = (height + slope * x - z)[~beside]
        if uneven > EVEN or np.abs(off).max() < 4 * EVEN:
            continue
        side = "groove" if off[np.argmax(np.abs(off))] > 0 else "ridge"
        return _about(x, z), {"side": side}
    raise HemtraError("No groove with an even base on both sides there; click its middle.")


_LAID: dict[str, Callable[[Cut, Place], tuple[AnyZone, dict[str, object]]]] = {
    "profile-level": _straight,
    "profile-line": _straight,
    "profile-edge": _edge,
    "arc": _round,
    "groove": _groove,
}


def _about(x: FloatArray, z: FloatArray) -> RectangleZone:
    low, high = float(z.min()) - ABOVE, float(z.max()) + ABOVE
    return RectangleZone(
        x=float(x[0] + x[-1]) / 2, y=(low + high) / 2, width=max(float(x[-1] - x[0]), 0.1), height=high - low
    )


def _tidy(zone: AnyZone) -> AnyZone:
    sizes = {name: round(getattr(zone, name), 3) for name in ("x", "y", "width", "height")}
    return zone.model_copy(update=sizes)


def _noise(w: FloatArray) -> float:
    """Standard deviation in mm of the noise, from second differences, of which most see no edge."""
    bends = w[:-2] - 2 * w[1:-1] + w[2:]
    return float(1.4826 * np.median(np.abs(bends)) / np.sqrt(6.0))
