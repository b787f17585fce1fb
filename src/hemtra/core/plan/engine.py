"""The engine: evaluates a plan on a height map, and only what changed."""

from __future__ import annotations

import hashlib
import json
import threading
import time
from collections import OrderedDict
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any, TypeAlias

from hemtra.core.errors import NotMeasured, OffScan
from hemtra.core.geometry.elements import LEVEL, Number, Plane
from hemtra.core.marks import Evidence
from hemtra.core.plan.document import Characteristic, Follow, Home, Plan, Step, Taught
from hemtra.core.plan.follow import base, followed, pose_of
from hemtra.core.plan.graph import ordered
from hemtra.core.plan.kind import Given, Kind, Outcome
from hemtra.core.plan.limits import Judged, Verdict, judge, part_verdict
from hemtra.core.plan.registry import kind_named
from hemtra.core.scan.heightmap import HeightMap
from hemtra.core.scan.zones import AnyZone

EXPLAINED = 24
"""Evidence kept per height map: one lineage and a little more; a large plane's takes a megabyte."""
REMEMBERED = 256
"""Step results kept per height map: a plan of 60 steps and a few of its past states."""

MAPS = 8
"""Prepared maps among them: a preparation of some steps, and what a drag makes of the last."""
LESSONS = 16
"""What steps have learned from a map, kept while their zones are edited."""

Homes: TypeAlias = Mapping[str, Home]


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
    zone: AnyZone | None = None
    """Where its zone is on this scan, its anchors followed; None where that is not known."""
    base: Plane = LEVEL
    """The surface its heights count from."""

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
    _lessons: OrderedDict[str, Taught] = field(default_factory=OrderedDict)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def run(self, plan: Plan) -> Result:
        """Measure and judge. Raises `PlanError` when the plan itself does not hold."""
        start = time.perf_counter()
        homes = {s.id: s.home for s in plan.steps if s.home is not None}
        results: dict[str, StepResult] = {}
        computed = sum(self._add(step, kind, homes, results) for step, kind in ordered(plan))
        judged = tuple(
            _judge(row, None if row.step is None else results[row.step])
            for row in sorted(plan.sheet, key=lambda c: c.balloon)
            if not row.off
        )
        verdict = part_verdict((j.verdict for j in judged), Verdict(plan.not_proven.upper()))
        return Result(verdict, judged, results, (time.perf_counter() - start) * 1000, computed)

    def taught(self, plan: Plan) -> Plan:
        """The plan with what its steps learn from this map, as the reference scan, and its anchors' homes.

        The same plan when there is nothing new. Raises `PlanError` when the plan itself does not hold.
        """
        # zones are drawn on this very map, where they lie already; only heights follow something
        steps = {step.id: (_drawn(step), kind) for step, kind in ordered(plan)}
        anchors = {i for s in plan.steps for i in s.follow.anchors}
        anchors |= {i for i, (_, kind) in steps.items() if kind.learns}
        wanted = _with_ancestors(anchors, steps)
        results: dict[str, StepResult] = {}
        homes: dict[str, Home] = {}
        changed: dict[str, Step] = {}
        for step_id, (step, kind) in steps.items():
            lesson = self._teach(step, kind, homes, results) if kind.learns else None
            step = step.model_copy(update={"taught": lesson})
            if step_id in wanted:
                self._add(step, kind, homes, results)
            if step_id in anchors and results[step_id].value is not None:
                homes[step_id] = pose_of(results[step_id].value).home
            old, home = plan.step(step_id), homes.get(step_id)
            if old.home != home or old.taught != lesson:
                changed[step_id] = old.model_copy(update={"home": home, "taught": lesson})
        if changed:
            plan = plan.model_copy(update={"steps": tuple(changed.get(s.id, s) for s in plan.steps)})
        return self._mastered(plan)

    def _mastered(self, plan: Plan) -> Plan:
        """The plan with what this map, as the reference scan, measures where values count from that."""
        if not any(row.from_master for row in plan.sheet):
            return plan
        found = self.run(plan).steps
        rows = []
        for row in plan.sheet:
            value = found[row.step].value if row.from_master and row.step is not None else None
            master = corrected(row, value.value) if isinstance(value, Number) else None
            rows.append(row if row.master == master else row.model_copy(update={"master": master}))
        return plan.model_copy(update={"sheet": tuple(rows)})

    def explain(self, result: Result, step_id: str) -> Evidence:
        """The evidence of a step of a result of this engine; empty where nothing was measured."""
        found = result.steps[step_id]
        if found.outcome is None:
            return Evidence()
        with self._lock:
            known = self._explained.get(found.fingerprint)
        if known is None:
            kind = kind_named(found.step.kind).model_validate(found.step.params)
            known = kind.explain(
                _given(self.data, found.step, found.zone, found.base, result.steps), found.outcome
            )
            with self._lock:
                self._explained[found.fingerprint] = known
                while len(self._explained) > EXPLAINED:
                    self._explained.popitem(last=False)
        return known

    def _add(self, step: Step, kind: Kind, homes: Homes, results: dict[str, StepResult]) -> bool:
        """Put a step's result to those of the steps before it; whether it had to be computed."""
        missing = next((results[i] for i in step.needs if results[i].outcome is None), None)
        if missing is not None:
            root = missing.because_of or missing.step.id
            results[step.id] = StepResult(
                step, None, _because(missing), 0.0, missing.fingerprint, missing.off_scan, because_of=root
            )
            return False
        try:
            zone, base = _placed(step, homes, results)
        except NotMeasured as error:
            results[step.id] = StepResult(step, None, str(error), 0.0, f"unplaced {error}")
            return False
        mark = _fingerprint(step, zone, base, results)
        known = self._recall(mark)
        if known is not None:
            # the same measurement may stand under another id or name by now
            results[step.id] = known if known.step == step else replace(known, step=step)
            return False
        start = time.perf_counter()
        outcome, reason, off_scan = None, "", False
        try:
            if self.data.data_share == 0.0:
                raise OffScan("the scan holds no data at all")
            if step.taught is not None and step.taught.trouble:
                raise NotMeasured(f"nothing was taught: {step.taught.trouble}")
            outcome = kind.evaluate(_given(self.data, step, zone, base, results))
        except NotMeasured as error:
            reason, off_scan = str(error), isinstance(error, OffScan)
        elapsed = (time.perf_counter() - start) * 1000
        found = StepResult(step, outcome, reason, elapsed, mark, off_scan, zone=zone, base=base)
        self._remember(found)
        results[step.id] = found
        return True

    def _teach(self, step: Step, kind: Kind, homes: Homes, results: Mapping[str, StepResult]) -> Taught:
        """What a step learns from this map, or why it does not."""
        missing = next((results[i] for i in step.needs if results[i].outcome is None), None)
        if missing is not None:
            return Taught(trouble=_because(missing))
        try:
            zone, base = _placed(step, homes, results)
            mark = "taught " + _fingerprint(step.model_copy(update={"taught": None}), zone, base, results)
            with self._lock:
                known = self._lessons.get(mark)
            if known is None:
                lesson = kind.teach(_given(self.data, step, zone, base, results))
                known = Taught(columns={name: tuple(values) for name, values in lesson.items()})
                with self._lock:
                    self._lessons[mark] = known
                    while len(self._lessons) > LESSONS:
                        self._lessons.popitem(last=False)
            return known
        except NotMeasured as error:
            return Taught(trouble=str(error))

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


