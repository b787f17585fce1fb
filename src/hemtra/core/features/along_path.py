"""Common base of features along a path: sections across it, and the values of each."""

from __future__ import annotations

import math
from abc import abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, ClassVar

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.coverage import Coverage
from hemtra.core.errors import NotMeasured
from hemtra.core.features.path import Path
from hemtra.core.features.section import Cut
from hemtra.core.form_fields import setting
from hemtra.core.geometry.bead_kernels import running_median
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.path_sampling import sections_across
from hemtra.core.maps.section import sample
from hemtra.core.marks import Curve, Evidence, Mark, Strokes
from hemtra.core.plan.kind import DATA, Input, Kind, Outcome, StepContext
from hemtra.core.runs import runs

MOST_SECTIONS, MOST_SAMPLES, MOST_LINES = 20_000, 2_000, 41
"""Largest number of points on a path and a section, and of parallel lines averaged into one."""
AT_A_TIME = 4_000_000
"""Samples of sections that are turned at a time."""
BETWEEN = 10
"""Steps in which the end of a break is looked for between two sections."""
FINE = 1.0
"""Points of the map for each sample of a section."""
FINER = 2
"""Samples for each of a section from which it is turned onto a tilted base."""
FLOOR = 0.02
"""Largest deviation of a base from its line, mm."""
ABSENT = 1
"""State of a section on which there is nothing, and that is known."""


@dataclass(frozen=True)
class Quantity:
    """Quantity measured on each section: its name, unit, and column of the table."""

    title: str
    unit: str
    column: int


@dataclass(frozen=True)
class Break:
    """A stretch on which there is nothing: mm along the path to its start, and its length in mm.

    first, many: its first section and their number; sections that were not measured beside it count as broken.
    """

    start: float
    length: float
    first: int
    many: int


@dataclass(frozen=True)
class Along:
    """Values measured on sections along a path.

    at: (n,) mm from its start to each section, `spacing` mm apart. state: (n,) 0 where it was measured, 1 where
    there is nothing, else why it was not, a key of `reasons`. table: (n, columns) in the units of `quantities`.
    counts: (n,) which sections its sizes are evaluated on: not those left out near nodes and ends.
    """

    path: Path
    at: FloatArray
    spacing: float
    state: FloatArray
    table: FloatArray
    counts: BoolArray
    quantities: Mapping[str, Quantity]
    reasons: Mapping[int, str]
    centre: int
    """The column that says in mm how far right of the path it lies."""
    there: tuple[int, ...] = (0,)
    """States in which something is there, whether it could be measured or not."""
    breaks: tuple[Break, ...] = ()

    @property
    def coverage(self) -> Coverage:
        """Of the path: sections that say what is there, or that nothing is."""
        known = (self.state == 0) | self.absent
        if known.all():
            return Coverage(points=known.size)
        longest = max(many for _, many in runs(~known, self.path.curve.closed))
        return Coverage(float(known.mean()), longest * self.spacing, points=known.size)

    @property
    def present(self) -> BoolArray:
        """(n,) where something was found, whether all of it could be measured or not."""
        found: BoolArray = np.isin(self.state, self.there)
        return found

    @property
    def absent(self) -> BoolArray:
        """(n,) where there surely is nothing."""
        found: BoolArray = self.state == ABSENT
        return found

    def values(self, name: str) -> FloatArray:
        """(n,) of a quantity. Raises `NotMeasured` when it has no such quantity."""
        if name not in self.quantities:
            has = ", ".join(q.title for q in self.quantities.values())
            raise NotMeasured(f"this has no such size; it has {has}")
        return self.table[:, self.quantities[name].column]

    def nearest(self, s: float) -> int:
        """The section nearest to s mm along the path; round the start where it is closed."""
        apart = np.abs(self.at - s)
        if self.path.curve.closed:
            apart = np.minimum(apart, self.path.curve.length - apart)
        return int(np.argmin(apart))

    def places(self) -> FloatArray:
        """(n, 3) mm where it lies: its middle, or the path where there is nothing."""
        right, square = self.path.rights(self.at)
        u, _ = square.seen(np.nan_to_num(self.table[:, self.centre]), 0.0)
        x, y = self.path.curve.at(self.at).T + u * right.T
        return np.column_stack([x, y, self.path.base.height_at(x, y)])


