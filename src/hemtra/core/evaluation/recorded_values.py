"""Evaluating values that are on record by another plan, where both measure the same."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from typing import TypeAlias

from hemtra.core.evaluation.rows import NO_BUDGET
from hemtra.core.features.along_path import AlongPath
from hemtra.core.plan.document import Characteristic, Plan
from hemtra.core.plan.graph import ancestry
from hemtra.core.plan.limits import CharacteristicResult, Verdict, evaluate, part_verdict
from hemtra.core.plan.registry import kind_named

Pairs: TypeAlias = tuple[tuple[Characteristic, bool], ...]
"""Rows of a sheet in balloon order, and whether each evaluates exactly as the other plan's."""


def comparable(then: Plan, now: Plan) -> Pairs | None:
    """The rows of a plan by which another's values can be evaluated; None where values alone do not decide.

    They can where the steps are the same and rows differ in names and limits only. A row that makes one value
    of many must be quite the same, since other limits might have picked another value; so must one that asks
    how much was seen, since a value that fails is on record however little it rests on. What is evaluated by
    its own uncertainty must have it from the same budget.
    """
    if (then.steps, then.prepared, then.by_profile) != (now.steps, now.prepared, now.by_profile):
        return None
    found = []
    for row in sorted(now.sheet, key=lambda row: row.balloon):
        before = then.characteristic(row.balloon)
        if row.off:
            continue
        if before is None or before.off or not _same_value(before, row):
            return None
        if row.covers is not None and before.budget != row.budget:
            return None
        same = _same_limits(before, row) and before.name == row.name
        if not _same_limits(before, row) and (_of_many(now, row) or _asks_coverage(now, row)):
            return None
        found.append((row, same))
    return tuple(found)


def evaluated_by_values(
    pairs: Pairs, rows: Sequence[CharacteristicResult]
) -> tuple[CharacteristicResult, ...] | None:
    """Rows that were evaluated by one plan as another evaluates them; None where one is missing."""
    known = {row.balloon: row for row in rows}
    if any(row.balloon not in known for row, _ in pairs):
        return None
    return tuple(known[row.balloon] if same else _evaluated(row, known[row.balloon]) for row, same in pairs)


def verdict_of(plan: Plan, rows: Sequence[CharacteristicResult]) -> Verdict:
    """Verdict of a part, with NOT PROVEN counted as the plan says."""
    return part_verdict((row.verdict for row in rows), Verdict(plan.not_proven.upper()))


def _same_value(before: Characteristic, now: Characteristic) -> bool:
    names = ("step", "unit", "from_master", "master", "correction", "least_coverage", "most_spikes")
    return all(getattr(before, name) == getattr(now, name) for name in names)


def _same_limits(before: Characteristic, now: Characteristic) -> bool:
    names = ("lower", "upper", "nominal", "uncertainty", "covers", "over", "least_share")
    return all(getattr(before, name) == getattr(now, name) for name in names)


def _asks_coverage(plan: Plan, row: Characteristic) -> bool:
    """Whether a value may fail that, inside its limits, would not be measured for what it rests on."""
    if row.step is None:
        return False
    kind = kind_named(plan.step(row.step).kind)
    least = kind.least_coverage if row.least_coverage is None else row.least_coverage
    return least > 0.0 or kind.looks_at_data or _counts_spikes(plan, row.step)


def _counts_spikes(plan: Plan, step_id: str) -> bool:
    """Whether isolated points are counted in a step or in one that it rests on."""
    step = plan.step(step_id)
    if kind_named(step.kind).model_validate(step.params).counts_spikes:
        return True
    return any(_counts_spikes(plan, i) for name, ids in step.inputs.items() if name != "data" for i in ids)


def _of_many(plan: Plan, row: Characteristic) -> bool:
    """Whether a row's value may be one of many."""
    if plan.by_profile is not None or row.over is not None:
        return True
    steps = [] if row.step is None else [step for column in ancestry(plan, row.step) for step in column]
    repeated = any(step.params.get("count", 1) != 1 for step in steps if step.kind == "outline")
    return repeated or any(issubclass(kind_named(step.kind), AlongPath) for step in steps)


def _evaluated(row: Characteristic, value: CharacteristicResult) -> CharacteristicResult:
    result = replace(
        value, name=row.name, nominal=row.nominal, lower=row.lower, upper=row.upper, decimals=row.decimals
    )
    if value.value is None:
        return result
    span = None if value.low is None or value.high is None else (value.low, value.high)
    expanded = row.expanded(value.u)
    if math.isnan(expanded):
        return replace(result, value=None, verdict=Verdict.NOT_MEASURED, reason=NO_BUDGET)
    verdict, reason = evaluate(value.value, row.lower, row.upper, row.decimals, expanded, span)
    if verdict is Verdict.NOT_MEASURED:
        result = replace(result, value=None)
    if value.text and verdict is Verdict.FAIL:
        reason = f"reads “{value.text}”"
    return replace(result, verdict=verdict, reason=reason)
