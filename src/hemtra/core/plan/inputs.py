"""Connections of a step's inputs, and other features that fit."""

from __future__ import annotations

from hemtra.core.errors import PlanError
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.plan.document import Plan, Step
from hemtra.core.plan.graph import dependants, effective, fits
from hemtra.core.plan.registry import kind_named


def fitting(plan: Plan, step_id: str, name: str) -> tuple[Step, ...]:
    """The steps that an input of a step could be connected to: of the right kind, and not made of it."""
    wanted = kind_named(plan.step(step_id).kind).accepted()[name]
    made = _made_of(plan, step_id)
    return tuple(s for s in plan.steps if s.id not in made and fits(wanted, kind_named(s.kind)))


def connected(plan: Plan, step_id: str, name: str, sources: tuple[str, ...]) -> Plan:
    """The plan with an input of a step connected to other steps; to none where it is optional."""
    step = plan.step(step_id)
    inputs = {key: ids for key, ids in step.inputs.items() if key != name}
    if sources:
        inputs[name] = sources
    return plan.with_step(step.edited(inputs=inputs))


def with_own_preparation(plan: Plan, step_id: str, kind: str) -> Plan:
    """The plan with one more preparation step, used by this step only.

    It is made from the step's present data. Raises `PlanError` where it takes more than a map.
    """
    made = kind_named(kind)
    if any(not wanted.optional for name, wanted in made.inputs.items() if name != "data"):
        raise PlanError(f"{made.title} needs more than a map; add it to the preparation of the whole plan.")
    if not issubclass(made.output, HeightMap):
        raise PlanError(f"{made.title} is no preparation.")
    step, now = plan.step(step_id), effective(plan)[step_id].inputs.get("data", ())
    own = Step(
        id=plan.free_id(made.kind),
        name=f"{made.title} for {step.name}",
        kind=kind,
        inputs={"data": now} if now else {},
    )
    return connected(plan.edited(steps=(*plan.steps, own)), step_id, "data", (own.id,))


def _made_of(plan: Plan, step_id: str) -> set[str]:
    found, waiting = {step_id}, [step_id]
    while waiting:
        for user in dependants(plan, waiting.pop()):
            if user.id not in found:
                found.add(user.id)
                waiting.append(user.id)
    return found
