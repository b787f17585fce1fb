"""Regions above or below a surface, cut out of the zone that is laid on the surface."""

from __future__ import annotations

import numpy as np

from hemtra.core.errors import HemtraError, NotMeasured
from hemtra.core.evaluation.engine import Engine
from hemtra.core.geometry.elements import Plane
from hemtra.core.plan.document import Plan
from hemtra.core.proposals.pick_detection import RING_ROOM, seen_at
from hemtra.core.proposals.quantities import Place, box_about
from hemtra.core.zones.zone import AnyZone, EllipseZone

MARGIN = 1.0
"""Margin cut out about a feature, mm, since its edge is no part of the surface either."""
LEAST_RISE = 0.05
"""Minimum height of a feature above the surface, mm."""


def with_feature_cut(plan: Plan, engine: Engine, step_id: str, place: Place) -> Plan:
    """The plan with the feature at a place of the engine's map cut out of the zone of a step, with a margin.

    Raises `HemtraError` where no region is raised there, or the zone was not found on this part.
    """
    step, found = plan.step(step_id), engine.run(plan.edited(sheet=())).steps[step_id]
    if step.zone is None or found.zone is None:
        raise HemtraError(f"“{step.name}” has no zone on this part to cut anything out of.")
    piece = _about(engine, found.value, place)
    u, v = found.zone.local(np.array(piece.x), np.array(piece.y))
    turn = piece.rotation - found.zone.rotation
    piece = piece.model_copy(
        update={"x": round(float(u), 2), "y": round(float(v), 2), "rotation": round(turn, 2)}
    )
    return plan.with_step(step.edited(zone=step.zone.model_copy(update={"cut": (*step.zone.cut, piece)})))


def _about(engine: Engine, surface: object, place: Place) -> AnyZone:
    """A zone about what lies at a place: round where it is a hole or boss, else its rectangle."""
    seen = seen_at(engine.data, *place)
    if seen.what in ("hole", "boss"):
        size = seen.zone.width - RING_ROOM + 2.0 * MARGIN
        return EllipseZone(x=seen.zone.x, y=seen.zone.y, width=size, height=size)
    at = engine.data.height_at(*place)
    if not isinstance(surface, Plane) or at is None:
        raise NotMeasured("what should be cut out was not found; click on it")
    rise = at - surface.height_at(*place)
    if abs(rise) < LEAST_RISE:
        raise NotMeasured("no raised region there; click on one")
    return box_about(engine.data, surface, place, rise / 4.0, 2.0 * MARGIN)
