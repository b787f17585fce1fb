"""Path: a curve along the part, across which beads and seams are measured."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import NotMeasured, OffScan
from hemtra.core.geometry.elements import LEVEL, Plane
from hemtra.core.geometry.squared import Squared
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.section import sample
from hemtra.core.marks import Evidence, Polyline
from hemtra.core.paths.curve import PathCurve
from hemtra.core.plan.kind import Kind, Outcome, StepContext
from hemtra.core.plan.registry import register
from hemtra.core.zones.zone import PathZone

STEPS, MOST_STEPS = 50, 20_000
"""Steps across the scan, and in all, in which a path is checked to lie on it."""


@dataclass(frozen=True)
class Path:
    """A curve as it lies on this scan, how far across it is looked in mm, and what its heights count from.

    nominals: (k,) what is requested at each node, NaN where nothing is. pivot: as of a `Cut`.
    """

    curve: PathCurve
    across: float
    nominals: FloatArray
    base: Plane = LEVEL
    pivot: float = 0.0

    def rights(self, s: FloatArray) -> tuple[FloatArray, Squared]:
        """(n, 2) unit vectors to the right as seen from above, s (n,) mm along; how sections that way lie."""
        tx, ty = self.curve.directions(s).T
        return np.column_stack([ty, -tx]), Squared.on(self.base, ty, -tx)

    def nominal_at(self, s: FloatArray) -> FloatArray:
        """(n,) what is requested so far along, straight between the nodes that say; NaN where none does."""
        typed = np.flatnonzero(~np.isnan(self.nominals))
        if not typed.size:
            return np.full(np.shape(s), np.nan)
        at, value = self.curve.node_at[typed], self.nominals[typed]
        if not self.curve.closed:
            return np.interp(s, at, value)
        return np.interp(s, at, value, period=self.curve.length)


@register
class PathKind(Kind):
    """A line through nodes, straight, in arcs or in curves; open or closed."""

    kind: ClassVar = "path"
    title: ClassVar = "Path"
    glyph: ClassVar = "path"
    output: ClassVar = Path
    needs_zone: ClassVar = True

    def evaluate(self, given: StepContext) -> Outcome:
        """A `Path`; facts: length and nodes. The note says where a path crosses itself."""
        zone = given.zone
        if not isinstance(zone, PathZone):
            raise NotMeasured("its zone is no path; draw one along the bead or seam")
        curve = zone.curve().on(given.base)
        if not _on_map(given.data, curve):
            raise OffScan("the path lies outside the scan")
        nominals = np.array([np.nan if n.nominal is None else n.nominal for n in zone.nodes])
        facts = (
            ("length", f"{curve.length:.2f} mm"),
            ("nodes", f"{len(zone.nodes)}{', closed' if zone.closed else ''}"),
        )
        crossings = curve.crossings
        note = ""
        if crossings:
            note = f"it crosses itself at {', '.join(f'{s:.1f}' for s in crossings)} mm"
        pivot = 0.0 if given.on_part else _height(given.data, curve, given.base)
        return Outcome(Path(curve, zone.across, nominals, given.base, pivot), facts, note)

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The line on the surface."""
        curve = outcome.value.curve
        s = np.linspace(0.0, curve.length, int(np.clip(curve.length, 50, 1000)))
        x, y = curve.at(s).T
        return Evidence((Polyline(np.column_stack([x, y, outcome.value.base.height_at(x, y)]), "fit"),))


def _height(data: HeightMap, curve: PathCurve, base: Plane) -> float:
    """Median height above the base along a path, mm; 0 where nothing is seen."""
    x, y = curve.at(np.linspace(0.0, curve.length, STEPS)).T
    above = (sample(data, x, y) - base.height_at(x, y)) * base.normal[2]
    return 0.0 if np.isnan(above).all() else float(np.nanmedian(above))


def _on_map(data: HeightMap, curve: PathCurve) -> bool:
    """Whether any of it lies on the scan; looked at in steps of a part of the scan's size."""
    x0, x1, y0, y1 = data.extent
    step = max(min(x1 - x0, y1 - y0) / STEPS, curve.length / MOST_STEPS, 1e-6)
    x, y = curve.at(np.append(np.arange(0.0, curve.length, step), curve.length)).T
    return bool(((x >= x0) & (x <= x1) & (y >= y0) & (y <= y1)).any())
