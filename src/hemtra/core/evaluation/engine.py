"""The engine: evaluates a plan on a height map, and only what changed."""

from __future__ import annotations

import hashlib
import json
import threading
import time
from collections import OrderedDict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from typing import Any, TypeAlias

import numpy as np

from hemtra.core.coverage import Coverage
from hemtra.core.errors import NotMeasured, OffScan
from hemtra.core.evaluation.profiles import Column, Profiles
from hemtra.core.evaluation.rows import Rests, corrected, counted, dependency_reason, judged, judged_series
from hemtra.core.geometry.elements import LEVEL, Number, Plane
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.marks import Evidence
from hemtra.core.plan.document import Characteristic, Follow, Home, Plan, Step, Taught
from hemtra.core.plan.follow import base, followed, followed_on_profile, pose_of
from hemtra.core.plan.graph import ordered
from hemtra.core.plan.kind import Absent, Kind, Outcome, StepContext
from hemtra.core.plan.limits import CharacteristicResult, Verdict, part_verdict
from hemtra.core.plan.registry import kind_named
from hemtra.core.plan.series import MeasuredAlong, Series
from hemtra.core.zones.zone import AnyZone

EXPLAINED = 24
"""Evidence kept per height map: one lineage and a little more; a large plane's takes a megabyte."""
REMEMBERED = 256
"""Step results kept per height map: a plan of 60 steps and a few of its past states."""

MAPS = 8
"""Prepared maps among them: a preparation of some steps, and what a drag makes of the last."""
COLUMNS = 96
"""Steps over all profiles of a run that are kept: a plan of 40 and a few of its past states."""
SINGLE = 32
"""Profiles looked at one by one whose results are kept."""
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

    @property
    def span(self) -> tuple[float, float] | None:
        """Lowest and highest number that unseen data leaves possible, None where it leaves no room."""
        if self.outcome is None or not isinstance(self.value, Number):
            return None
        possible = [v.value for v in self.outcome.possible if isinstance(v, Number)]
        return (min(*possible, self.value.value), max(*possible, self.value.value)) if possible else None


