"""Deviation: how far the surface in a zone lies from that of the reference part, or from the nominal one."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import ClassVar, Literal

import numpy as np
import scipy  # its parts load when they are used first

from hemtra.core.arrays import BoolArray, FloatArray, IntArray
from hemtra.core.coverage import Coverage
from hemtra.core.errors import NotMeasured
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Point
from hemtra.core.geometry.squared import seen_from_above
from hemtra.core.maps.section import sample
from hemtra.core.marks import Evidence, Polyline, ResidualMap
from hemtra.core.plan.kind import Kind, Outcome, StepContext, least_data
from hemtra.core.plan.registry import register
from hemtra.core.text import percent
from hemtra.core.zones.zone import AnyZone

MOST = 6000
"""Cells of a zone at most; larger zones take larger ones."""
LEVELLED, PASSES = 0.001, 3
"""Tilt of a base in degrees up to which it is level, and looks in which what stands on others is found."""
FINE = 3
"""Samples along either side of a cell whose mean it holds."""


@dataclass(frozen=True, slots=True)
class Deviation(Point):
    """Differences from the reference in mm at cells of a zone, upwards positive; the point is the worst one."""

    values: FloatArray = field(default_factory=lambda: np.empty(0), compare=False)
    """(n,) of the cells that hold data on both."""
    seen: float = 0.0
    """Share of the cells of the reference that hold data here too."""


@register
class DeviationKind(Kind):
    """The surface in a zone against that of the reference part, or the nominal one of the drawing's model."""

    kind: ClassVar = "deviation-map"
    title: ClassVar = "Difference to reference or nominal"
    glyph: ClassVar = "flatness"
    output: ClassVar = Deviation
    needs_zone: ClassVar = True
    teachable: ClassVar = True
    revision: ClassVar = 2

    against: Literal["reference", "nominal"] = setting(
        "reference",
        "against",
        "The reference scan, or the nominal surface that was placed on it.",
        choices={"reference": "reference scan", "nominal": "nominal surface"},
    )
    cell: float = setting(
        1.0,
        "cell",
        "Heights are compared as means over cells of this size, so that noise is no difference.",
        unit="mm",
        gt=0.0,
        le=100.0,
    )
    least_data: float = least_data()

    def teach(self, given: StepContext) -> Mapping[str, tuple[float, ...]]:
        """Cell places in the zone and heights above its base, by column."""
        assert given.zone is not None
        zone = given.zone
        cell = max(self.cell, math.sqrt(zone.width * zone.height / MOST))
        u, v = (
            (np.arange(max(1, math.floor(size / cell))) + 0.5) * cell
            - max(1, math.floor(size / cell)) * cell / 2
            for size in (zone.width, zone.height)
        )
        places = np.array([(a, b) for b in v for a in u])
        inside = zone.contains(*zone.outward(places[:, 0], places[:, 1]).T)
        places = places[inside]
        z = _means(given, zone, places, cell, np.zeros(len(places)))
        if given.base.tilt > LEVELLED:
            # where something is seen depends on how high it stands
            for _ in range(PASSES):
                z = _means(given, zone, places, cell, np.nan_to_num(z))
        there = ~np.isnan(z)
        if not there.any():
            raise NotMeasured(f"the {self.shown} shows nothing in the zone; move it onto the part")
        columns = {"u": places[there, 0], "v": places[there, 1], "z": z[there], "cell": np.array([cell])}
        return {name: tuple(np.round(values, 5).tolist()) for name, values in columns.items()}

    def evaluate(self, given: StepContext) -> Outcome:
        """A `Deviation`; facts: greatest upwards and downwards, and how much of the zone was compared."""
        places, off = self._compared(given)
        there = ~np.isnan(off)
        share = float(there.mean())
        if not there.any() or 100.0 * share < self.least_data:
            raise NotMeasured(
                f"only {percent(share)} of the area seen on the {self.shown} has data; minimum"
                f" {self.least_data:.0f} %"
            )
        worst = int(np.nanargmax(np.abs(off)))
        x, y = (float(c) for c in places[worst])
        height = float(off[worst]) + given.taught["z"][worst] + given.base.height_at(x, y)
        found = Deviation(x, y, height, off[there], share)
        facts = (
            ("highest", f"{float(np.nanmax(off)):+.3f} mm"),
            ("lowest", f"{float(np.nanmin(off)):+.3f} mm"),
            ("compared", percent(share)),
        )
        gap = self._longest_gap(given, ~there)
        return Outcome(found, facts, coverage=Coverage(share, gap, points=there.size))

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The map of differences, and where the worst of them is."""
        _, off = self._compared(given)
        rows, cols = self._indices(given)
        grid = np.full((rows.max() + 1, cols.max() + 1), np.nan)
        grid[rows, cols] = off
        reach = max(float(np.nanpercentile(np.abs(off), 95)), 1e-3)
        p: Deviation = outcome.value
        arms = np.array([(p.x - 1.0, p.y, p.z), (p.x + 1.0, p.y, p.z)])
        return Evidence((Polyline(arms, "fit"),), ResidualMap(f"difference to the {self.shown}", grid, reach))

    def _longest_gap(self, given: StepContext, missing: BoolArray) -> float:
        """mm of the longest side of connected cells without data."""
        if not missing.any():
            return 0.0
        rows, cols = self._indices(given)
        cells = np.zeros((rows.max() + 1, cols.max() + 1), np.bool_)
        cells[rows, cols] = missing
        patches, _ = scipy.ndimage.label(cells)
        sides = [max(s.stop - s.start for s in both) for both in scipy.ndimage.find_objects(patches)]
        return float(given.taught["cell"][0] * max(sides))

    def _indices(self, given: StepContext) -> tuple[IntArray, IntArray]:
        """(n,) row and column of each taught cell."""
        u, v, cell = (np.array(given.taught[name]) for name in ("u", "v", "cell"))
        cols, rows = (np.round((w - w.min()) / cell[0]).astype(np.intp) for w in (u, v))
        return rows, cols

    @property
    def shown(self) -> str:
        """Name of the reference, in words."""
        return "reference" if self.against == "reference" else "nominal surface"

    def _compared(self, given: StepContext) -> tuple[FloatArray, FloatArray]:
        """(n, 2) places in mm of the taught cells on this scan and (n,) differences, NaN without data."""
        if not given.taught:
            raise NotMeasured("it has not been taught yet; that takes the reference scan, so open or set one")
        given.window()
        assert given.zone is not None
        cells = np.column_stack([np.array(given.taught["u"]), np.array(given.taught["v"])])
        taught = np.array(given.taught["z"])
        z = _means(given, given.zone, cells, given.taught["cell"][0], taught)
        return _seen(given, given.zone, cells, taught), z - taught


def _seen(given: StepContext, zone: AnyZone, places: FloatArray, above: FloatArray) -> FloatArray:
    """(n, 2) mm where what stands `above` (n,) mm square to the base at places (n, 2) of the zone is seen."""
    base, middle = given.base, np.array([zone.x, zone.y])
    offsets = zone.outward(places[:, 0], places[:, 1]) - middle
    # the station's zero is no place of the part, about which it could have turned
    pivot = 0.0 if given.on_part else float(np.median(above))
    aside = (above - pivot)[:, None] * np.array(base.normal[:2])
    seen: FloatArray = middle + seen_from_above(offsets, (base.slope_x, base.slope_y)) + aside
    return seen


def _means(given: StepContext, zone: AnyZone, places: FloatArray, cell: float, above: FloatArray) -> FloatArray:
    """(n,) mean heights in mm square to the base in cells about places (n, 2) of the zone; NaN where half is
    missing. above: (n,) mm by which something is expected to stand there.
    """
    step = (np.arange(FINE) + 0.5) / FINE * cell - cell / 2
    heights = []
    for du in step:
        for dv in step:
            x, y = _seen(given, zone, places + np.array([du, dv]), above).T
            heights.append((sample(given.data, x, y) - given.base.height_at(x, y)) * given.base.normal[2])
    stack = np.array(heights)
    there = ~np.isnan(stack)
    count = there.sum(axis=0)
    total = np.where(there, stack, 0.0).sum(axis=0)
    means: FloatArray = np.full(len(places), np.nan)
    np.divide(total, count, out=means, where=2 * count >= FINE * FINE)
    return means
