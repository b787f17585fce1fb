"""The engine: evaluates a plan on a height map, and only what changed."""

from __future__ import annotations

import hashlib
import json
import threading
import time
from collections import OrderedDict
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from hemtra.core.errors import NotMeasured, OffScan
from hemtra.core.geometry.elements import Number
from hemtra.core.marks import Evidence
from hemtra.core.plan.document import Characteristic, Plan, Step
from hemtra.core.plan.graph import ordered
from hemtra.core.plan.kind import Given, Kind, Outcome
from hemtra.core.plan.limits import Judged, Verdict, judge, part_verdict
from hemtra.core.plan.registry import kind_named
from hemtra.core.scan.heightmap import HeightMap

EXPLAINED = 24
"""Evidence kept per height map: one lineage and a little more; a large plane's takes a megabyte."""
REMEMBERED = 256
"""Step results kept per height map: a plan of 60 steps and a few of its past states."""

MAPS = 8
"""Prepared maps among them: a preparation of some steps, and what a drag makes of the last."""


@dataclass(frozen=True)
class StepResult:
    """What became of a step: its outcome, or the reason why there is none."""

    step: Step
    outcome: Outcome | None
    reason: str
    elapsed_ms: float
    fingerprint: str
    off_scan: bool = False
    because_of: str = ""
    """Id of the step that this one could not do without."""

    @property
    def value(self) -> Any:
        """The value, None when not measured."""
        return None if self.outcome is None else self.outcome.value


@dataclass(frozen=True)
class Result:
    """One part, measured and judged."""

    verdict: Verdict
    characteristics: tuple[Judged, ...]
    """In balloon order."""
    steps: Mapping[str, StepResult]
    elapsed_ms: float
    computed: int
    """Steps evaluated afresh; the others were known already."""

    @property
    def faults(self) -> tuple[str, ...]:
        """Signs that plan and scan do not belong together, one sentence each."""
        return tuple(
            f"“{r.step.name}”: {r.reason}." for r in self.steps.values() if r.off_scan and not r.because_of
        )


@dataclass
class Engine:
    """Evaluates plans on one height map and remembers what it has found. Safe to share between threads."""

    data: HeightMap
    _known: OrderedDict[str, StepResult] = field(default_factory=OrderedDict)
    _explained: OrderedDict[str, Evidence] = field(default_factory=OrderedDict)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def run(self, plan: Plan) -> Result:
        """Measure and judge. Raises `PlanError` when the plan itself does not hold."""
        start = time.perf_counter()
        results: dict[str, StepResult] = {}
        computed = 0
        for step, kind in ordered(plan):
            mark = _fingerprint(step, results)
            known = self._recall(mark)
            if known is None:
                known = self._evaluate(step, kind, results, mark)
                self._remember(known)
                computed += 1
            # the same measurement may stand under another id or name by now
            results[step.id] = known if known.step == step else replace(known, step=step)
        judged = tuple(_judge(row, results[row.step]) for row in sorted(plan.sheet, key=lambda c: c.balloon))
        verdict = part_verdict(j.verdict for j in judged)
        return Result(verdict, judged, results, (time.perf_counter() - start) * 1000, computed)

    def explain(self, result: Result, step_id: str) -> Evidence:
        """The evidence of a step of a result of this engine; empty where nothing was measured."""
        found = result.steps[step_id]
        if found.outcome is None:
            return Evidence()
        with self._lock:
            known = self._explained.get(found.fingerprint)
        if known is None:
            kind = kind_named(found.step.kind).model_validate(found.step.params)
            known = kind.explain(_given(self.data, found.step, result.steps), found.outcome)
            with self._lock:
                self._explained[found.fingerprint] = known
                while len(self._explained) > EXPLAINED:
                    self._explained.popitem(last=False)
        return known

    def _evaluate(self, step: Step, kind: Kind, results: Mapping[str, StepResult], mark: str) -> StepResult:
        for source in (i for ids in step.inputs.values() for i in ids):
            missing = results[source]
            if missing.outcome is None:
                reason = _because(missing)
                root = missing.because_of or source
                return StepResult(step, None, reason, 0.0, mark, missing.off_scan, because_of=root)
        start = time.perf_counter()
        outcome, reason, off_scan = None, "", False
        try:
            if self.data.data_share == 0.0:
                raise OffScan("the scan holds no data at all")
            outcome = kind.evaluate(_given(self.data, step, results))
        except NotMeasured as error:
            reason, off_scan = str(error), isinstance(error, OffScan)
        return StepResult(step, outcome, reason, (time.perf_counter() - start) * 1000, mark, off_scan)

    def _recall(self, mark: str) -> StepResult | None:
        with self._lock:
            if mark in self._known:
                self._known.move_to_end(mark)
                return self._known[mark]
            return None

    def _remember(self, result: StepResult) -> None:
        with self._lock:
            self._known[result.fingerprint] = result
            maps = [mark for mark, known in self._known.items() if isinstance(known.value, HeightMap)]
            for mark in maps[:-MAPS]:
                del self._known[mark]
            while len(self._known) > REMEMBERED:
                self._known.popitem(last=False)


def _given(data: HeightMap, step: Step, results: Mapping[str, StepResult]) -> Given:
    inputs = {name: tuple(results[i].value for i in ids) for name, ids in step.inputs.items()}
    prepared = inputs.pop("data", ())
    return Given(prepared[0] if prepared else data, step.zone, inputs)


def _fingerprint(step: Step, results: Mapping[str, StepResult]) -> str:
    """Of everything that decides a step's value on a given height map; not of its id and name."""
    zone = None if step.zone is None else step.zone.model_dump(mode="json")
    inputs = {name: [results[i].fingerprint for i in ids] for name, ids in step.inputs.items()}
    text = json.dumps([step.kind, step.params, zone, inputs], sort_keys=True)
    return hashlib.blake2b(text.encode(), digest_size=16).hexdigest()


def _because(missing: StepResult) -> str:
    reason = missing.reason
    return reason if reason.startswith("because of") else f"because of “{missing.step.name}”: {reason}"


def _judge(row: Characteristic, found: StepResult) -> Judged:
    unit, value, at = kind_named(found.step.kind).unit, None, None
    verdict, reason = Verdict.NOT_MEASURED, found.reason
    if isinstance(found.value, Number):
        unit, at = found.value.unit, found.value.at
        verdict, reason = judge(found.value.value, row.lower, row.upper, row.decimals)
        # a number that is no number is not shown either
        value = None if verdict is Verdict.NOT_MEASURED else found.value.value
    return Judged(
        balloon=row.balloon,
        name=row.name,
        step=row.step,
        value=value,
        unit=unit,
        nominal=row.nominal,
        lower=row.lower,
        upper=row.upper,
        decimals=row.decimals,
        verdict=verdict,
        reason=reason,
        at=at,
    )
