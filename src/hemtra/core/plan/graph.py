"""The graph of a plan's steps: what needs what, and in which order."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from graphlib import CycleError, TopologicalSorter
from types import MappingProxyType
from typing import TypeAlias

from pydantic import ValidationError

from hemtra.core.errors import PlanError
from hemtra.core.kept import Derived, Kept
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.plan.document import Characteristic, Plan, Step
from hemtra.core.plan.follow import AXES, axes_of
from hemtra.core.plan.kind import Input, Kind
from hemtra.core.plan.registry import kind_named, kinds

Order: TypeAlias = tuple[tuple[Step, Kind], ...]
"""Steps with their parameters."""
PLANS, STEPS = 8, 1024
"""Plans and steps that are kept with what follows from them; the same ones evaluate part after part."""


def effective(plan: Plan) -> Mapping[str, Step]:
    """The steps by id, those that read data connected to the plan's preparation.

    What the preparation itself rests on keeps looking at the scan, and so does what is connected otherwise.
    """
    return _CONNECTED(plan)


def _connected(plan: Plan) -> Mapping[str, Step]:
    by_id = {s.id: s for s in plan.steps}
    if plan.prepared not in by_id:
        return MappingProxyType(by_id)
    apart: set[str] = set()
    waiting = [plan.prepared]
    while waiting:
        step_id = waiting.pop()
        if step_id in by_id and step_id not in apart:
            apart.add(step_id)
            waiting += by_id[step_id].needs
    known = kinds()
    for step in plan.steps:
        takes = step.kind in known and "data" in known[step.kind].accepted()
        if takes and step.id not in apart and not step.inputs.get("data"):
            by_id[step.id] = _on_prepared(step, plan.prepared)
    return MappingProxyType(by_id)


def _on_prepared(step: Step, prepared: str) -> Step:
    """The step, reading what was prepared; the same one again, as long as it does not change."""
    known = _ON_PREPARED.get(id(step))
    if known is None or known[0] is not step or known[1].inputs["data"] != (prepared,):
        on_it = step.model_copy(update={"inputs": {**step.inputs, "data": (prepared,)}})
        known = _ON_PREPARED.keep(id(step), (step, on_it))
    return known[1]


def preparation(plan: Plan) -> tuple[Step, ...]:
    """The plan's preparation in its order: each map made of the one before."""
    by_id = {s.id: s for s in plan.steps}
    chain: list[Step] = []
    step_id = plan.prepared
    while step_id in by_id and by_id[step_id] not in chain:
        chain.insert(0, by_id[step_id])
        step_id = next(iter(by_id[step_id].inputs.get("data", ())), None)
    return tuple(chain)


def dependants(plan: Plan, step_id: str) -> tuple[Step, ...]:
    """The steps that use a step's value directly."""
    return _USED(plan).get(step_id, ())


def _used(plan: Plan) -> Mapping[str, tuple[Step, ...]]:
    wired = effective(plan)
    return grouped((i, step) for step in plan.steps for i in wired[step.id].needs)


def grouped(pairs: Iterable[tuple[str, Step]]) -> Mapping[str, tuple[Step, ...]]:
    """Steps by an id each, in their order."""
    found: dict[str, list[Step]] = {}
    for step_id, step in pairs:
        found.setdefault(step_id, []).append(step)
    return {step_id: tuple(steps) for step_id, steps in found.items()}


LONGEST_METHOD = 200
"""Letters of the digest of how a step is measured."""


def method_of(plan: Plan, step_id: str) -> str:
    """Method version of a step, where it has changed, like “flatness 2, spot 2”."""
    known = {step.kind for column in ancestry(plan, step_id) for step in column}
    changed = sorted(f"{kind} {kind_named(kind).revision}" for kind in known if kind_named(kind).revision > 1)
    return ", ".join(changed)[:LONGEST_METHOD]


def ancestry(plan: Plan, step_id: str) -> tuple[tuple[Step, ...], ...]:
    """A step and all it rests on, in columns: each step stands right of everything it needs."""
    by_id = effective(plan)
    depth: dict[str, int] = {}

    def place(current: str) -> int:
        if current not in depth:
            depth[current] = 1 + max((place(i) for i in by_id[current].needs), default=-1)
        return depth[current]

    last = place(step_id)
    columns: list[list[Step]] = [[] for _ in range(last + 1)]
    for step in plan.steps:
        if step.id in depth:
            columns[depth[step.id]].append(step)
    return tuple(map(tuple, columns))


def up_to(plan: Plan, step_id: str) -> Plan:
    """A step, all it rests on and what prepares the map, without a sheet."""
    wanted = {step.id for column in ancestry(plan, step_id) for step in column}
    wanted |= {step.id for step in preparation(plan)}
    return plan.model_copy(update={"steps": tuple(s for s in plan.steps if s.id in wanted), "sheet": ()})


