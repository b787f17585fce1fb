"""A scan as a profile sequence: each step of a plan over all of them at once."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from operator import attrgetter
from typing import Any

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.evaluation.rows import dependency_reason
from hemtra.core.features.section import Cut, ProfileKind, SectionFeature, spanned
from hemtra.core.geometry.elements import Number
from hemtra.core.geometry.lanes import numbers, single, without
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.parallel_rows import in_halves
from hemtra.core.plan.document import Home, Step
from hemtra.core.plan.kind import Absent, Kind, StepContext
from hemtra.core.plan.series import Series
from hemtra.core.zones.zone import AnyZone

MOST_AT_ONCE = 4_000_000
"""Points of a zone taken at once; longer runs go in pieces, so that memory stays small."""
WORTH_TWO = 100_000
"""Points of a zone from which on a second core is worth its start."""
ON_MAPS = "it measures on height maps, and this plan inspects profile by profile; measure on its profiles"
PLACING = ("x", "z")
"""The axes on which a zone on a profile can follow."""


@dataclass(frozen=True)
class Column:
    """A step's values on all profiles.

    lanes: all of them as one value with arrays (`core.geometry.lanes`), NaN where there is none; None where
    they are held one by one. others: by index, what does not fit into lanes; without lanes, all there is.
    reasons: by index, why there is none.
    """

    count: int
    lanes: Any
    others: Mapping[int, Any]
    reasons: Mapping[int, str]
    name: str = ""

    def one(self, k: int) -> Any:
        """The value on one profile, None where there is none."""
        if k in self.reasons or self.lanes is None:
            return self.others.get(k)
        return self.others[k] if k in self.others else single(self.lanes, k)

    def parts(self, *names: str) -> FloatArray:
        """(n, names) attributes of the values; NaN where there is none."""
        table = np.full((self.count, len(names)), np.nan)
        if self.lanes is not None:
            table = numbers(self.lanes, names, self.count)
        found = [(k, v) for k, v in self.others.items() if not isinstance(v, Absent)]
        if found:
            of = attrgetter(*names) if len(names) > 1 else lambda v: (getattr(v, names[0]),)
            table[[k for k, _ in found]] = [of(v) for _, v in found]
        return table

    @property
    def room(self) -> float:
        """mm by which the edges of the column may lie off on a usual profile; 0 where it has none."""
        if not hasattr(self.lanes, "spread"):
            return 0.0
        # where nothing is there, no edge is known any better
        there = np.ones(self.count, bool)
        there[[*self.others, *self.reasons]] = False
        found = self.parts("spread")[there, 0]
        return float(np.median(found)) if found.size else 0.0


class _Cuts(Mapping[int, Cut]):
    """The profiles of a map by index, each made when it is looked at."""

    def __init__(self, data: HeightMap) -> None:
        self._data, self._x, self._y = data, data.x, data.y

    def __getitem__(self, k: int) -> Cut:
        return Cut(self._x, self._data.z[k].astype(np.float64), None, (0.0, float(self._y[k])))

    def __len__(self) -> int:
        return self._data.shape[0]

    def __iter__(self) -> Iterator[int]:
        return iter(range(len(self)))


class Profiles:
    """The profiles of a height map: its rows, each the mean of so many neighbours."""

    def __init__(self, data: HeightMap, average: int = 1) -> None:
        self.data = data if average <= 1 else _averaged(data, average)

    @property
    def count(self) -> int:
        """Number of profiles."""
        return self.data.shape[0]

    def one(self, index: int) -> HeightMap:
        """One profile as a map of one row."""
        g, data = self.data.grid, self.data
        grey = None if data.intensity is None else data.intensity[index : index + 1]
        return HeightMap(data.z[index : index + 1], grey, g.dx, g.dy, g.x0, g.y0 + index * g.dy)

    def nearest(self, y: float) -> int:
        """Index of the profile nearest to a place along travel, in mm."""
        g = self.data.grid
        return min(max(round((y - g.y0) / g.dy), 0), self.count - 1)

    @cached_property
    def cuts(self) -> Mapping[int, Cut]:
        """All of them."""
        return _Cuts(self.data)

    @cached_property
    def _across(self) -> Cut:
        """What all of them have in common, to place lanes of points by."""
        places: Any = (0.0, self.data.y)
        return Cut(self.data.x, np.empty(0), None, places)

    def column(
        self, step: Step, kind: Kind, homes: Mapping[str, Home], columns: Mapping[str, Column]
    ) -> Column:
        """A step on all profiles, from the columns of what it needs."""
        if isinstance(kind, ProfileKind):
            return Column(self.count, None, self.cuts, {}, step.name)
        missing = self._missing(step, columns)
        if kind.needs_zone or kind.teachable:
            return Column(self.count, None, {}, dict.fromkeys(range(self.count), ON_MAPS), step.name)
        with np.errstate(all="ignore"):
            if isinstance(kind, SectionFeature):
                return self._measured(step, kind, homes, columns, missing)
            return self._evaluated(step, kind, homes, columns, missing)

    def series(self, column: Column, change: Callable[[FloatArray], FloatArray]) -> Series:
        """The numbers of a column, as a row of the sheet counts them."""
        one_by_one = {k: v for k, v in column.others.items() if isinstance(v, Number)}
        lanes = column.lanes if isinstance(column.lanes, Number) else None
        table = Column(self.count, lanes, one_by_one, {}).parts("value", "at.x", "at.y", "at.z")
        values = change(table[:, 0])
        values[~np.isfinite(values)] = np.nan
        return Series(values, self.data.y, table[:, 1:], dict(column.reasons))

    def _missing(self, step: Step, columns: Mapping[str, Column]) -> dict[int, str]:
        """Reason why a step cannot be measured on some profiles, from its inputs."""
        reasons: dict[int, str] = {}
        for needed in step.needs:
            for k, reason in columns[needed].reasons.items():
                reasons.setdefault(k, dependency_reason(columns[needed].name, reason))
        for anchor in step.follow.anchors:
            for k, value in columns[anchor].others.items():
                if isinstance(value, Absent):
                    reasons.setdefault(k, dependency_reason(columns[anchor].name, value.reason))
        return reasons

    def _measured(
        self,
        step: Step,
        kind: SectionFeature,
        homes: Mapping[str, Home],
        columns: Mapping[str, Column],
        missing: dict[int, str],
    ) -> Column:
        shift = self._shift(step, homes, columns)
        rows = self._rows(step.zone, kind, shift)
        unfit = kind.unfit(rows)
        unfit[list(missing)] = True
        found = without(kind.shape(self._across, list(rows.T)), unfit)
        return self._filled(step, found, missing, unfit, lambda k: kind.value(self.cuts[k], rows[k]))

    def _filled(
        self,
        step: Step,
        lanes: Any,
        missing: dict[int, str],
        odd: BoolArray,
        value: Callable[[int], Any],
    ) -> Column:
        """A column; odd: (n,) where lanes hold nothing, and a value, or why there is none, is asked for."""
        others, reasons = {}, dict(missing)
        for k in np.flatnonzero(odd).tolist():
            if k in missing:
                continue
            try:
                others[k] = value(k)
            except NotMeasured as error:
                reasons[k] = str(error)
        return Column(self.count, lanes, others, reasons, step.name)

    def _zones(
        self, step: Step, homes: Mapping[str, Home], columns: Mapping[str, Column]
    ) -> Callable[[int], AnyZone | None]:
        """Zone of a step on each profile."""
        zone = step.zone
        if zone is None or not step.follow.anchors:
            return lambda k: zone
        shift = self._shift(step, homes, columns).tolist()
        return lambda k: zone.model_copy(update={"x": zone.x + shift[k][0], "y": zone.y + shift[k][1]})

    def _shift(self, step: Step, homes: Mapping[str, Home], columns: Mapping[str, Column]) -> FloatArray:
        """(n, 2) mm by which the zone moves in x and z on each profile; NaN where its anchor is missing."""
        shift = np.zeros((self.count, 2))
        for axis, name in enumerate(PLACING):
            anchor = getattr(step.follow, name)
            if anchor is not None and anchor in homes:
                shift[:, axis] = columns[anchor].parts(name)[:, 0] - getattr(homes[anchor], name)
        return shift

    def _rows(self, zone: AnyZone | None, kind: SectionFeature, shift: FloatArray) -> FloatArray:
        """Measure a kind on each profile; only the columns the zone reaches are read."""
        x, first, last = self.data.x, 0, self.data.shape[1]
        moved = np.nan_to_num(shift)
        wide = 0.0
        if zone is not None:
            wide, _ = zone.half_extent()
            low, high = zone.x - wide + moved[:, 0].min(), zone.x + wide + moved[:, 0].max()
            first, last = np.searchsorted(x, [low, high + 1e-9])
            # neighbours beyond the zone show how wide a gap in the data is
            first, last = max(int(first) - 1, 0), min(int(last) + 1, x.size)
        part, pieces = x[first:last], dict[int, FloatArray]()
        size = max(1, MOST_AT_ONCE // max(part.size, 1))

        def some(rows: slice) -> None:
            for start in range(rows.start, rows.stop, size):
                these = slice(start, min(start + size, rows.stop))
                z, by = self.data.z[these, first:last].astype(np.float64), moved[these]
                inside, middle = ~np.isnan(z), np.full(len(z), (x[0] + x[-1]) / 2)
                if zone is not None:
                    inside &= zone.contains(part - by[:, :1], np.where(inside, z, 0.0) - by[:, 1:])
                    middle = zone.x + by[:, 0]
                columns = spanned(z) if zone is None else np.abs(part - middle[:, None]) <= wide
                pieces[start] = kind.measured(part, z, inside, columns, middle)

        in_halves(some, self.count, worth=self.count * part.size > WORTH_TWO)
        return np.concatenate([pieces[start] for start in sorted(pieces)])

    def _evaluated(
        self,
        step: Step,
        kind: Kind,
        homes: Mapping[str, Home],
        columns: Mapping[str, Column],
        missing: dict[int, str],
    ) -> Column:
        inputs = {name: [columns[i] for i in ids] for name, ids in step.inputs.items()}
        given = [column for many in inputs.values() for column in many]
        zones = self._zones(step, homes, columns)

        def at(k: int) -> StepContext:
            return StepContext(
                self.data, zones(k), {name: tuple(c.one(k) for c in many) for name, many in inputs.items()}
            )

        found, odd = None, np.ones(self.count, bool)
        if step.zone is None and all(column.lanes is not None for column in given):
            lanes = {name: tuple(column.lanes for column in many) for name, many in inputs.items()}
            found = kind.read(StepContext(self.data, None, lanes))
        if found is None:
            return self._filled(step, None, missing, odd, lambda k: kind.evaluate(at(k)).value)
        odd[:] = False
        odd[[k for column in given for k in column.others] + list(missing)] = True
        for there, _ in found.problems:
            odd |= np.broadcast_to(there, odd.shape)
        value: Any = np.broadcast_to(found.value, odd.shape)
        read = without(Number(value, kind.value_unit, found.at), odd)
        return self._filled(step, read, missing, odd, lambda k: kind.evaluate(at(k)).value)


def _averaged(data: HeightMap, average: int) -> HeightMap:
    """Each row the mean of `average` rows about it, where half of them hold data and it does itself."""
    rows = data.shape[0]
    first = np.clip(np.arange(rows) - (average - 1) // 2, 0, rows)
    last = np.clip(first + average, 0, rows)
    found = ~np.isnan(data.z)
    total = np.vstack(
        [np.zeros(data.shape[1]), np.cumsum(np.where(found, data.z, 0.0), axis=0, dtype=np.float64)]
    )
    count = np.vstack([np.zeros(data.shape[1], np.int64), np.cumsum(found, axis=0)])
    n = count[last] - count[first]
    # neighbours stand in for points, not for a profile that was lost
    own: BoolArray = np.asarray(found.any(axis=1))
    enough = (2 * n >= (last - first)[:, None]) & own[:, None]
    z = np.divide(total[last] - total[first], n, out=np.full(data.shape, np.nan), where=enough & (n > 0))
    g = data.grid
    return HeightMap(z, data.intensity, g.dx, g.dy, g.x0, g.y0)