class AlongPath(Kind):
    """A feature that is measured on sections across a path."""

    output: ClassVar = Along
    on_data: ClassVar[bool] = True
    inputs: ClassVar = {"path": Input(Path, "along", "The path it lies along.")}
    quantities: ClassVar[Mapping[str, Quantity]]
    reasons: ClassVar[Mapping[int, str]]
    centre: ClassVar[int]
    there: ClassVar[tuple[int, ...]] = (0,)
    revision: ClassVar[int] = 3
    nothing: ClassVar[Mapping[int, float]] = {}
    """Size of an empty section by column, where it is known that nothing is there."""
    smooth: ClassVar[bool] = False
    """Whether its sections go over in curves, so that points between those of the map are interpolated well."""

    spacing: float = setting(
        0.5, "spacing", "Distance between sections along the path.", unit="mm", ge=0.01, le=100
    )
    average: float = setting(
        0.3,
        "mean over",
        "Stretch of the path over which the heights of one section are averaged.",
        unit="mm",
        ge=0.0,
        le=20.0,
    )
    least_data: float = setting(
        60.0, "min. data", "Share of a section that must hold data.", unit="%", ge=0.0, le=100.0
    )
    settle: float = setting(
        2.0,
        "median over",
        "Stretch of the path over which a size is the median, so that single points do not decide; 0 for none.",
        unit="mm",
        ge=0.0,
        le=50.0,
    )
    skip: float = setting(
        0.0,
        "at nodes",
        "Sections this near to a node do not count for sizes; they still show where something is missing.",
        unit="mm",
        ge=0.0,
        le=100.0,
    )

    @classmethod
    def accepted(cls) -> Mapping[str, Input]:
        """Its inputs, and the prepared map."""
        return {**DATA, **cls.inputs}

    @abstractmethod
    def measure(self, u: FloatArray, z: FloatArray, floor: float) -> FloatArray:
        """(n, columns) what each section gives, its state first: z (n, m) mm above the base, u (m,) mm."""

    @abstractmethod
    def drawn(self, row: FloatArray, cut: Cut) -> tuple[Mark, ...]:
        """The result on one section, in its coordinates turned into places."""

    def evaluate(self, given: StepContext) -> Outcome:
        """An `Along`. Raises `NotMeasured` when there is nothing along the whole path."""
        path = given.one("path", Path)
        at, spacing = self._places(path)
        u, z = self._sampled(given.data, path, at)
        if np.isnan(z).all():
            raise NotMeasured("no section across the path holds data")
        table = self.measure(u, z, FLOOR)
        reach = int(self.settle / spacing / 2 + 1e-9)
        absent = table[:, 0] == ABSENT
        columns = [q.column for q in self.quantities.values()]
        of_nothing = table[np.ix_(absent, columns)]
        if reach:
            # half of a size, as the height of a bead whose toe a spike hides, is none
            table[np.ix_(table[:, 0] != 0, columns)] = np.nan
            table[:, columns] = running_median(table[:, columns], reach, path.curve.closed)
            table[np.ix_(absent, columns)] = of_nothing
        for column, size in self.nothing.items():
            table[absent, column] = size
        found = Along(
            path,
            at,
            spacing,
            table[:, 0],
            table,
            self._counted(path, at, table[:, 0], spacing),
            self.quantities,
            self.reasons,
            self.centre,
            self.there,
        )
        found = replace(found, breaks=self._breaks(given.data, found))
        return Outcome(found, self._facts(found))

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """Every section from edge to edge, and its first size along the path."""
        found: Along = outcome.value
        name, quantity = next(iter(found.quantities.items()))
        curve = found.path.curve
        places, directions = curve.at(found.at), curve.directions(found.at)
        marks: list[Mark] = []
        for seen, role in ((found.present, "used-data"), (~found.present, "left-out")):
            half = np.full((int(seen.sum()), 2), found.path.across / 2) * (-1.0, 1.0)
            x = places[seen, :1] + half * directions[seen, 1:]
            y = places[seen, 1:] - half * directions[seen, :1]
            z = found.path.base.height_at(x, y)
            marks.append(Strokes(np.stack([x, y, z], axis=-1), role))  # type: ignore[arg-type]
        title = f"{quantity.title} along the path"
        return Evidence(tuple(marks), Curve(title, found.at, found.values(name), (), quantity.unit))

    def section(self, given: StepContext, found: Along, s: float) -> tuple[Cut, tuple[Mark, ...]]:
        """The section nearest to s mm along the path, from left to right, and the result on it."""
        k = found.nearest(s)
        u, z = self._sampled(given.data, found.path, found.at[k : k + 1])
        x, y = found.path.curve.at(found.at[k : k + 1])[0]
        rx, ry = found.path.rights(found.at[k : k + 1])[0][0]
        turn = math.degrees(math.atan2(ry, rx))
        path = found.path
        cut = Cut(u, z[0], None, (float(x), float(y)), turn, path.base, pivot=path.pivot)
        return cut, self.drawn(found.table[k], cut)

    def _places(self, path: Path) -> tuple[FloatArray, float]:
        """(n,) mm along the path, evenly from end to end, and how far apart they are."""
        curve = path.curve
        count = math.ceil(curve.length / self.spacing - 1e-9)
        if count > MOST_SECTIONS:
            least = curve.length / MOST_SECTIONS
            raise NotMeasured(f"{count} sections are too many; take one every {least:.2g} mm or more")
        if curve.closed:
            return np.arange(count) * curve.length / count, curve.length / count
        return np.linspace(0.0, curve.length, max(count, 1) + 1), curve.length / max(count, 1)

    def _breaks(self, data: HeightMap, found: Along) -> tuple[Break, ...]:
        """Stretches with nothing there, their ends refined between sections."""
        if not found.absent.any():
            return ()
        closed, count, length = found.path.curve.closed, found.at.size, found.path.curve.length
        breaks = []
        for first, many in runs(~found.present, closed):
            indices = np.arange(first, first + many) % count
            if not found.absent[indices].any():
                continue
            if many == count:
                breaks.append(Break(0.0, length, 0, count))
                continue
            ends = []
            for outer, inner, way in ((first - 1, first, -1), (first + many, first + many - 1, 1)):
                if not closed and not 0 <= outer < count:
                    ends.append(0.0 if way < 0 else length)
                    continue
                outside = float(found.at[outer % count])
                # a section that was not measured may be broken up to its neighbour
                share = self._end(data, found, outer, inner) if found.absent[inner % count] else 1.0
                ends.append(outside - way * (1.0 - share) * found.spacing)
            start, stop = ends[0], ends[1] + (length if closed and ends[1] < ends[0] else 0.0)
            breaks.append(Break(start % length if closed else start, stop - start, first, many))
        return tuple(breaks)

    def _end(self, data: HeightMap, found: Along, outer: int, inner: int) -> float:
        """Position of a break's end between an empty section and its neighbour, 0 to 1."""
        count, path = found.at.size, found.path
        part = np.linspace(0.0, 1.0, BETWEEN + 1)
        way = 1.0 if outer > inner else -1.0
        s = found.at[inner % count] + way * part * found.spacing
        s = s % path.curve.length if path.curve.closed else np.clip(s, 0.0, path.curve.length)
        u, z = self._sampled(data, path, s, found.spacing / BETWEEN)
        table = self.measure(u, z, FLOOR)
        there = np.isin(table[:, 0], self.there)
        if not there.any():
            return 1.0
        k = int(np.argmax(there))
        return 0.0 if k == 0 else float(part[k - 1] + part[k]) / 2

    def _sampled(
        self, data: HeightMap, path: Path, at: FloatArray, average: float | None = None
    ) -> tuple[FloatArray, FloatArray]:
        """u (m,) mm and heights (n, m) above the base in mm, averaged over some mm of the path."""
        average = self.average if average is None else average
        grid, curve, base = data.grid, path.curve, path.base
        fine = min(grid.dx, grid.dy) * FINE
        count = int(np.clip(round(path.across / fine) + 1, 3, MOST_SAMPLES))
        lines = int(np.clip(round(average / fine), 1, MOST_LINES))
        behind = average * ((np.arange(lines) + 0.5) / lines - 0.5)
        steps = np.array([grid.x0, grid.y0, grid.dx, grid.dy])
        if min(data.shape) < 2:
            raise NotMeasured("the scan is too small for sections across a path")
        places, (right, square) = curve.at(at), path.rights(at)

        def above(u: FloatArray, some: slice) -> FloatArray:
            ways = np.column_stack([-right[some, 1], right[some, 0]])
            z = sections_across(data.z, steps, places[some], ways, float(u[-1]), u.size, behind)
            x, y = places[some].T[..., None] + u * right[some].T[..., None]
            heights: FloatArray = z - base.height_at(x, y)
            return heights

        u = np.linspace(-path.across / 2, path.across / 2, count)
        if not base.tilt:
            return u, above(u, slice(None))
        # what stands on the ends is seen beside them; on finer samples, turning them smooths next to nothing
        x, y = places.T[..., None] + u[[0, -1]] * right.T[..., None]
        ends = square.lean[:, None] * (sample(data, x, y) - base.height_at(x, y) - path.pivot)
        room = min(float(np.nanmax(np.abs(ends), initial=0.0)), path.across / 2)
        raw = np.linspace(-1.0, 1.0, FINER * count + round(2.0 * FINER * room / fine)) * (u[-1] + room)
        z = np.empty((at.size, count))
        each = max(1, AT_A_TIME // raw.size)
        for some in (slice(k, k + each) for k in range(0, at.size, each)):
            z[some] = square.of(some).turned(raw, above(raw, some), u, path.pivot)
        return u, z

    def _counted(self, path: Path, at: FloatArray, state: FloatArray, spacing: float) -> BoolArray:
        """(n,) which sections sizes are evaluated on."""
        counts = np.ones(at.size, np.bool_)
        if self.skip > 0.0:
            apart = np.abs(at[:, None] - path.curve.node_at[None, :])
            if path.curve.closed:
                apart = np.minimum(apart, path.curve.length - apart)
            counts &= (apart > self.skip).all(axis=1)
        return counts

    def _facts(self, found: Along) -> tuple[tuple[str, str], ...]:
        """Counts of sections: measured, empty, and not measurable."""
        missing = int(np.count_nonzero((found.state != 0) & ~found.absent))
        facts: list[tuple[str, Any]] = [
            ("sections", found.at.size),
            ("measured", int(np.count_nonzero(found.state == 0))),
        ]
        if found.absent.any():
            facts.append(("nothing there", int(np.count_nonzero(found.absent))))
        if missing:
            codes = found.state[(found.state != 0) & ~found.absent].astype(int)
            usual = int(np.bincount(codes).argmax())
            facts.append(("not measured", f"{missing}: {self.reasons[usual]}"))
        return tuple((label, str(value)) for label, value in facts)
