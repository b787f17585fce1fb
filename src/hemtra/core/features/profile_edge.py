"""Edge on a section: where its height crosses a level, or changes most steeply."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import astuple, dataclass
from typing import Any, ClassVar, Literal

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.detection.margin_kernels import parted_by_line
from hemtra.core.errors import NotMeasured
from hemtra.core.features.edge import known_to
from hemtra.core.features.section import THIN, Cut, Facts, SectionFeature
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Point
from hemtra.core.geometry.section_edge_kernels import (
    DATA,
    FIRST,
    LAST,
    LEVEL,
    NEAREST,
    STEEPEST,
    STRONGEST,
    edge_candidates,
    edges,
    ends,
    shown,
)
from hemtra.core.geometry.section_kernels import FEW, HIDDEN
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.marks import Curve, Evidence, Polyline
from hemtra.core.plan.kind import Outcome, StepContext
from hemtra.core.plan.registry import register
from hemtra.core.zones.zone import AnyZone

BY = {"steepest": STEEPEST, "level": LEVEL, "data": DATA}
PICKS = {"strongest": STRONGEST, "first": FIRST, "last": LAST, "nearest": NEAREST}
LEAST_SHOWN = 0.05
"""Share of the strongest edge above which one is shown as a candidate."""
FEWEST_ROWS, DEEP = 8, 0.5
"""Points across a section from which on its ends are straight lines, and mm below its end that are no level."""
TICK = 0.6
"""Half height of the stroke that marks the edge, mm."""


@dataclass(frozen=True, slots=True)
class EdgePoint(Point):
    """Edge on a section; spread: mm by which it may be off, judging by the points."""

    spread: float = 0.0


@register
class ProfileEdgeKind(SectionFeature):
    """An edge on a section."""

    kind: ClassVar = "profile-edge"
    title: ClassVar = "Edge on a section"
    glyph: ClassVar = "edge"
    output: ClassVar = Point

    by: Literal["steepest", "level", "data"] = setting(
        "steepest",
        "found by",
        "The steepest change of height, where the height crosses a level, or where the data ends: the edge of"
        " a gap too deep to see into falls where it ends and rises where it begins again.",
        choices={"steepest": "steepest change", "level": "crossing of a level", "data": "end of the data"},
    )
    level: float = setting(
        0.0,
        "level",
        "Height of the crossing, counted from what the section follows.",
        unit="mm",
        when={"by": ("level",)},
        ge=-1e4,
        le=1e4,
    )
    least_gap: float = setting(
        0.4,
        "minimum gap",
        "Data that is missing over less than this is a dropout and no end.",
        unit="mm",
        when={"by": ("data",)},
        gt=0.0,
        le=1000.0,
    )
    radius: float = setting(
        0.0,
        "rounded by",
        "Radius of the edge on the drawing: it then lies where that rounding stands upright, though the last of"
        " it is not seen. 0 takes the place where the data ends.",
        unit="mm",
        when={"by": ("data",)},
        ge=0.0,
        le=1000.0,
    )
    change: Literal["rises", "falls", "either"] = setting(
        "either",
        "surface",
        "How the height changes along the section.",
        choices={"either": "rises or falls"},
    )
    pick: Literal["strongest", "first", "last", "nearest"] = setting(
        "strongest",
        "take",
        "Which of several edges counts.",
        choices={"nearest": "nearest to its place"},
    )
    place: float = setting(
        0.0,
        "its place",
        "Where it lies on the reference part, counted from the middle of the zone.",
        unit="mm",
        when={"pick": ("nearest",)},
        ge=-1e4,
        le=1e4,
    )
    sensitivity: float = setting(
        30.0,
        "at least",
        "Edges weaker than this share of the strongest one do not count.",
        unit="%",
        ge=1.0,
        le=100.0,
    )

    def measure(
        self, x: FloatArray, z: FloatArray, inside: BoolArray, middle: FloatArray, fine: int = 1
    ) -> FloatArray:
        """Rows of `edges`."""
        seen = shown(x, z, inside) if self.by == "data" else np.empty((0, 0))
        return self._edges(x, z, inside, seen, middle)

    def row(self, given: StepContext) -> FloatArray:
        """The numbers of one section; where data ends, each of the lines across it counts."""
        row: FloatArray = super().row(given)
        cut = given.one("section", Cut)
        if self.by != "data" or cut.seen is None or row[0] == THIN:
            return row
        middle = given.zone.x if given.zone is not None else (cut.x[0] + cut.x[-1]) / 2
        inside, seen = cut.within(given.zone), self._seen(cut, given.zone)
        apart = min(given.data.grid.dx, given.data.grid.dy)
        stack = cut.x, cut.z[None], inside[None], seen[None]
        row = self._edges(*stack, np.array([middle]), apart)[0]
        row[1] += _parted(given.data, cut, row) if row[0] == 0 and not self.radius else 0.0
        return row

    def _seen(self, cut: Cut, zone: AnyZone | None) -> FloatArray:
        """(m,) for `ends`."""
        if cut.seen is None:
            return np.asarray(shown(cut.x, cut.z[None], cut.within(zone)[None])[0])
        if zone is None:
            return cut.seen
        return np.where(zone.contains(cut.x, np.where(np.isnan(cut.z), zone.y, cut.z)), cut.seen, 0.0)

    def _edges(
        self,
        x: FloatArray,
        z: FloatArray,
        inside: BoolArray,
        seen: FloatArray,
        middle: FloatArray,
        apart: float = 0.0,
    ) -> FloatArray:
        change = {"rises": 1, "falls": -1, "either": 0}[self.change]
        near = middle + self.place
        share = self.sensitivity / 100.0
        by, pick = BY[self.by], PICKS[self.pick]
        rounded = self.radius, apart
        return np.asarray(
            edges(x, z, inside, seen, by, self.level, self.least_gap, change, pick, share, near, rounded)
        )

    def refused(self, cut: Cut, row: FloatArray) -> None:
        """Raises `NotMeasured`."""
        if row[0] == FEW:
            raise NotMeasured(f"the section holds only {row[4]:.0f} points here; an edge needs three")
        if row[0] == HIDDEN:
            raise NotMeasured(
                f"too little of a rounding of {self.radius:g} mm is seen here; correct its radius, or set 0"
            )
        where = {"level": "crosses its level", "data": "ends", "steepest": "steps"}[self.by]
        raise NotMeasured(f"the section nowhere {where}; move the zone, or let it rise or fall")

    def shape(self, cut: Cut, row: Sequence[Any]) -> EdgePoint:
        """An `EdgePoint`."""
        return EdgePoint(*cut.place(row[1], row[2]).place, self._room(cut, row))

    def _room(self, cut: Cut, row: Sequence[Any] | FloatArray) -> Any:
        """mm by which the edge may lie off; a rounding of known radius is fitted, and rests on more points."""
        if cut.seen is None and self.by == "data" and self.radius:
            return 0.0
        return cut.room(row[5], row[6])

    def facts(self, cut: Cut, row: FloatArray) -> Facts:
        """Place, how steep it is there, and how many could have been taken."""
        return (
            ("at", f"{row[1]:.3f} mm"),
            ("steepness", f"{abs(row[3]):.2f} mm/mm"),
            ("candidates", f"{row[4]:.0f}"),
            *known_to(self._room(cut, row)),
        )

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The edge, and how steep the section is, with all that could have been taken."""
        p: Point = outcome.value
        cut = given.one("section", Cut)
        inside = cut.within(given.zone)
        if self.by == "data":
            found = ends(cut.x, cut.z, self._seen(cut, given.zone), self.least_gap)
        else:
            found = edge_candidates(cut.x, cut.z, inside, BY[self.by], self.level)
        wanted = {"rises": found[:, 2] > 0, "falls": found[:, 2] < 0, "either": found[:, 2] != 0}[self.change]
        found = found[wanted]
        strength = np.abs(found[:, 2])
        shares = strength / strength.max(initial=1e-12)
        shown = shares >= LEAST_SHOWN
        x, z = cut.x[inside], cut.z[inside]
        steep = np.abs(np.gradient(z, x)) if x.size > 2 else z
        stroke = np.array([(p.x, p.y, p.z - TICK), (p.x, p.y, p.z + TICK)])
        row, zone = self.row(given), given.zone
        curve = Curve(
            "steepness along the section; click an edge to select it, drag the line to let weaker ones count",
            x,
            steep,
            (float(row[1]),),
            "mm/mm",
            candidates=tuple(found[shown, 0].tolist()),
            shares=tuple(shares[shown].tolist()),
            floor=self.sensitivity / 100.0,
            place="place",
            share="sensitivity",
            taken=(("pick", "nearest"),),
            origin=zone.x if zone is not None else float(cut.x[0] + cut.x[-1]) / 2,
        )
        return Evidence((Polyline(stroke, "fit"),), curve)


def _parted(data: HeightMap, cut: Cut, row: FloatArray) -> float:
    """mm by which the straight end that best parts all points across a section lies off where half do."""
    grid, turn = data.grid, math.radians(cut.direction)
    rows = round(cut.wide / max(grid.dx, grid.dy))
    if rows < FEWEST_ROWS:
        return 0.0
    frame = (*cut.at, math.cos(turn), math.sin(turn))
    along, height = cut.seen_at(float(row[1]), float(row[2]))
    level = (height, -cut.base.slope_x * frame[3] + cut.base.slope_y * frame[2], DEEP)
    way, good = -float(np.sign(row[3])), np.ones(rows, np.bool_)
    moved, turned, _ = parted_by_line(
        data.z, astuple(grid), frame, cut.wide / 2, (along, 0.0), level, way, True, good
    )
    near = abs(moved) + abs(turned) * cut.wide / 2 <= max(grid.dx, grid.dy)
    return moved if near else 0.0
