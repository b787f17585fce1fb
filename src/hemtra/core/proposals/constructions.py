"""Constructed points, lines, planes, circles and frames, and values between features."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any, TypeAlias

import numpy as np

from hemtra.core.errors import HemtraError, NotMeasured
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.results import Result, StepResult
from hemtra.core.geometry.elements import Circle, Line, Number, Plane, Point
from hemtra.core.plan.document import Plan, Step
from hemtra.core.plan.registry import kind_named
from hemtra.core.proposals.option import option
from hemtra.core.proposals.pick_detection import need, seen_at
from hemtra.core.proposals.proposing import Proposal, with_row
from hemtra.core.proposals.quantities import named_after, surface_at, taken
from hemtra.core.zones.zone import AnyZone, EllipseZone, RingZone

Place = tuple[float, float]
Pick: TypeAlias = Place | str
"""Place of the click, in mm; or the id of a named feature."""
NEAR = 1.5
"""Distance from a point or line without a zone within which a click selects it, mm."""


def feature_under(plan: Plan, result: Result, place: Place, wanted: type) -> str | None:
    """The feature of a type that a click means: a point near it, else the smallest zone about it, else a line
    that passes."""
    at = np.array(place[0]), np.array(place[1])
    found: list[tuple[int, float, str]] = []
    for step in plan.steps:
        done = result.steps.get(step.id)
        if done is None or not isinstance(done.value, wanted):
            continue
        zone = None if kind_named(step.kind).section_input else done.zone
        if zone is None and (off := _off(done, place)) <= NEAR:
            found.append((2 if isinstance(done.value, Line) else 0, off, step.id))
        elif zone is not None and (whole := _filled(zone)).contains(*at):
            found.append((1, whole.area, step.id))
    return min(found)[2] if found else None


def _filled(zone: AnyZone) -> AnyZone:
    """A ring with its middle, where a click means the ring too."""
    if not isinstance(zone, RingZone):
        return zone
    return EllipseZone(x=zone.x, y=zone.y, width=zone.width, height=zone.height, rotation=zone.rotation)


def fitting_features(plan: Plan, wanted: type) -> tuple[Step, ...]:
    """The features of a plan that are of a type."""
    return tuple(s for s in plan.steps if issubclass(kind_named(s.kind).output, wanted))


def _off(done: StepResult, place: Place) -> float:
    """Distance from a place to a point, line or rim, mm; infinite without a place."""
    value = done.value
    if isinstance(value, Line):
        (ux, uy), (dx, dy) = value.along, (place[0] - value.x, place[1] - value.y)
        beyond = max(abs(dx * ux + dy * uy) - value.length / 2, 0.0)
        return math.hypot(beyond, dy * ux - dx * uy)
    if isinstance(value, Point):
        off = math.dist(place, (value.x, value.y))
        return min(off, abs(off - value.radius)) if isinstance(value, Circle) else off
    return math.inf


def feature(plan: Plan, engine: Engine, pick: Pick, wanted: type) -> tuple[Plan, str]:
    """The plan with the feature that was meant, made from the data where it has none there yet.

    Raises `NotMeasured` when nothing of that type lies there.
    """
    if isinstance(pick, str):
        return plan, pick
    known = feature_under(plan, engine.run(plan.edited(sheet=())), pick, wanted)
    if known is not None:
        return plan, known
    if issubclass(wanted, Plane):
        return surface_at(plan, engine, pick)
    seen = seen_at(engine.data, *pick)
    if issubclass(wanted, Line):
        seen = need(seen, ("edge",), "next to an edge, or on a line of the plan")
    return taken(plan, engine, seen)


@dataclass(frozen=True)
class Taken:
    """An input: its name, the type of feature, and the prompt for the click."""

    name: str
    type: type
    words: str


@dataclass(frozen=True)
class _Construction:
    """A kind made of features, and what is clicked for it; many: the last input repeats until Enter."""

    id: str
    name: str
    key: str
    meaning: str
    group: str
    kind: str
    takes: tuple[Taken, ...] = ()
    least: int = 1
    many: bool = False
    params: dict[str, Any] = field(default_factory=dict)

    def propose(self, plan: Plan, engine: Engine, *picks: Pick) -> Proposal:
        """The plan with the feature, or with the value and its row."""
        inputs: dict[str, tuple[str, ...]] = {}
        for number, pick in enumerate(picks):
            wanted = self.takes[min(number, len(self.takes) - 1)]
            plan, found = feature(plan, engine, pick, wanted.type)
            if any(found in ids for ids in inputs.values()):
                raise HemtraError(f"{plan.step(found).name} was clicked twice; click different features.")
            inputs[wanted.name] = (*inputs.get(wanted.name, ()), found)
        kind = kind_named(self.kind)
        name = named_after(plan, self.kind, inputs, self.name)
        step = Step(id=plan.free_id(self.kind), name=name, kind=self.kind, inputs=inputs, params=self.params)
        if issubclass(kind.output, Number):
            return with_row(plan, engine, step)
        plan = plan.edited(steps=(*plan.steps, step))
        found_here = engine.run(plan.edited(sheet=())).steps[step.id]
        if found_here.outcome is None:
            raise NotMeasured(f"{name} was not added: {found_here.reason}")
        return Proposal(engine.taught(plan), None, step.id)


_A_POINT = Taken("points", Point, "a spot, hole or other feature")
_LINE, _OTHER = Taken("line", Line, "the first line or edge"), Taken("other", Line, "the other line or edge")
_PLANE = Taken("plane", Plane, "the surface or plane")
_POINT = Taken("point", Point, "the spot, hole or other feature")
_TO_LINE = Taken("line", Line, "the line or edge")

CONSTRUCTIONS = (
    _Construction(
        *("from-mean-point", "Mean point", "M", "of two features or more", "Points", "mean-point"),
        (_A_POINT,),
        least=2,
        many=True,
    ),
    _Construction(
        *("from-lines", "Intersection", "I", "of two lines", "Points", "intersection"), (_LINE, _OTHER)
    ),
    _Construction(
        *("from-line-plane", "Intersection", "P", "of a line and a plane", "Points", "intersection"),
        (_TO_LINE, _PLANE),
    ),
    _Construction(
        *("from-foot-line", "Projection", "N", "of a point onto a line", "Points", "projection"),
        (_POINT, _TO_LINE),
    ),
    _Construction(
        *("from-foot-plane", "Projection", "O", "of a point onto a plane", "Points", "projection"),
        (_POINT, _PLANE),
    ),
    _Construction(
        *("from-line", "Line", "L", "through two points or more", "Lines", "line-through"),
        (_A_POINT,),
        least=2,
        many=True,
    ),
    _Construction(
        *("from-parallel", "Parallel line", "B", "through a point", "Lines", "offset-line"), (_TO_LINE, _POINT)
    ),
    _Construction(
        *("from-square", "Square line", "Q", "through a point", "Lines", "offset-line"),
        (_TO_LINE, _POINT),
        params={"turn": "square"},
    ),
    _Construction(
        *("from-plane", "Plane", "T", "through three points or more", "Planes", "plane-through"),
        (_A_POINT,),
        least=3,
        many=True,
    ),
    _Construction(
        *("from-parallel-plane", "Parallel plane", "E", "through a point", "Planes", "offset-plane"),
        (_PLANE, _POINT),
    ),
    _Construction(
        *("from-offset-plane", "Offset plane", "S", "at a typed distance", "Planes", "offset-plane"),
        (_PLANE,),
        params={"offset": 1.0},
    ),
    _Construction(
        *("from-height", "Level plane", "Y", "at a typed height of the scan", "Planes", "offset-plane")
    ),
    _Construction(
        *("from-circle", "Circle", "C", "through three centres or more", "Circles and frames", "hole-circle"),
        (Taken("points", Point, "a hole, boss or spot"),),
        least=3,
        many=True,
    ),
    _Construction(
        *("from-frame", "Datum frame", "F", "of an origin and its x axis", "Circles and frames", "frame"),
        (
            Taken("origin", Point, "the origin"),
            Taken("towards", Point, "a point or edge that gives the direction of x"),
        ),
    ),
    _Construction(
        *("from-distance", "Distance", "D", "between two features", "Values", "distance"),
        (
            Taken("start", Point, "the first feature"),
            Taken("end", Point, "the other feature"),
        ),
    ),
    _Construction(
        *("from-planes", "Distance", "V", "between two planes", "Values", "plane-distance"),
        (_PLANE, Taken("datum", Plane, "the plane it is measured from")),
    ),
    _Construction(
        *("from-tilt", "Angle", "A", "between two planes", "Values", "tilt"),
        (_PLANE, Taken("to", Plane, "the plane it is compared with")),
    ),
    _Construction(
        *("from-angle", "Angle", "K", "between two lines", "Values", "angle"),
        (_LINE, Taken("to", Line, "the other line or edge")),
    ),
    _Construction(
        *("from-line-angle", "Angle", "J", "of a line to a plane", "Values", "angle"), (_TO_LINE, _PLANE)
    ),
    _Construction(
        *("from-height-above", "Height", "H", "of a feature above a plane", "Values", "height"),
        (_POINT, _PLANE),
    ),
)

for _made in CONSTRUCTIONS:
    option(
        _made.id,
        _made.name,
        _made.key,
        _made.meaning,
        _made.group,
        on=("features",),
        clicks=tuple(t.words for t in _made.takes),
        wants=tuple(t.type for t in _made.takes),
        more="spots" if _made.many else "",
        least=_made.least,
    )(_made.propose)
