"""Edits of what follows what: defaults, candidates, taking an anchor out, drawing a plan on another scan."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from functools import partial
from typing import Any

from hemtra.core.errors import NotMeasured, PlanError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.results import Result
from hemtra.core.geometry.frames import Frame
from hemtra.core.kept import Derived
from hemtra.core.plan.document import Follow, Home, Plan, Step
from hemtra.core.plan.follow import AXES, axes_of, followed
from hemtra.core.plan.graph import PLANS, grouped, ordered
from hemtra.core.plan.registry import kind_named
from hemtra.core.zones.zone import AnyZone

PLACING = ("x", "y", "rotation")
"""The axes that move a zone; the others only say what its heights count from."""


def homes_of(plan: Plan) -> dict[str, Home]:
    """Record the poses of a plan's anchors on its reference scan."""
    return {s.id: s.home for s in plan.steps if s.home is not None}


def own_follow(step: Step) -> Follow:
    """Return the anchor of a zone that was taught in it: the step itself."""
    return Follow(**dict.fromkeys(PLACING, step.id))


def usual_follow(plan: Plan) -> Follow:
    """Choose the anchor of a new zone: the most frequent one, else the plan's first outline, else none."""
    counts = Counter(s.follow for s in plan.steps if s.zone is not None and s.follow.anchors)
    if counts:
        usual = counts.most_common(1)[0][0]
        # heights above the tilt of a plane are wanted of some kinds only
        return usual if usual.z is not None else usual.edited(tilt=None)
    outline = next((s.id for s in plan.steps if issubclass(kind_named(s.kind).output, Frame)), None)
    return Follow(**dict.fromkeys(PLACING, outline))


def candidates(plan: Plan, step_id: str, axis: str) -> tuple[Step, ...]:
    """The steps that a step could follow on an axis: they give it, and do not need the step themselves."""
    later = {step_id}
    for step, _ in ordered(plan):
        if later & set(step.needs):
            later.add(step.id)
    return tuple(s for s in plan.steps if s.id not in later and axis in axes_of(kind_named(s.kind).output))


def followers(plan: Plan, step_id: str) -> tuple[Step, ...]:
    """The steps whose zones follow a step."""
    return _FOLLOWED(plan).get(step_id, ())


def _followed(plan: Plan) -> Mapping[str, tuple[Step, ...]]:
    return grouped((i, step) for step in plan.steps for i in step.follow.anchors)


_FOLLOWED = Derived(_followed, PLANS)


def without_step(plan: Plan, step_id: str) -> Plan:
    """The plan without a step; what followed it follows nothing on those axes.

    Raises `PlanError` when another step or a row of the sheet is made from its value.
    """
    users = [s.name for s in plan.steps if any(step_id in ids for ids in s.inputs.values())]
    users += [f"{c.balloon} {c.name}" for c in plan.sheet if c.step == step_id]
    gone = plan.step(step_id)
    if users:
        raise PlanError(f"“{gone.name}” is used by “{users[0]}”; take that out first, or connect it elsewhere.")
    left = [s.edited(follow=s.follow.without(step_id)) for s in plan.steps if s.id != step_id]
    prepared = None if plan.prepared == step_id else plan.prepared
    return plan.edited(steps=tuple(left), prepared=prepared)


def following_instead(plan: Plan, before: Plan, lost: str) -> tuple[Plan, str] | None:
    """The plan with what followed a lost anchor following the likeliest other one, and that one's name.

    before: the plan when the anchor was still there. None where no other gives the same axes.
    """
    was = followers(before, lost)
    options = [
        s
        for s in plan.steps
        if all(
            s in candidates(plan, f.id, axis) for f in was for axis in AXES if getattr(f.follow, axis) == lost
        )
    ]
    if not was or not options:
        return None
    best = max(options, key=lambda s: len(followers(plan, s.id)))
    for follower in was:
        step = plan.step(follower.id)
        axes = {axis: best.id for axis in AXES if getattr(follower.follow, axis) == lost}
        plan = plan.with_step(step.edited(follow=step.follow.edited(**axes)))
    return plan, best.name


def place_on(plan: Plan, result: Result, zone: AnyZone, follow: Follow) -> AnyZone:
    """A zone drawn on the reference scan, on the scan of a result. Raises as `place_back` does."""
    return followed(zone, follow, homes_of(plan), values_of(result, follow))


def place_back(plan: Plan, result: Result, zone: AnyZone, follow: Follow) -> AnyZone:
    """The zone as it is drawn on the reference scan, for one drawn on the scan of a result.

    Raises `NotMeasured` when its anchor was not found there.
    """
    values = values_of(result, follow)
    return tidy(followed(zone, follow, homes_of(plan), values, back=True))


def tidy(zone: AnyZone) -> AnyZone:
    """The zone to a micrometre and a thousandth of a degree: more digits would be noise of the anchors."""
    rounded = {"x": round(zone.x, 3), "y": round(zone.y, 3), "rotation": round(zone.rotation, 3)}
    return zone.model_copy(update=rounded)


def redrawn(plan: Plan, engine: Engine) -> Plan:
    """The plan drawn on another scan as its reference: zones lie where their anchors have taken them.

    A nominal surface lies on the former reference and does not come along. Raises `PlanError`
    when an anchor was not found on it.
    """
    result, homes = engine.run(plan.edited(sheet=())), homes_of(plan)
    steps = []
    for step in plan.steps:
        found, kind = result.steps[step.id], kind_named(step.kind).model_validate(step.params)
        # what a step was taught lies where it was found now, so that is where it is to be taught again
        follow = own_follow(step) if kind.teachable else step.follow
        if step.zone is None or not follow.anchors:
            steps.append(step)
            continue
        try:
            move = partial(followed, follow=follow, homes=homes, values=values_of(result, follow))
            zone = tidy(move(step.zone)).model_copy(update={"band": step.zone.band})
        except NotMeasured:
            raise PlanError(f"“{step.name}” has no place on this scan: {found.reason}.") from None
        params = {**step.params, **kind.carried(move)}
        steps.append(step.model_copy(update={"zone": zone, "params": params}))
    return engine.taught(plan.model_copy(update={"steps": tuple(steps), "nominal": None}))


def values_of(result: Result, follow: Follow) -> Mapping[str, Any]:
    """Look up a zone's anchors on the scan of a result. Raises `NotMeasured` when one was not found."""
    values = {}
    for anchor in follow.anchors:
        found = result.steps.get(anchor)
        if found is None or found.outcome is None:
            raise NotMeasured("what it follows was not found on this part")
        values[anchor] = found.value
    return values
