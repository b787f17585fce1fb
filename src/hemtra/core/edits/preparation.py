"""Edits of a plan's preparation: its steps form a chain, each made of the map before it."""

from __future__ import annotations

from hemtra.core.errors import PlanError
from hemtra.core.geometry.elements import Plane
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.plan.document import Plan, Step
from hemtra.core.plan.graph import dependants, preparation
from hemtra.core.plan.registry import kind_named, kinds


def preparing_kinds() -> tuple[str, ...]:
    """The kinds of preparation there are, by title."""
    found = [kind for kind in kinds().values() if issubclass(kind.output, HeightMap)]
    return tuple(kind.kind for kind in sorted(found, key=lambda kind: kind.title))


def with_preparation(plan: Plan, kind: str) -> Plan:
    """The plan with one more step at the end of its preparation.

    What else the step needs is taken from the plan: to level, its first plane. Raises `PlanError` when there is
    nothing that fits.
    """
    made = kind_named(kind)
    inputs: dict[str, tuple[str, ...]] = {} if plan.prepared is None else {"data": (plan.prepared,)}
    for name, wanted in made.inputs.items():
        if name == "data" or wanted.optional:
            continue
        fitting = [s.id for s in plan.steps if issubclass(kind_named(s.kind).output, wanted.type)]
        if not fitting:
            missing = "plane" if wanted.type is Plane else wanted.label
            raise PlanError(f"{made.title} needs a {missing}; draw one first.")
        inputs[name] = (fitting[0],)
    step = Step(id=plan.free_id(made.kind), name=made.title, kind=kind, inputs=inputs)
    return _in_order(plan.edited(steps=(*plan.steps, step)), [*preparation(plan), step])


def without_preparation(plan: Plan, step_id: str) -> Plan:
    """The plan without one step of its preparation; the others close up.

    Raises `PlanError` when a step is connected to it on its own account.
    """
    left = [step for step in preparation(plan) if step.id != step_id]
    closed = _in_order(plan, left)
    others = [step.name for step in dependants(closed, step_id)]
    if others:
        raise PlanError(f"“{others[0]}” is connected to it; connect that elsewhere first.")
    return closed.edited(steps=tuple(step for step in closed.steps if step.id != step_id))


def moved_preparation(plan: Plan, step_id: str, by: int) -> Plan:
    """The plan with one step of its preparation so many places later, or earlier below zero."""
    chain = list(preparation(plan))
    at = next(k for k, step in enumerate(chain) if step.id == step_id)
    step = chain.pop(at)
    chain.insert(min(max(at + by, 0), len(chain)), step)
    return _in_order(plan, chain)


def _in_order(plan: Plan, chain: list[Step]) -> Plan:
    """The plan with its preparation in this order."""
    before: str | None = None
    for step in chain:
        inputs = {name: ids for name, ids in plan.step(step.id).inputs.items() if name != "data"}
        if before is not None:
            inputs["data"] = (before,)
        plan = plan.with_step(plan.step(step.id).edited(inputs=inputs))
        before = step.id
    return plan.edited(prepared=before)
