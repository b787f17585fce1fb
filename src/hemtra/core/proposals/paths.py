"""Proposals along paths: from clicks on a bead or seam to its path, and to what is measured along it."""

from __future__ import annotations

import math
from functools import partial
from typing import Any

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.detection.tracing import path_of, trace
from hemtra.core.errors import HemtraError, NotMeasured
from hemtra.core.evaluation.engine import Engine
from hemtra.core.features.along_path import Along
from hemtra.core.features.path import Path
from hemtra.core.geometry.elements import Plane
from hemtra.core.plan.document import Plan, Step
from hemtra.core.proposals.option import option
from hemtra.core.proposals.proposing import Proposal, datum_plane, with_feature
from hemtra.core.proposals.quantities import Place, quantity
from hemtra.core.zones.zone import PathZone

NEAR = 2.0
"""Distance within which a click selects an existing path, and within which clicks close a path, mm."""
ACROSS = 9.0
"""Length of the proposed sections, mm."""
LEAST_SHARE = 0.25
"""Share of the height of a bead from which on it is proposed to be there."""


def _feature(
    plan: Plan, engine: Engine, kind: str, places: tuple[Place, ...], zone: PathZone | None = None
) -> tuple[Plan, str]:
    """The plan and its feature of a kind along the path at one place, traced, or through several, or given."""
    plan, plane_id = datum_plane(plan, engine)
    results = engine.run(plan.edited(sheet=())).steps
    plane = results[plane_id].value
    if not isinstance(plane, Plane):
        raise NotMeasured("datum plane not found, so raised regions are unknown")
    if len(places) == 1 and zone is None:
        known = _known(plan, results, kind, places[0])
        if known is not None:
            return plan, known
    path = _known_path(plan, results, places[0]) if len(places) == 1 and zone is None else None
    if path is None:
        if zone is None:
            zone = _drawn(places) if len(places) > 1 else _traced(engine, plane, kind, places[0])
        step = Step(id=plan.free_id("path"), name=f"Path {plan.free_balloon()}", kind="path", zone=zone)
        plan, path = with_feature(plan, engine, step)
        follow = plan.step(path).follow.edited(z=plane_id, tilt=plane_id)
        plan = plan.with_step(plan.step(path).edited(follow=follow))
    title = {"bead": "Bead", "seam": "Seam", "trim": "Edge"}[kind]
    made = Step(
        id=plan.free_id(kind),
        name=f"{title} {plan.free_balloon()}",
        kind=kind,
        params=_params(engine, plane, kind, places[0]),
        inputs={"path": (path,)},
    )
    return plan.edited(steps=(*plan.steps, made)), made.id


def _known(plan: Plan, results: Any, kind: str, place: Place) -> str | None:
    """The feature of that kind which lies along a path at a place."""
    for step in plan.steps:
        value = results[step.id].value
        if step.kind == kind and isinstance(value, Along) and abs(value.path.curve.nearest(*place)[1]) < NEAR:
            return step.id
    return None


def _known_path(plan: Plan, results: Any, place: Place) -> str | None:
    for step in plan.steps:
        value = results[step.id].value
        if isinstance(value, Path) and abs(value.curve.nearest(*place)[1]) < NEAR:
            return step.id
    return None


def _traced(engine: Engine, plane: Plane, kind: str, place: Place) -> PathZone:
    if kind == "trim":
        raise HemtraError(
            "Click the edge's path node by node, and press Enter; one click is not enough for it."
        )
    return path_of(trace(engine.data, plane, place, gap=kind == "seam"), ACROSS)


def _drawn(places: tuple[Place, ...]) -> PathZone:
    """A path through clicks, closed where the last lies at the first."""
    points: FloatArray = np.round(np.array(places), 3)
    closed = len(points) > 3 and math.dist(places[0], places[-1]) < NEAR
    return PathZone.through(points[:-1] if closed else points, closed=closed, across=ACROSS)


def _params(engine: Engine, plane: Plane, kind: str, place: Place) -> dict[str, Any]:
    at = engine.data.height_at(*place)
    if kind != "bead" or at is None:
        return {}
    rise = at - plane.height_at(*place)
    least = round(max(LEAST_SHARE * abs(rise), 0.05), 2)
    return {"side": "above" if rise >= 0 else "below", "least_height": least}


def propose_along(
    kind: str, what: str, plan: Plan, engine: Engine, *places: Place, zone: PathZone | None = None
) -> Proposal:
    """A size on every section of the bead, seam or edge at one place, or along the path through several."""
    plan, feature = _feature(plan, engine, kind, places, zone)
    name = plan.step(feature).name
    title = f"{name} {what}" if kind != "seam" else f"Seam {what}"
    step = Step(
        id=plan.free_id(what), name=title, kind="along", inputs={"of": (feature,)}, params={"what": what}
    )
    return quantity(plan, engine, "along", {}, step)


def propose_bead_on(zone: PathZone, plan: Plan, engine: Engine) -> Proposal:
    """The width of a bead along a path that was drawn elsewhere and lies on the engine's map."""
    start = zone.curve().at(np.zeros(1))[0]
    return propose_along("bead", "width", plan, engine, (float(start[0]), float(start[1])), zone=zone)


def propose_continuity(take: str, plan: Plan, engine: Engine, *places: Place) -> Proposal:
    """Breaks, length or volume of the bead at one place, or along the path through several."""
    plan, feature = _feature(plan, engine, "bead", places)
    title = {"break": "longest break", "volume": "volume"}[take]
    step = Step(
        id=plan.free_id(take),
        name=f"{plan.step(feature).name} {title}",
        kind="continuity",
        inputs={"of": (feature,)},
        params={"take": take},
    )
    return quantity(plan, engine, "continuity", {}, step)


_on_bead = partial(option, group="Along a path", clicks=("the bead",), more="traced")
_on_seam = partial(option, group="Along a path", clicks=("the middle of the gap",), more="traced")
_on_path = partial(option, group="Along a path", clicks=("the nodes of its path",), more="path")

_on_bead("bead-width", "Bead width", "4", "along a bead or weld")(partial(propose_along, "bead", "width"))
_on_bead("bead-height", "Bead height", "5", "or depth of a groove")(partial(propose_along, "bead", "height"))
_on_bead("bead-offset", "Bead offset", "6", "from its path")(partial(propose_along, "bead", "offset"))
_on_bead("bead-break", "Longest break", "7", "of a bead")(partial(propose_continuity, "break"))
_on_bead("bead-volume", "Bead volume", "8", "along its path")(partial(propose_continuity, "volume"))
_on_seam("seam-gap", "Seam gap", "9", "along two panels")(partial(propose_along, "seam", "gap"))
_on_seam("seam-flush", "Seam flush", "+", "of two panels")(partial(propose_along, "seam", "flush"))
_on_path("edge-offset", "Trimmed edge", "-", "from its path")(partial(propose_along, "trim", "offset"))
