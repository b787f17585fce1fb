"""The engine: evaluates a plan on a height map, and only what changed."""

from __future__ import annotations

import math
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from hemtra.core.coverage import Coverage
from hemtra.core.errors import NotMeasured, OffScan
from hemtra.core.evaluation.context import (
    Homes,
    context_of,
    drawn_here,
    fingerprint,
    placed,
    with_ancestors,
)
from hemtra.core.evaluation.known_to import known_on_part, without_old_budgets
from hemtra.core.evaluation.possible import counted_on_the_way, unit_of, with_possible
from hemtra.core.evaluation.profile_runs import NONE_MOVED, ProfileRuns, single
from hemtra.core.evaluation.profiles import Column, Profiles
from hemtra.core.evaluation.results import Result, StepResult
from hemtra.core.evaluation.rows import (
    Rests,
    corrected,
    counted,
    dependency_reason,
    evaluated,
    evaluated_series,
    in_balloon_order,
)
from hemtra.core.evaluation.unchanged import Evaluated, Unchanged
from hemtra.core.geometry.elements import Number, Plane, Point
from hemtra.core.kept import Derived, Kept, Turns
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.noise import typical_noise
from hemtra.core.marks import Evidence
from hemtra.core.plan.document import Characteristic, Home, Plan, Step, Taught
from hemtra.core.plan.follow import pose_of
from hemtra.core.plan.graph import STEPS, ordered
from hemtra.core.plan.kind import Absent, Kind, Outcome, StepContext
from hemtra.core.plan.limits import CharacteristicResult, Verdict, part_verdict
from hemtra.core.plan.registry import kind_named
from hemtra.core.plan.series import MeasuredAlong, Series
from hemtra.core.zones.zone import AnyZone

EXPLAINED = 24
"""Evidence kept per height map: one lineage and a little more; a large plane's takes a megabyte."""
REMEMBERED = 256
"""Step results kept per height map at least: a plan of 60 steps and a few of its past states."""
STATES = 4
"""Past states of a larger plan that are kept, this one counted."""
MAPS = 8
"""Prepared maps kept at least: a preparation of some steps, and what a drag makes of the last."""
LESSONS = 16
"""Taught geometry of steps by map, kept while their zones are edited."""