def _drawn(step: Step) -> Step:
    """A step as it is on the reference scan itself."""
    follow = Follow(z=step.follow.z, tilt=step.follow.tilt)
    return step.model_copy(update={"follow": follow, "home": None, "taught": None})


def _with_ancestors(wanted: set[str], steps: Mapping[str, tuple[Step, Kind]]) -> set[str]:
    """These steps and all they need."""
    found: set[str] = set()
    waiting = list(wanted)
    while waiting:
        step_id = waiting.pop()
        if step_id not in found:
            found.add(step_id)
            waiting += steps[step_id][0].needs
    return found


def _placed(step: Step, homes: Homes, results: Mapping[str, StepResult]) -> tuple[AnyZone | None, Plane]:
    """Where a step's zone is on this map, and what its heights count from. Raises `NotMeasured`."""
    if step.zone is None or not step.follow.anchors:
        return step.zone, LEVEL
    values = {i: results[i].value for i in step.follow.anchors}
    zone = followed(step.zone, step.follow, homes, values)
    return zone, base(step.follow, homes, values, (zone.x, zone.y))


def _given(
    data: HeightMap, step: Step, zone: AnyZone | None, ground: Plane, results: Mapping[str, StepResult]
) -> Given:
    inputs = {name: tuple(results[i].value for i in ids) for name, ids in step.inputs.items()}
    prepared = inputs.pop("data", ())
    columns = step.taught.columns if step.taught is not None else {}
    return Given(prepared[0] if prepared else data, zone, inputs, ground, columns)


def _fingerprint(step: Step, zone: AnyZone | None, ground: Plane, results: Mapping[str, StepResult]) -> str:
    """Of everything that decides a step's value on a given height map; not of its id and name."""
    where = None if zone is None else zone.model_dump(mode="json")
    heights = None if ground is LEVEL else [getattr(ground, name) for name in ground.__slots__]
    inputs = {name: [results[i].fingerprint for i in ids] for name, ids in step.inputs.items()}
    lesson = None if step.taught is None else step.taught.digest
    text = json.dumps([step.kind, step.params, where, heights, inputs, lesson], sort_keys=True)
    return hashlib.blake2b(text.encode(), digest_size=16).hexdigest()


def _because(missing: StepResult) -> str:
    reason = missing.reason
    return reason if reason.startswith("because of") else f"because of “{missing.step.name}”: {reason}"


def _judge(row: Characteristic, found: StepResult | None) -> Judged:
    unit, value, at, text = row.unit, None, None, ""
    verdict, reason = Verdict.NOT_MEASURED, "nothing is bound to it yet; select it and press N"
    if found is not None:
        unit, reason = kind_named(found.step.kind).unit, found.reason
    if found is not None and isinstance(found.value, Number):
        unit, at, text = found.value.unit, found.value.at, found.value.text
        value = corrected(row, found.value.value)
        if row.from_master and row.master is None:
            verdict, reason = Verdict.NOT_MEASURED, "the reference part gives no value to count from"
        else:
            value -= (row.master or 0.0) if row.from_master else 0.0
            verdict, reason = judge(value, row.lower, row.upper, row.decimals, row.uncertainty or 0.0)
        if text and verdict is Verdict.FAIL:
            reason = f"reads “{text}”"
        if verdict is Verdict.NOT_MEASURED:
            value = None  # a number that is no number is not shown either
    return Judged(
        balloon=row.balloon,
        name=row.name,
        step=row.step or "",
        value=value,
        unit=unit,
        nominal=row.nominal,
        lower=row.lower,
        upper=row.upper,
        decimals=row.decimals,
        verdict=verdict,
        reason=reason,
        at=at,
        text=text,
    )


def corrected(row: Characteristic, value: float) -> float:
    """A value with the linear correction of its row."""
    return value if row.correction is None else row.correction.applied(value)