def is_taught(plan: Plan) -> bool:
    """Whether steps and rows already hold all that the reference scan teaches."""
    anchors = {i for step in plan.steps for i in step.follow.anchors}
    return all(row.master is not None for row in plan.sheet if row.from_master) and all(
        (step.id not in anchors or step.home is not None)
        and (step.taught is not None or not kind_named(step.kind).teachable)
        for step in plan.steps
    )


def ordered(plan: Plan) -> Order:
    """The steps in an order in which each comes after what it needs, with their parameters.

    Raises `PlanError` that names the place when a kind, a parameter, an input or a row does not hold, or when
    steps need each other in a circle.
    """
    return _ORDERED(plan)


def _ordered(plan: Plan) -> Order:
    by_id = effective(plan)
    order = _sorted(by_id)
    parsed = {s.id: _PARAMETERS(s) for s in plan.steps}
    if plan.prepared is not None and plan.prepared not in by_id:
        raise PlanError(f"The preparation names the step “{plan.prepared}”, which does not exist.")
    if plan.prepared is not None and not issubclass(parsed[plan.prepared].output, HeightMap):
        raise PlanError(f"Step “{plan.prepared}” makes no map that could be measured on.")
    for step in by_id.values():
        _check_inputs(step, parsed)
    for row in plan.sheet:
        if row.step is None:
            continue
        if row.step not in by_id:
            raise PlanError(f"Balloon {row.balloon} “{row.name}”: there is no step “{row.step}”.")
        if not parsed[row.step].is_characteristic():
            raise PlanError(
                f"Balloon {row.balloon} “{row.name}”: step “{row.step}” gives no number to evaluate."
            )
    return tuple((by_id[i], parsed[i]) for i in order)


def _sorted(by_id: Mapping[str, Step]) -> list[str]:
    """Ids, each after those it needs or follows. Raises `PlanError` for missing steps and circles."""
    for step in by_id.values():
        for name, sources in step.inputs.items():
            missing = [source for source in sources if source not in by_id]
            if missing:
                raise PlanError(
                    f"Step “{step.id}”: its input “{name}” names the step “{missing[0]}”, which does not exist."
                )
        lost = [anchor for anchor in step.follow.anchors if anchor not in by_id]
        if lost:
            raise PlanError(f"Step “{step.id}” follows the step “{lost[0]}”, which does not exist.")
    try:
        return list(TopologicalSorter({s.id: s.needs for s in by_id.values()}).static_order())
    except CycleError as error:
        circle = " → ".join(f"“{by_id[i].name}”" for i in error.args[1])
        raise PlanError(
            f"These steps need each other in a circle: {circle}. Connect one of them elsewhere."
        ) from None


def tightest_height(plan: Plan) -> tuple[Characteristic, float] | None:
    """The row in mm with the least room, and half of that room in mm; None when the sheet has none."""
    units = {step.id: kind.value_unit for step, kind in ordered(plan)}
    rooms = [(row, row.room / 2) for row in plan.sheet if units.get(row.step or "") == "mm" and row.room > 0]
    return min(rooms, key=lambda found: found[1], default=None)


def _parameters(step: Step) -> Kind:
    place = f"Step “{step.id}”"
    try:
        return kind_named(step.kind).model_validate(step.params)
    except PlanError as error:
        raise PlanError(f"{place}: {error}.") from None
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        where = ".".join(str(part) for part in first["loc"]) or step.kind
        raise PlanError(f"{place}, parameter “{where}”: {first['msg']}.") from None


def _check_inputs(step: Step, parsed: dict[str, Kind]) -> None:
    place, declared = f"Step “{step.id}”", parsed[step.id].accepted()
    for name in step.inputs:
        if name not in declared:
            raise PlanError(f"{place}: a {step.kind} has no input “{name}”.")
    for name, wanted in declared.items():
        sources = step.inputs.get(name, ())
        if not sources and not wanted.optional:
            raise PlanError(f"{place}: its input “{name}” is not connected.")
        if len(sources) > 1 and not wanted.many:
            raise PlanError(f"{place}: its input “{name}” takes one step, not {len(sources)}.")
        for source in sources:
            if not fits(wanted, parsed[source]):
                raise PlanError(f"{place}: its input “{name}” cannot use “{source}”, a {parsed[source].kind}.")
    if parsed[step.id].needs_zone and step.zone is None:
        raise PlanError(f"{place}: a {step.kind} needs a zone.")
    for axis, name in AXES.items():
        anchor = getattr(step.follow, axis)
        if anchor is not None and axis not in axes_of(parsed[anchor].output):
            raise PlanError(f"{place} cannot follow “{anchor}” in {name}: a {parsed[anchor].kind} gives none.")


def fits(wanted: Input, source: type[Kind] | Kind) -> bool:
    """Whether the value of a kind can be connected to an input."""
    return issubclass(source.output, wanted.type)


_CONNECTED = Derived(_connected, PLANS)
_ORDERED = Derived(_ordered, PLANS)
_USED = Derived(_used, PLANS)
_PARAMETERS = Derived(_parameters, STEPS)
_ON_PREPARED: Kept[int, tuple[Step, Step]] = Kept(STEPS)
