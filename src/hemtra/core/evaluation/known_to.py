"""Uncertainty of the values of one part: the budgets of a plan scaled to that part."""

from __future__ import annotations

import hashlib
import json
import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from hemtra.core.evaluation.results import StepResult
from hemtra.core.geometry.elements import Circle, Line
from hemtra.core.kept import Derived
from hemtra.core.plan.budget import Budget
from hemtra.core.plan.document import Characteristic, Plan, Step
from hemtra.core.plan.graph import STEPS, ancestry, effective, method_of

REVISION = 6
"""Raised where budgets are worked out otherwise, so that nobody relies on older ones."""


@dataclass(frozen=True)
class Known:
    """A budget and what a part has of its own: mm that its points scatter by, and its edges may lie off."""

    budget: Budget
    level: float
    edges: float = 0.0

    def of(self, value: float) -> Budget:
        """The budget on this part, if it reads so much."""
        return self.budget.on(value, self.level, self.edges)


def known_on_part(row: Characteristic, results: Mapping[str, StepResult], level: float) -> Known | None:
    """Uncertainty of a row on a part whose point noise is `level` mm; None without a budget."""
    if row.budget is None:
        return None
    return Known(row.budget, level, edge_room(results, row.budget.edge_steps))


def edges_of(plan: Plan, step_id: str, rooms: Mapping[str, float]) -> tuple[str, ...]:
    """Ids of the steps that a step rests on whose edges have some room; rooms: by step, in mm."""
    chain = (step.id for column in ancestry(plan, step_id) for step in column)
    return tuple(i for i in chain if rooms.get(i, 0.0) > 0.0)


def seen_whole(plan: Plan, step_id: str, results: Mapping[str, StepResult]) -> bool:
    """Whether what a step measures are edges alone, none of which the points of the map leave any room."""
    if plan.by_profile is not None or step_id not in results:
        return False
    value, inputs = results[step_id].value, effective(plan)[step_id].inputs
    if isinstance(value, Line | Circle) and hasattr(value, "spread"):
        return float(value.spread) == 0.0
    needed = [i for ids in inputs.values() for i in ids]
    return bool(needed) and all(seen_whole(plan, i, results) for i in needed)


def method(plan: Plan, row: Characteristic) -> str:
    """Digest of how a row is measured: its steps, without names and lessons, and how their kinds work."""
    if row.step is None:
        return ""
    # the mean of several profiles is known better than each of them
    average = 1 if plan.by_profile is None else plan.by_profile.average
    own = REVISION, row.unit, row.correction, row.over, average, method_of(plan, row.step)
    found = hashlib.blake2b(repr(own).encode(), digest_size=8)
    for column in ancestry(plan, row.step):
        for step in column:
            found.update(_CONTENT(step))
    return found.hexdigest()


def _content(step: Step) -> bytes:
    content = step.model_dump(mode="json", exclude={"name", "home", "taught"})
    return json.dumps(content, sort_keys=True).encode()


_CONTENT = Derived(_content, STEPS)


def without_old_budgets(plan: Plan) -> Plan:
    """The plan without the budgets of rows that are measured otherwise since; the same where there is none."""
    old = [
        row.balloon for row in plan.sheet if row.budget is not None and row.budget.method != method(plan, row)
    ]
    if not old:
        return plan
    rows = (row.model_copy(update={"budget": None}) if row.balloon in old else row for row in plan.sheet)
    return plan.model_copy(update={"sheet": tuple(rows)})


def edge_room(results: Mapping[str, StepResult], steps: Iterable[str]) -> float:
    """Position uncertainty of the edges among some steps, as the points of the map show it, mm."""
    return math.hypot(*(room_of(results[i]) for i in steps if i in results))


def room_of(found: StepResult) -> float:
    """Position uncertainty of the edge that a step found, mm; 0 where it found none."""
    return float(getattr(found.value, "spread", 0.0) or 0.0)
