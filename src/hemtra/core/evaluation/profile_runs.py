"""Plans that go profile by profile: every step over all profiles at once, and one of them looked at closer."""

from __future__ import annotations

import itertools
import math
import threading
import time
from collections.abc import Callable, Mapping
from functools import cached_property, partial
from types import MappingProxyType
from typing import TYPE_CHECKING

from hemtra.core.evaluation.context import column_fingerprint
from hemtra.core.evaluation.known_to import Known
from hemtra.core.evaluation.profiles import Column, Profiles
from hemtra.core.evaluation.results import Result
from hemtra.core.evaluation.rows import counted, evaluated, evaluated_series, in_balloon_order
from hemtra.core.kept import Kept
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.noise import typical_noise
from hemtra.core.plan.document import Plan
from hemtra.core.plan.graph import ordered
from hemtra.core.plan.limits import CharacteristicResult, Verdict, part_verdict
from hemtra.core.plan.registry import kind_named
from hemtra.core.plan.series import Series

if TYPE_CHECKING:
    from hemtra.core.evaluation.engine import Engine

COLUMNS = 96
"""Steps over all profiles that are kept: a plan of 40 and a few of its past states."""
STATES = 2
"""Past states of a larger plan that are kept, this one counted."""
SINGLE = 32
"""Profiles looked at one by one whose results are kept."""
NONE_MOVED: Mapping[str, Column] = MappingProxyType({})


class ProfileRuns:
    """A map as a sequence of profiles, and what plans found on them."""

    def __init__(self, data: HeightMap, engine_on: Callable[[HeightMap], Engine]) -> None:
        """engine_on: makes an engine for one profile."""
        self._data, self._engine_on = data, engine_on
        self._columns: Kept[str, Column] = Kept(COLUMNS)
        self._single: Kept[tuple[int, int], Engine] = Kept(SINGLE)
        self._taken: dict[int, Profiles] = {}
        self._moves = itertools.count()
        self._lock = threading.Lock()

    def profiles(self, plan: Plan) -> Profiles:
        """The profiles as a plan takes them, each the mean of so many."""
        average = _average(plan)
        with self._lock:
            if average not in self._taken:
                self._taken = {average: Profiles(self._data, average)}
            return self._taken[average]

    def at(self, plan: Plan, index: int) -> Engine:
        """An engine on one profile, for its evidence; the plan to run on it is `single(plan)`."""
        key = _average(plan), index
        known = self._single.get(key)
        return known or self._single.keep(key, self._engine_on(self.profiles(plan).one(index)))

    def columns(self, plan: Plan, moved: Mapping[str, Column] = NONE_MOVED) -> tuple[dict[str, Column], int]:
        """What each step gives on all profiles, and how many of them were measured now.

        moved: of some steps, what is taken in its place.
        """
        self._columns.hold(STATES * len(plan.steps))
        homes = {s.id: s.home for s in plan.steps if s.home is not None}
        profiles, columns, marks, computed = self.profiles(plan), dict[str, Column](), dict[str, str](), 0
        for step, kind in ordered(plan):
            mark = marks[step.id] = column_fingerprint(step, _average(plan), homes, marks)
            if step.id in moved:
                columns[step.id] = moved[step.id]
                marks[step.id] = f"{mark} moved {next(self._moves)}"
                continue
            known = self._columns.get(mark)
            if known is None:
                known = self._columns.keep(mark, profiles.column(step, kind, homes, columns))
                computed += 1
            columns[step.id] = known
        return columns, computed

    def run(self, plan: Plan, moved: Mapping[str, Column] = NONE_MOVED) -> Result:
        """Measure and evaluate; the steps of the result are those of the profile that the plan is drawn on.

        moved: of some steps, what is taken in the place of what they give.
        """
        assert plan.by_profile is not None
        start = time.perf_counter()
        profiles = self.profiles(plan)
        columns, computed = self.columns(plan, moved)
        rows: list[CharacteristicResult] = []
        series: dict[int, Series] = {}
        for row in in_balloon_order(plan):
            if row.step is None:
                rows.append(evaluated(row, None, ""))
                continue
            unit = kind_named(plan.step(row.step).kind).unit
            many = profiles.series(columns[row.step], partial(counted, row, unit=unit))
            series[row.balloon] = many
            edges = () if row.budget is None else row.budget.edge_steps
            room = math.hypot(*(columns[i].room for i in edges if i in columns))
            budget = None if row.budget is None else Known(row.budget, self._level, room)
            rows.append(evaluated_series(row, many, unit, plan.by_profile, known=budget))
        verdict = part_verdict((j.verdict for j in rows), Verdict(plan.not_proven.upper()))
        elapsed = (time.perf_counter() - start) * 1000
        shown = self.at(plan, profiles.nearest(plan.by_profile.at)).run(single(plan))
        return Result(verdict, tuple(rows), shown.steps, elapsed, computed, series)

    @cached_property
    def _level(self) -> float:
        """Point noise of the map, mm."""
        return typical_noise(self._data)


def single(plan: Plan) -> Plan:
    """A plan that goes profile by profile, for one of them."""
    return plan.model_copy(update={"by_profile": None})


def _average(plan: Plan) -> int:
    return plan.by_profile.average if plan.by_profile is not None else 1
