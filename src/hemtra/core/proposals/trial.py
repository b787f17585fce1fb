"""A proposal is tried before it is offered: on the part it was made from, and on others that are known."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

from hemtra.core.evaluation.engine import Engine
from hemtra.core.plan.document import Characteristic, Plan
from hemtra.core.plan.graph import ancestry
from hemtra.core.plan.limits import CharacteristicResult, Verdict
from hemtra.core.proposals.proposing import Proposal


@dataclass(frozen=True)
class KnownPart:
    """A part to try a proposal on, and whether it is known to be good."""

    name: str
    engine: Engine
    good: bool


def tried(made: Proposal, engine: Engine, parts: Iterable[KnownPart]) -> Proposal:
    """The proposal with what does not hold of it: on all of its own part, and on parts known to be good."""
    row = None if made.balloon is None else made.plan.characteristic(made.balloon)
    if row is None or row.step is None:
        return made
    plan = engine.taught(_alone(made.plan, row))
    doubts = []
    own = _evaluated(engine, plan)
    if own.verdict is not Verdict.PASS:
        doubts.append(f"On this part {row.name} is {_value_text(own)}.")
    known = [part for part in parts if part.good and part.engine is not engine]
    wrong = [(part.name, found) for part in known if (found := _evaluated(part.engine, plan)).verdict != "PASS"]
    if wrong:
        name, first = wrong[0]
        doubts.append(
            f"{row.name} does not pass {len(wrong)} of {len(known)} good parts; {name} is {_value_text(first)}."
        )
    return replace(made, doubts=tuple(doubts))


def _alone(plan: Plan, row: Characteristic) -> Plan:
    """The plan with one row and what it rests on."""
    assert row.step is not None
    needed = {step.id for column in ancestry(plan, row.step) for step in column}
    prepared = plan.prepared if plan.prepared in needed else None
    steps = tuple(step for step in plan.steps if step.id in needed)
    return plan.edited(steps=steps, sheet=(row,), prepared=prepared, signals=())


def _evaluated(engine: Engine, plan: Plan) -> CharacteristicResult:
    return engine.run(plan).characteristics[0]


def _value_text(found: CharacteristicResult) -> str:
    return f"{found.verdict}: {found.reason}" if found.reason else str(found.verdict)