@dataclass
class Engine:
    """Evaluates plans on one height map and remembers what it has found. Safe to share between threads."""

    data: HeightMap
    serial: str = ""
    """Serial number of the part, where known."""
    fixed: Mapping[str, StepResult] = field(default_factory=dict)
    """Results reused unchanged, by step."""
    _known: Kept[str, StepResult] = field(default_factory=lambda: Kept(REMEMBERED))
    _maps: Kept[str, StepResult] = field(default_factory=lambda: Kept(MAPS))
    _explained: Kept[str, Evidence] = field(default_factory=lambda: Kept(EXPLAINED))
    _lessons: Kept[str, Taught] = field(default_factory=lambda: Kept(LESSONS))
    _covered: Kept[str, tuple[Coverage | None]] = field(default_factory=lambda: Kept(REMEMBERED))

    _turns: Turns[str] = field(default_factory=Turns)
    _last: Unchanged = field(default_factory=Unchanged)
    _last_drawn: Unchanged = field(default_factory=Unchanged)
    """Of steps as they are drawn on this map, where it teaches a plan."""
    _lessoned: dict[str, tuple[Step, Taught, Step]] = field(default_factory=dict)
    _runs: ProfileRuns = field(init=False)

    def __post_init__(self) -> None:
        self._runs = ProfileRuns(self.data, lambda profile: Engine(profile, self.serial))

    def profiles(self, plan: Plan) -> Profiles:
        """The profiles of this map, as a plan that goes profile by profile takes them."""
        return self._runs.profiles(plan)

    def at_profile(self, plan: Plan, index: int) -> Engine:
        """An engine on one profile, for its evidence; the plan to run on it is `single(plan)`."""
        return self._runs.at(plan, index)

    def columns(self, plan: Plan) -> dict[str, Column]:
        """What each step of a plan that goes profile by profile gives on all of them."""
        return self._runs.columns(plan)[0]

    def run(self, plan: Plan, moved: Mapping[str, Column] = NONE_MOVED) -> Result:
        """Measure and evaluate. Raises `PlanError` when the plan itself does not hold.

        moved: of a plan that goes profile by profile, what is taken in the place of what some steps give.
        """
        if plan.by_profile is not None:
            return self._runs.run(plan, moved)
        start = time.perf_counter()
        self._make_room(plan)
        homes = {s.id: s.home for s in plan.steps if s.home is not None}
        results: dict[str, StepResult] = dict(self.fixed)
        order = ordered(plan)
        computed = sum(
            self._settle(step, kind, homes, results, self._last)
            for step, kind in order
            if step.id not in self.fixed
        )
        steps = {step.id: (step, kind) for step, kind in order}
        rows: list[CharacteristicResult] = []
        series: dict[int, Series] = {}
        for row in in_balloon_order(plan):
            known = self._last.row(row, results)
            if known is None:
                known = self._evaluated(row, order, homes, results)
                if known[1] is None or known[1].by != "instance":  # these rest on more than results
                    below = with_ancestors({row.step} if row.step else set(), steps)
                    self._last.keep_row(row, below, results, known)
            rows.append(known[0])
            if known[1] is not None:
                series[row.balloon] = known[1]
        self._last.forget_others(results, {row.balloon for row in rows})
        verdict = part_verdict((j.verdict for j in rows), Verdict(plan.not_proven.upper()))
        elapsed = (time.perf_counter() - start) * 1000
        return Result(verdict, tuple(rows), results, elapsed, computed, series)

    def _evaluated(
        self,
        row: Characteristic,
        order: Sequence[tuple[Step, Kind]],
        homes: Homes,
        results: Mapping[str, StepResult],
    ) -> Evaluated:
        """A row, and the values behind it where it has many."""
        found = None if row.step is None else results[row.step]
        if found is None:
            return evaluated(row, None, ""), None
        many = self._many(row, order, homes, results)
        if many is None:
            rests = self._rests(row, found, results)
            return evaluated(row, found.value, found.reason, unit_of(found), rests), None
        known = None if row.budget is None else known_on_part(row, results, self.level)
        return evaluated_series(row, many, unit_of(found), known=known), many

    def _many(
        self,
        row: Characteristic,
        order: Sequence[tuple[Step, Kind]],
        homes: Homes,
        results: Mapping[str, StepResult],
    ) -> Series | None:
        """Return a row's series on this part: by section along a path, or by instance."""
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
        """Measure a row at each instance of its outline; None for a single instance."""
        if row.step is None:
            return None
        chain = with_ancestors({row.step}, {step.id: (step, kind) for step, kind in order})
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
        nowhere = (math.nan,) * 3
        places = np.array([nowhere if v is None else v.at.place for v in found])
        values = np.array([np.nan if v is None else v.value for v in found])
        unit = unit_of(results[row.step])
        return Series(counted(row, values, unit), np.arange(1.0, len(found) + 1), places, reasons, "instance")

    def taught(self, plan: Plan) -> Plan:
        """The plan with what its steps are taught by this map, as the reference scan, and its anchors' homes.

        The same plan when there is nothing new. Raises `PlanError` when the plan itself does not hold.
        """
        if plan.by_profile is not None:
            profiles = self.profiles(plan)
            inner = self.at_profile(plan, profiles.nearest(plan.by_profile.at)).taught(single(plan))
            same = inner.steps == plan.steps and inner.sheet == plan.sheet
            return plan if same else inner.model_copy(update={"by_profile": plan.by_profile})
        # zones are drawn on this very map, where they lie already; only heights follow something
        steps = {step.id: (_DRAWN(step), kind) for step, kind in ordered(plan)}
        anchors = {i for s in plan.steps for i in s.follow.anchors}
        anchors |= {i for i, (_, kind) in steps.items() if kind.teachable}
        wanted = with_ancestors(anchors, steps)
        results: dict[str, StepResult] = {}
        homes: dict[str, Home] = {}
        changed: dict[str, Step] = {}
        for step_id, (step, kind) in steps.items():
            lesson = self._teach(plan, step, kind, homes, results) if kind.teachable else None
            old = plan.step(step_id)
            if lesson is not None:
                lesson = old.taught if old.taught == lesson else lesson
                step = self._with_lesson(step, lesson)
            if step_id in wanted:
                self._settle(step, kind, homes, results, self._last_drawn)
            if step_id in anchors and results[step_id].value is not None:
                found = pose_of(results[step_id].value).home
                homes[step_id] = old.home if old.home is not None and old.home == found else found
            home = homes.get(step_id)
            if old.home != home or old.taught != lesson:
                changed[step_id] = old.model_copy(update={"home": home, "taught": lesson})
        self._last_drawn.forget_others(results, ())
        if changed:
            plan = plan.model_copy(update={"steps": tuple(changed.get(s.id, s) for s in plan.steps)})
        return self._mastered(without_old_budgets(plan))

    def _with_lesson(self, step: Step, lesson: Taught) -> Step:
        """The step with its lesson; the same one again, as long as neither changes."""
        known = self._lessoned.get(step.id)
        if known is None or known[0] is not step or known[1] is not lesson:
            known = self._lessoned[step.id] = (step, lesson, step.model_copy(update={"taught": lesson}))
        return known[2]

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
        known = self._explained.get(found.fingerprint)
        if known is None:
            kind = kind_named(found.step.kind).model_validate(found.step.params)
            known = kind.explain(self.given(result, step_id), found.outcome)
            self._explained.keep(found.fingerprint, known)
        return known

    def given(self, result: Result, step_id: str) -> StepContext:
        """Return the context a step of a result of this engine had, for a closer look."""
        found = result.steps[step_id]
        return self._context(found.step, (found.zone, found.base), result.steps)

    def _settle(
        self, step: Step, kind: Kind, homes: Homes, results: dict[str, StepResult], last: Unchanged
    ) -> bool:
        """Add a step's result as `_add` does, or that of the last run if it stands."""
        known = last.step(step, homes, results)
        if known is not None:
            results[step.id] = known
            return False
        computed = self._add(step, kind, homes, results)
        last.keep_step(step, homes, results)
        return computed

    def _add(self, step: Step, kind: Kind, homes: Homes, results: dict[str, StepResult]) -> bool:
        """Add a step's result to those of the steps before it; returns whether it had to be computed."""
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
            zone, base = placed(step, homes, results)
        except NotMeasured as error:
            results[step.id] = StepResult(step, None, str(error), 0.0, f"unplaced {error}")
            return False
        mark = fingerprint(step, zone, base, results)
        known, computed = self._recall(mark), False
        if known is None:
            with self._turns.of(mark):
                known = self._recall(mark)
                if known is None:
                    known, computed = self._measured(step, kind, (zone, base), mark, results), True
                    self._remember(known)
        # the same measurement may stand under another id or name by now
        results[step.id] = known if known.step == step else replace(known, step=step)
        return computed

    def _measured(
        self,
        step: Step,
        kind: Kind,
        at: tuple[AnyZone | None, Plane],
        mark: str,
        results: Mapping[str, StepResult],
    ) -> StepResult:
        start = time.perf_counter()
        outcome, reason, off_scan = None, "", False
        try:
            if self.data.is_empty:
                raise OffScan("the scan holds no data at all")
            if step.taught is not None and step.taught.trouble:
                raise NotMeasured(f"nothing was taught: {step.taught.trouble}")
            given = self._context(step, at, results)
            outcome = with_possible(kind, given, _known(kind.evaluate(given)), step, results)
            if isinstance(outcome.value, Absent):
                reason = outcome.value.reason
        except NotMeasured as error:
            reason, off_scan = str(error), isinstance(error, OffScan)
        elapsed = (time.perf_counter() - start) * 1000
        return StepResult(step, outcome, reason, elapsed, mark, off_scan, zone=at[0], base=at[1])

    def covered(self, result: Result) -> Result:
        """A result of this engine with what each of its values rests on."""
        found: dict[int, Coverage] = {
            row.balloon: coverage
            for row in result.characteristics
            if row.step in result.steps and (coverage := self.coverage(result.steps, row.step)) is not None
        }
        return replace(result, coverage=found)

    def coverage(self, results: Mapping[str, StepResult], step_id: str) -> Coverage | None:
        """Coverage of a step of some results: its own zone, edge or path, and those of its inputs."""
        found = results[step_id]
        if found.outcome is None:
            return None
        known = self._covered.get(found.fingerprint)
        if known is not None:
            return known[0]
        whole = found.outcome.coverage
        if whole is None:
            own = getattr(found.value, "coverage", None)
            if own is None:
                kind = kind_named(found.step.kind).model_validate(found.step.params)
                own = kind.coverage(self._context(found.step, (found.zone, found.base), results))
            inputs = {i for name, ids in found.step.inputs.items() if name != "data" for i in ids}
            parts = [own, *(self.coverage(results, i) for i in sorted(inputs))]
            for part in parts:
                if part is not None:
                    whole = part if whole is None else whole.and_(part)
        self._covered.keep(found.fingerprint, (whole,))
        return whole

    @cached_property
    def level(self) -> float:
        """Point noise of this map, mm."""
        return typical_noise(self.data)

    def _rests(self, row: Characteristic, found: StepResult, results: Mapping[str, StepResult]) -> Rests:
        """Coverage of a row's value, evaluated only on demand."""
        least = kind_named(found.step.kind).least_coverage
        asked = (least if row.least_coverage is None else row.least_coverage) > 0.0
        coverage = None if found.outcome is None else found.outcome.coverage
        if asked and coverage is None:
            coverage = self.coverage(results, found.step.id)
        if coverage is None:
            coverage, required = counted_on_the_way(results, found.step.id)
            least = max(least, required)
        known = None if row.budget is None else known_on_part(row, results, self.level)
        return Rests(found.span, coverage, least, known)

    def _teach(
        self, plan: Plan, step: Step, kind: Kind, homes: Homes, results: Mapping[str, StepResult]
    ) -> Taught | None:
        """What a step learns from this map or the nominal surface placed on it, or the reason why not.

        The step is as it is drawn here, without a lesson.
        """
        missing = next((results[i] for i in step.needs if results[i].outcome is None), None)
        if missing is not None:
            return Taught(trouble=dependency_reason(missing.step.name, missing.reason))
        try:
            zone, base = placed(step, homes, results)
            mark = "taught " + fingerprint(step, zone, base, results)
            given = self._context(step, (zone, base), results)
            if getattr(kind, "against", "") == "nominal":
                if plan.nominal is None:
                    raise NotMeasured("the plan has no nominal surface; place the mesh of the drawing first")
                if plan.nominal.data is None:
                    return plan.step(step.id).taught  # what it was taught when its heights were at hand
                mark, given = f"{mark} {plan.nominal.digest}", replace(given, data=plan.nominal.data)
            with self._turns.of(mark):
                known = self._lessons.get(mark)
                if known is None:
                    lesson = kind.teach(given)
                    taught = Taught(columns={name: tuple(values) for name, values in lesson.items()})
                    known = self._lessons.keep(mark, taught)
            return known
        except NotMeasured as error:
            return Taught(trouble=str(error))

    def _recall(self, mark: str) -> StepResult | None:
        return self._known.get(mark) or self._maps.get(mark)

    def _remember(self, result: StepResult) -> None:
        # maps are large, so that only a few of them are kept
        place = self._maps if isinstance(result.value, HeightMap) else self._known
        place.keep(result.fingerprint, result)

    def _make_room(self, plan: Plan) -> None:
        """For a plan and a few of its past states."""
        steps = plan.steps
        for kept in (self._known, self._covered):
            kept.hold(STATES * len(steps))
        self._lessons.hold(STATES * sum(step.taught is not None for step in steps))
        self._maps.hold(len({source for step in steps for source in step.inputs.get("data", ())}) + 1)

    def _context(
        self, step: Step, at: tuple[AnyZone | None, Plane], results: Mapping[str, StepResult]
    ) -> StepContext:
        return context_of(self.data, self.serial, step, at, results)


_DRAWN = Derived(drawn_here, STEPS)


def _known(outcome: Outcome) -> Outcome:
    """The same, if its place is known. Raises `NotMeasured` where a coordinate is no number."""
    value = outcome.value
    if isinstance(value, Point) and not all(map(math.isfinite, value.place)):
        raise NotMeasured("it lies where nothing was seen, so that its height is not known")
    return outcome