@dataclass(frozen=True)
class Result:
    """One part, measured and judged."""

    verdict: Verdict
    characteristics: tuple[CharacteristicResult, ...]
    """In balloon order."""
    steps: Mapping[str, StepResult]
    elapsed_ms: float
    computed: int
    """Steps evaluated afresh; the others were known already."""
    series: Mapping[int, Series] = field(default_factory=dict)
    """By balloon, the values of all profiles or instances that its verdict comes from."""
    coverage: Mapping[int, Coverage] = field(default_factory=dict)
    """By balloon, what a value rests on; only where it was asked for, by `Engine.covered`."""

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
    serial: str = ""
    """Of the part, where it is known."""
    _known: OrderedDict[str, StepResult] = field(default_factory=OrderedDict)
    _explained: OrderedDict[str, Evidence] = field(default_factory=OrderedDict)
    _lessons: OrderedDict[str, Taught] = field(default_factory=OrderedDict)
    _columns: OrderedDict[str, Column] = field(default_factory=OrderedDict)
    _runs: dict[int, Profiles] = field(default_factory=dict)
    _covered: OrderedDict[str, tuple[Coverage | None]] = field(default_factory=OrderedDict)
    _single: OrderedDict[tuple[int, int], Engine] = field(default_factory=OrderedDict)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def run(self, plan: Plan) -> Result:
        """Measure and judge. Raises `PlanError` when the plan itself does not hold."""
        if plan.by_profile is not None:
            return self._run_profiles(plan)
        start = time.perf_counter()
        homes = {s.id: s.home for s in plan.steps if s.home is not None}
        results: dict[str, StepResult] = {}
        order = ordered(plan)
        computed = sum(self._add(step, kind, homes, results) for step, kind in order)
        rows, series = [], {}
        for row in _in_balloon_order(plan):
            found = None if row.step is None else results[row.step]
            many = self._many(row, order, homes, results)
            if many is not None and found is not None:
                series[row.balloon] = many
                rows.append(judged_series(row, many, _unit_of(found)))
            elif found is not None:
                rests = self._rests(row, found, results)
                rows.append(judged(row, found.value, found.reason, kind_named(found.step.kind).unit, rests))
            else:
                rows.append(judged(row, None, ""))
        verdict = part_verdict((j.verdict for j in rows), Verdict(plan.not_proven.upper()))
        elapsed = (time.perf_counter() - start) * 1000
        return Result(verdict, tuple(rows), results, elapsed, computed, series)

    def profiles(self, plan: Plan) -> Profiles:
        """The profiles of this map, as a plan that goes profile by profile takes them."""
        average = plan.by_profile.average if plan.by_profile is not None else 1
        with self._lock:
            if average not in self._runs:
                self._runs.clear()
                self._runs[average] = Profiles(self.data, average)
            return self._runs[average]

    def at_profile(self, plan: Plan, index: int) -> Engine:
        """An engine on one profile, for its evidence; the plan to run on it is `single(plan)`."""
        profiles, average = self.profiles(plan), plan.by_profile.average if plan.by_profile is not None else 1
        with self._lock:
            known = self._single.get((average, index))
        if known is None:
            known = Engine(profiles.one(index), self.serial)
            with self._lock:
                self._single[average, index] = known
                while len(self._single) > SINGLE:
                    self._single.popitem(last=False)
        return known

    def _run_profiles(self, plan: Plan) -> Result:
        """Measure and judge a run of profiles; the steps of the result are those of the profile drawn on."""
        assert plan.by_profile is not None
        start = time.perf_counter()
        homes = {s.id: s.home for s in plan.steps if s.home is not None}
        profiles, columns, marks, computed = self.profiles(plan), dict[str, Column](), dict[str, str](), 0
        for step, kind in ordered(plan):
            marks[step.id] = _column_mark(step, plan.by_profile.average, homes, marks)
            with self._lock:
                known = self._columns.get(marks[step.id])
            if known is None:
                known = profiles.column(step, kind, homes, columns)
                computed += 1
                with self._lock:
                    self._columns[marks[step.id]] = known
                    while len(self._columns) > COLUMNS:
                        self._columns.popitem(last=False)
            columns[step.id] = known
        rows, series = [], {}
        for row in _in_balloon_order(plan):
            if row.step is None:
                rows.append(judged(row, None, ""))
                continue
            unit = kind_named(plan.step(row.step).kind).unit
            many = profiles.series(columns[row.step], partial(counted, row, unit=unit))
            series[row.balloon] = many
            rows.append(judged_series(row, many, unit, plan.by_profile))
        verdict = part_verdict((j.verdict for j in rows), Verdict(plan.not_proven.upper()))
        elapsed = (time.perf_counter() - start) * 1000
        shown = self.at_profile(plan, profiles.nearest(plan.by_profile.at)).run(single(plan))
        return Result(verdict, tuple(rows), shown.steps, elapsed, computed, series)

    def _many(
        self,
        row: Characteristic,
        order: Sequence[tuple[Step, Kind]],
        homes: Homes,
        results: Mapping[str, StepResult],
    ) -> Series | None:
        """What a row measures many times on this part: on sections along a path, or at instances."""
        value = None if row.step is None else results[row.step].value
        if isinstance(value, MeasuredAlong) and value.series is not None:
            return replace(value.series, values=counted(row, value.series.values, value.unit))
        return None if row.over is None else self._instances(row, order, homes, results)

    def _instances(
        self,
        row: Characteristic,
        order: Sequence[tuple[Step, Kind]],
        homes: Homes,
        results: Mapping[str, StepResult],
    ) -> Series | None:
        """What a row measures at each instance of the outline it rests on; None where there is one only."""
        if row.step is None:
            return None
        chain = _with_ancestors({row.step}, {step.id: (step, kind) for step, kind in order})
        outline = next((i for i in chain if getattr(results[i].value, "others", ())), None)
        if outline is None:
            return None
        first = results[outline]
        found: list[Any] = []
        reasons: dict[int, str] = {}
        moving = {outline}
        for step, _ in order:
            if step.id in chain and moving & set(step.needs):
                moving.add(step.id)
        for k, one in enumerate((first.value, *first.value.others)):
            local = {**results, outline: replace(first, outcome=Outcome(replace(one, others=())))}
            local[outline] = replace(local[outline], fingerprint=f"{first.fingerprint} {k}")
            for step, kind in order:
                if step.id in moving and step.id != outline:
                    self._add(step, kind, homes, local)
            end = local[row.step]
            found.append(end.value)
            if end.value is None:
                reasons[k] = end.reason
        column = Column([None if v is None else v.at for v in found], {})
        values = np.array([np.nan if v is None else v.value for v in found])
        places = column.parts("x", "y", "z")
        unit = _unit_of(results[row.step])
        return Series(counted(row, values, unit), np.arange(1.0, len(found) + 1), places, reasons, "instance")

    def taught(self, plan: Plan) -> Plan:
        """The plan with what its steps learn from this map, as the reference scan, and its anchors' homes.

        The same plan when there is nothing new. Raises `PlanError` when the plan itself does not hold.
        """
        if plan.by_profile is not None:
            profiles = self.profiles(plan)
            inner = self.at_profile(plan, profiles.nearest(plan.by_profile.at)).taught(single(plan))
            same = inner.steps == plan.steps and inner.sheet == plan.sheet
            return plan if same else inner.model_copy(update={"by_profile": plan.by_profile})
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
            master = corrected(row, value.value, value.unit) if isinstance(value, Number) else None
            rows.append(row if row.master == master else row.model_copy(update={"master": master}))
        return plan.model_copy(update={"sheet": tuple(rows)})

    def explain(self, result: Result, step_id: str) -> Evidence:
        """The evidence of a step of a result of this engine; empty where nothing was measured."""
        found = result.steps[step_id]
        if found.outcome is None or isinstance(found.value, Absent):
            return Evidence()
        with self._lock:
            known = self._explained.get(found.fingerprint)
        if known is None:
            kind = kind_named(found.step.kind).model_validate(found.step.params)
            known = kind.explain(self.given(result, step_id), found.outcome)
            with self._lock:
                self._explained[found.fingerprint] = known
                while len(self._explained) > EXPLAINED:
                    self._explained.popitem(last=False)
        return known

    def given(self, result: Result, step_id: str) -> StepContext:
        """What a step of a result of this engine was given, to look at it closer."""
        found = result.steps[step_id]
        return _given(self, found.step, found.zone, found.base, result.steps)

    def _add(self, step: Step, kind: Kind, homes: Homes, results: dict[str, StepResult]) -> bool:
        """Put a step's result to those of the steps before it; whether it had to be computed."""
        missing = next((results[i] for i in step.needs if results[i].outcome is None), None)
        if missing is not None:
            root = missing.because_of or missing.step.id
            results[step.id] = StepResult(
                step,
                None,
                dependency_reason(missing.step.name, missing.reason),
                0.0,
                missing.fingerprint,
                missing.off_scan,
                because_of=root,
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
            given = _given(self, step, zone, base, results)
            outcome = _with_possible(kind, given, kind.evaluate(given), step, results)
            if isinstance(outcome.value, Absent):
                reason = outcome.value.reason
        except NotMeasured as error:
            reason, off_scan = str(error), isinstance(error, OffScan)
        elapsed = (time.perf_counter() - start) * 1000
        found = StepResult(step, outcome, reason, elapsed, mark, off_scan, zone=zone, base=base)
        self._remember(found)
        results[step.id] = found
        return True

    def covered(self, result: Result) -> Result:
        """A result of this engine with what each of its values rests on."""
        found = {
            row.balloon: coverage
            for row in result.characteristics
            if row.step in result.steps and (coverage := self.coverage(result.steps, row.step)) is not None
        }
        return replace(result, coverage=found)

    def coverage(self, results: Mapping[str, StepResult], step_id: str) -> Coverage | None:
        """What a step of some results rests on: its own zone, edge or path, and those of its inputs."""
        found = results[step_id]
        if found.outcome is None:
            return None
        with self._lock:
            known = self._covered.get(found.fingerprint)
        if known is not None:
            return known[0]
        whole = found.outcome.coverage
        if whole is None:
            own = getattr(found.value, "coverage", None)
            if own is None:
                kind = kind_named(found.step.kind).model_validate(found.step.params)
                own = kind.coverage(_given(self, found.step, found.zone, found.base, results))
            inputs = {i for name, ids in found.step.inputs.items() if name != "data" for i in ids}
            parts = [own, *(self.coverage(results, i) for i in sorted(inputs))]
            for part in parts:
                if part is not None:
                    whole = part if whole is None else whole.and_(part)
        with self._lock:
            self._covered[found.fingerprint] = (whole,)
            while len(self._covered) > REMEMBERED:
                self._covered.popitem(last=False)
        return whole

    def _rests(self, row: Characteristic, found: StepResult, results: Mapping[str, StepResult]) -> Rests:
        """What a row's value rests on; its coverage is looked at only where something asks for it."""
        least = kind_named(found.step.kind).least_coverage
        asked = (least if row.least_coverage is None else row.least_coverage) > 0.0
        coverage = None if found.outcome is None else found.outcome.coverage
        if asked and coverage is None:
            coverage = self.coverage(results, found.step.id)
        return Rests(found.span, coverage or _counted(results, found.step.id), least)

    def _teach(self, step: Step, kind: Kind, homes: Homes, results: Mapping[str, StepResult]) -> Taught:
        """What a step learns from this map, or why it does not."""
        missing = next((results[i] for i in step.needs if results[i].outcome is None), None)
        if missing is not None:
            return Taught(trouble=dependency_reason(missing.step.name, missing.reason))
        try:
            zone, base = _placed(step, homes, results)
            mark = "taught " + _fingerprint(step.model_copy(update={"taught": None}), zone, base, results)
            with self._lock:
                known = self._lessons.get(mark)
            if known is None:
                lesson = kind.teach(_given(self, step, zone, base, results))
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
            if isinstance(result.value, HeightMap):
                maps = [mark for mark, known in self._known.items() if isinstance(known.value, HeightMap)]
                for mark in maps[:-MAPS]:
                    del self._known[mark]
            while len(self._known) > REMEMBERED:
                self._known.popitem(last=False)


def single(plan: Plan) -> Plan:
    """A plan that goes profile by profile, for one of them."""
    return plan.model_copy(update={"by_profile": None})


def _in_balloon_order(plan: Plan) -> list[Characteristic]:
    return [row for row in sorted(plan.sheet, key=lambda c: c.balloon) if not row.off]


def _column_mark(step: Step, average: int, homes: Homes, marks: Mapping[str, str]) -> str:
    """Of everything that decides a step's values on all profiles of a given map."""
    where = None if step.zone is None else step.zone.model_dump(mode="json")
    follow = {i: [marks[i], homes[i].model_dump() if i in homes else None] for i in step.follow.anchors}
    axes = step.follow.model_dump() if follow else None
    inputs = {name: [marks[i] for i in ids] for name, ids in step.inputs.items()}
    lesson = None if step.taught is None else step.taught.digest
    text = json.dumps([step.kind, step.params, where, axes, follow, inputs, lesson, average], sort_keys=True)
    return hashlib.blake2b(text.encode(), digest_size=16).hexdigest()


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
    if kind_named(step.kind).section_input and step.inputs.get(kind_named(step.kind).section_input):
        values = {i: results[i].value for i in step.follow.anchors}
        return followed_on_profile(step.zone, step.follow, homes, values), LEVEL
    values = {i: results[i].value for i in step.follow.anchors}
    zone = followed(step.zone, step.follow, homes, values)
    return zone, base(step.follow, homes, values, (zone.x, zone.y))


def _given(
    engine: Engine, step: Step, zone: AnyZone | None, ground: Plane, results: Mapping[str, StepResult]
) -> StepContext:
    inputs = {name: tuple(results[i].value for i in ids) for name, ids in step.inputs.items()}
    prepared = inputs.pop("data", ())
    columns = step.taught.columns if step.taught is not None else {}
    data = prepared[0] if prepared else engine.data
    return StepContext(data, zone, inputs, ground, columns, engine.serial)


def _unit_of(found: StepResult) -> str:
    """The unit that a step's value is in."""
    return found.value.unit if isinstance(found.value, Number) else kind_named(found.step.kind).unit


def _with_possible(
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


def _counted(results: Mapping[str, StepResult], step_id: str) -> Coverage | None:
    """What outcomes that a step rests on have counted by the way: isolated points, left out of an extreme."""
    found = results[step_id]
    whole = None if found.outcome is None else found.outcome.coverage
    for i in {i for name, ids in found.step.inputs.items() if name != "data" for i in ids}:
        part = _counted(results, i)
        if part is not None:
            whole = part if whole is None else whole.and_(part)
    return whole


def _fingerprint(step: Step, zone: AnyZone | None, ground: Plane, results: Mapping[str, StepResult]) -> str:
    """Of everything that decides a step's value on a given height map; not of its id and name."""
    where = None if zone is None else zone.model_dump_json()
    heights = None if ground is LEVEL else [getattr(ground, name) for name in ground.__slots__]
    inputs = {name: [results[i].fingerprint for i in ids] for name, ids in step.inputs.items()}
    lesson = None if step.taught is None else step.taught.digest
    text = json.dumps([step.kind, step.params, where, heights, inputs, lesson], sort_keys=True)
    return hashlib.blake2b(text.encode(), digest_size=16).hexdigest()
