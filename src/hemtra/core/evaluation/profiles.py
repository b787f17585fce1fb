"""a scan as a profile sequence: each step of a plan over all of them at once."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
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
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.plan.document import Home, Step
from hemtra.core.plan.kind import Absent, Kind, StepContext
from hemtra.core.plan.series import Series
from hemtra.core.zones.zone import AnyZone

MOST_AT_ONCE = 4_000_000
"""Points of a zone taken at once; longer runs go in pieces, so that memory stays small."""
ON_MAPS = "it measures on height maps, and this plan inspects profile by profile; measure on its profiles"
PLACING = ("x", "z")
"""The axes on which a zone on a profile can follow."""


@dataclass(frozen=True)
class Column:
    """A step's values on all profiles, None where there is none, and why, by index."""

    values: Sequence[Any]
    reasons: Mapping[int, str]
    name: str = ""

    def parts(self, *names: str) -> FloatArray:
        """(n, names) attributes of the values; NaN where there is none."""
        found = [(k, v) for k, v in enumerate(self.values) if v is not None and not isinstance(v, Absent)]
        table = np.full((len(self.values), len(names)), np.nan)
        if found:
            of = attrgetter(*names) if len(names) > 1 else lambda v: (getattr(v, names[0]),)
            table[[k for k, _ in found]] = [of(v) for _, v in found]
        return table

    @property
    def room(self) -> float:
        """mm by which the edges of the column may lie off on a usual profile; 0 where it has none."""
        # where nothing is there, no edge is known any better
        there = (v for v in self.values if v is not None and not isinstance(v, Absent))
        found = [getattr(v, "spread", 0.0) for v in there]
        return float(np.median(found)) if found else 0.0


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
    def cuts(self) -> list[Cut]:
        """All of them."""
        x, y = self.data.x, self.data.y.tolist()
        heights = self.data.z.astype(np.float64)
        return [Cut(x, heights[k], None, (0.0, y[k])) for k in range(self.count)]

    def column(
        self, step: Step, kind: Kind, homes: Mapping[str, Home], columns: Mapping[str, Column]
    ) -> Column:
        """A step on all profiles, from the columns of what it needs."""
        if isinstance(kind, ProfileKind):
            return Column(self.cuts, {}, step.name)
        missing = self._missing(step, columns)
        if kind.needs_zone or kind.teachable:
            return Column([None] * self.count, dict.fromkeys(range(self.count), ON_MAPS), step.name)
        if isinstance(kind, SectionFeature):
            return self._measured(step, kind, homes, columns, missing)
        return self._evaluated(step, kind, homes, columns, missing)

    def series(self, column: Column, change: Callable[[FloatArray], FloatArray]) -> Series:
        """The numbers of a column, as a row of the sheet counts them."""
        values = [v if isinstance(v, Number) else None for v in column.values]
        found = Column([None if v is None else v.at for v in values], {}).parts("x", "y", "z")
        numbers = change(np.array([np.nan if v is None else v.value for v in values]))
        numbers[~np.isfinite(numbers)] = np.nan
        return Series(numbers, self.data.y, found, dict(column.reasons))

    def _missing(self, step: Step, columns: Mapping[str, Column]) -> dict[int, str]:
        """Reason why a step cannot be measured on some profiles, from its inputs."""
        reasons: dict[int, str] = {}
        for needed in step.needs:
            for k, reason in columns[needed].reasons.items():
                reasons.setdefault(k, dependency_reason(columns[needed].name, reason))
        for anchor in step.follow.anchors:
            for k, value in enumerate(columns[anchor].values):
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
        cuts = self.cuts
        return self._filled(step, missing, lambda k: kind.value(cuts[k], rows[k]))

    def _filled(self, step: Step, missing: dict[int, str], value: Callable[[int], Any]) -> Column:
        """A column of values, or why there are none."""
        values: list[Any] = [None] * self.count
        reasons = dict(missing)
        for k in range(self.count):
            if k in missing:
                continue
            try:
                values[k] = value(k)
            except NotMeasured as error:
                reasons[k] = str(error)
        return Column(values, reasons, step.name)

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
        part, pieces = x[first:last], []
        size = max(1, MOST_AT_ONCE // max(part.size, 1))
        for start in range(0, self.count, size):
            z = self.data.z[start : start + size, first:last].astype(np.float64)
            by = moved[start : start + size]
            inside, middle = ~np.isnan(z), np.full(len(z), (x[0] + x[-1]) / 2)
            if zone is not None:
                inside &= zone.contains(part - by[:, :1], np.where(inside, z, 0.0) - by[:, 1:])
                middle = zone.x + by[:, 0]
            columns = spanned(z) if zone is None else np.abs(part - middle[:, None]) <= wide
            pieces.append(kind.measured(part, z, inside, columns, middle))
        return np.concatenate(pieces)

    def _evaluated(
        self,
        step: Step,
        kind: Kind,
        homes: Mapping[str, Home],
        columns: Mapping[str, Column],
        missing: dict[int, str],
    ) -> Column:
        names, zones = list(step.inputs), self._zones(step, homes, columns)
        given = [zip(*(columns[i].values for i in step.inputs[name]), strict=True) for name in names]
        rows = list(zip(*given, strict=True)) if given else [()] * self.count
        return self._filled(
            step,
            missing,
            lambda k: (
                kind.evaluate(StepContext(self.data, zones(k), dict(zip(names, rows[k], strict=True)))).value
            ),
        )


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
