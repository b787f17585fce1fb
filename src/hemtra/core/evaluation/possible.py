"""Bounds of a value where data is missing, and the coverage found along the way."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from hemtra.core.coverage import Coverage
from hemtra.core.errors import NotMeasured
from hemtra.core.evaluation.results import StepResult
from hemtra.core.geometry.elements import Number
from hemtra.core.plan.document import Step
from hemtra.core.plan.kind import Kind, Outcome, StepContext
from hemtra.core.plan.registry import kind_named


def unit_of(found: StepResult) -> str:
    """The unit that a step's value is in."""
    if isinstance(found.value, Number):
        return found.value.unit
    return kind_named(found.step.kind).model_validate(found.step.params).value_unit


def with_possible(
    kind: Kind, given: StepContext, outcome: Outcome, step: Step, results: Mapping[str, StepResult]
) -> Outcome:
    """An outcome with what else its value may be, where unseen data leaves room for its inputs to be otherwise.

    Each input is put to what it may be, one by one; of numbers the deviations that lie on one side add up.
    """
    inputs = [
        (name, k, results[i].outcome)
        for name, ids in step.inputs.items()
        if name != "data"
        for k, i in enumerate(ids)
    ]
    if not any(found is not None and found.possible for _, _, found in inputs):
        return outcome
    value, found, low, high = outcome.value, list(outcome.possible), 0.0, 0.0
    number = isinstance(value, Number)
    if number:
        off = [v.value - value.value for v in found]
        low, high = min(0.0, *off, 0.0), max(0.0, *off, 0.0)
    for name, k, source in inputs:
        off = []
        for other in () if source is None else source.possible:
            others = list(given.inputs[name])
            others[k] = other
            try:
                moved = kind.evaluate(replace(given, inputs={**given.inputs, name: tuple(others)})).value
            except NotMeasured:
                continue
            found.append(moved)
            if number:
                off.append(moved.value - value.value)
        low, high = low + min(0.0, *off, 0.0), high + max(0.0, *off, 0.0)
    if number:
        found = [replace(value, value=value.value + low), replace(value, value=value.value + high)]
    return replace(outcome, possible=tuple(found))


def least_coverage(results: Mapping[str, StepResult], step_id: str) -> float:
    """Percent that the value of a step requires, for itself and for what it depends on."""
    _, required = counted_on_the_way(results, step_id)
    return max(required, kind_named(results[step_id].step.kind).least_coverage)


def counted_on_the_way(results: Mapping[str, StepResult], step_id: str) -> tuple[Coverage | None, float]:
    """What extremes and forms that a step depends on have seen and left out, and percent that they require."""
    found = results[step_id]
    whole = None if found.outcome is None else found.outcome.coverage
    required = 0.0 if whole is None else kind_named(found.step.kind).coverage_required(found.step.params)
    for i in {i for name, ids in found.step.inputs.items() if name != "data" for i in ids}:
        part, least = counted_on_the_way(results, i)
        if part is not None:
            whole, required = part if whole is None else whole.and_(part), max(required, least)
    return whole, required
