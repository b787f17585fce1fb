"""What a run takes over from the run before it on the same map: in a drag most of a plan stays as it is.

Nothing is compared by content. A step stands if it is the same object, and so are the results of all that it
needs and the homes of what it follows. A row stands if it is the same object, and so are all results below it.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import TypeAlias

from hemtra.core.evaluation.results import StepResult
from hemtra.core.plan.document import Characteristic, Home, Step
from hemtra.core.plan.limits import CharacteristicResult
from hemtra.core.plan.series import Series

Evaluated: TypeAlias = tuple[CharacteristicResult, Series | None]
Results: TypeAlias = Mapping[str, StepResult]


@dataclass(frozen=True)
class _Step:
    step: Step
    needs: tuple[tuple[str, StepResult], ...]
    homes: tuple[tuple[str, Home | None], ...]
    result: StepResult


@dataclass(frozen=True)
class _Row:
    row: Characteristic
    below: tuple[tuple[str, StepResult], ...]
    evaluated: Evaluated


class Unchanged:
    """The last results of each step and row. Safe to share between threads."""

    def __init__(self) -> None:
        self._steps: dict[str, _Step] = {}
        self._rows: dict[int, _Row] = {}

    def step(self, step: Step, homes: Mapping[str, Home], results: Results) -> StepResult | None:
        """The result of a step as it was, if that stands."""
        last = self._steps.get(step.id)
        if last is None or last.step is not step or not _same(last.needs, results):
            return None
        return last.result if all(homes.get(i) is home for i, home in last.homes) else None

    def keep_step(self, step: Step, homes: Mapping[str, Home], results: Results) -> None:
        """Keep a step's result for the next run."""
        needs = tuple((i, results[i]) for i in step.needs)
        followed = tuple((i, homes.get(i)) for i in step.follow.anchors)
        self._steps[step.id] = _Step(step, needs, followed, results[step.id])

    def row(self, row: Characteristic, results: Results) -> Evaluated | None:
        """A row as it was evaluated, if that stands."""
        last = self._rows.get(row.balloon)
        if last is None or last.row is not row or not _same(last.below, results):
            return None
        return last.evaluated

    def keep_row(
        self, row: Characteristic, below: Collection[str], results: Results, evaluated: Evaluated
    ) -> None:
        """Keep an evaluated row for the next run. below: ids of the steps that it rests on."""
        self._rows[row.balloon] = _Row(row, tuple((i, results[i]) for i in below), evaluated)

    def forget_others(self, steps: Collection[str], balloons: Collection[int]) -> None:
        """Drop what a plan has no more: results may hold whole maps."""
        # another thread may run meanwhile, so what is gone through is a list of its own
        for step_id in [i for i in list(self._steps) if i not in steps]:
            self._steps.pop(step_id, None)
        for balloon in [b for b in list(self._rows) if b not in balloons]:
            self._rows.pop(balloon, None)


def _same(known: tuple[tuple[str, StepResult], ...], results: Results) -> bool:
    return all(results.get(i) is result for i, result in known)
