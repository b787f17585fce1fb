"""Proposals of anchors: the part's outline, or another anchor beside the zone that is to follow it."""

from __future__ import annotations

from hemtra.core.detection.part_box import height_span, part_box
from hemtra.core.edits.anchors import PLACING
from hemtra.core.errors import NotMeasured, PlanError
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.plan.document import Follow, Plan, Step
from hemtra.core.plan.follow import axes_of
from hemtra.core.plan.graph import ordered
from hemtra.core.plan.registry import kind_named
from hemtra.core.zones.zone import AnyZone, RectangleZone, RingZone

ROOM = 3.0
"""Margin of the outline's zone around the part, mm."""
LEAST_STEP_SHARE, ROUND_STEP = 0.15, 0.1
"""Least step of a proposed outline: a share of the part's height, in multiples of so many mm."""
LARGER = 1.6
"""A proposed anchor's zone is so much larger than the zone that is to follow it."""


def with_outline(plan: Plan, data: HeightMap) -> tuple[Plan, str]:
    """The plan with an outline of the whole part, which every zone follows that has followed nothing.

    Raises `NotMeasured` when the scan shows no part.
    """
    box = part_box(data)
    if box is None:
        raise NotMeasured("no raised region on the scan whose outline could be taught")
    x0, x1, y0, y1 = box
    low, high = height_span(data)
    step = max(ROUND_STEP, round(LEAST_STEP_SHARE * (high - low) / ROUND_STEP) * ROUND_STEP)
    outline = Step(
        id=plan.free_id("outline"),
        name="Outline",
        kind="outline",
        params={"least_step": round(step, 2)},
        zone=RectangleZone(
            x=round((x0 + x1) / 2, 2),
            y=round((y0 + y1) / 2, 2),
            width=round(x1 - x0 + 2 * ROOM, 2),
            height=round(y1 - y0 + 2 * ROOM, 2),
        ),
    )
    follow = Follow(**dict.fromkeys(PLACING, outline.id))
    on_sections = {s.id for s, kind in ordered(plan) if kind.section_input}
    steps = tuple(
        s.edited(follow=follow) if s.zone and not s.follow.anchors and s.id not in on_sections else s
        for s in plan.steps
    )
    return plan.edited(steps=(outline, *steps)), outline.id


def with_anchor(plan: Plan, step_id: str, kind: str) -> tuple[Plan, str]:
    """The plan with a new anchor of a kind about a step's zone, which the step follows on all it gives.

    The anchor itself follows what the step has followed until now. Raises `PlanError`.
    """
    step, made = plan.step(step_id), kind_named(kind)
    if step.zone is None:
        raise PlanError(f"“{step.name}” has no zone that could follow anything.")
    anchor = Step(
        id=plan.free_id(kind),
        name=f"{made.title} of {step.name}",
        kind=kind,
        zone=_about(step.zone, kind),
        follow=step.follow,
    )
    gives = axes_of(made.output)
    follow = step.follow.edited(**{axis: anchor.id for axis in PLACING if axis in gives})
    changed = plan.edited(steps=(anchor, *plan.steps))
    return changed.with_step(step.edited(follow=follow)), anchor.id


def _about(zone: AnyZone, kind: str) -> AnyZone:
    """A zone for an anchor of a kind, about another zone."""
    size = {"x": zone.x, "y": zone.y, "rotation": zone.rotation}
    if kind == "circle":
        across = LARGER * max(zone.width, zone.height)
        return RingZone(**size, width=across, height=across, inner=0.4)
    return RectangleZone(**size, width=LARGER * zone.width, height=LARGER * zone.height)
