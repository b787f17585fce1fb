"""Extreme point: the outermost point of a section, or of a zone, in some direction."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import partial
from typing import Any, ClassVar, Literal

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.coverage import Coverage
from hemtra.core.detection.section_gaps import section_gaps
from hemtra.core.detection.unseen import (
    COVERAGE_OF_EXTREMES,
    Looked,
    ends_of,
    patches_of,
    without_scatter,
)
from hemtra.core.errors import NotMeasured
from hemtra.core.features.section import Cut
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Point
from hemtra.core.marks import Evidence, Polyline
from hemtra.core.plan.kind import DATA, Input, Kind, Outcome, StepContext
from hemtra.core.plan.registry import register
from hemtra.core.zones.zone import AnyZone

TOGETHER = 3
"""Points beside each other that are no isolated ones."""
CROSS = 1.0
"""Half length of the cross that marks the point, mm."""


@dataclass(frozen=True)
class Seen:
    """Points (n,) that may be the outermost: mm along and across the zone, and in height above its tilt.

    coverage: of a highest or lowest point at some height; farthest: height in mm that may lie unseen.
    """

    u: FloatArray
    v: FloatArray
    z: FloatArray
    coverage: Callable[[float], Coverage | None] = lambda height: None
    farthest: float = np.nan


@register
class ExtremeKind(Kind):
    """The outermost point in some direction of the zone."""

    kind: ClassVar = "extreme"
    title: ClassVar = "Extreme point"
    glyph: ClassVar = "extreme"
    output: ClassVar = Point
    section_input: ClassVar = "section"
    revision: ClassVar = 3
    levelled: ClassVar = True
    inputs: ClassVar = {
        "section": Input(
            Cut, "on", "The section it lies on; without one it is searched for in the zone.", optional=True
        ),
        **DATA,
    }

    which: Literal["left", "right", "near", "far", "highest", "lowest"] = setting(
        "highest",
        "take",
        "The outermost point: left and right along the zone's width, near and far across it, or in height.",
        choices={"left": "leftmost", "right": "rightmost", "near": "nearest", "far": "farthest"},
    )
    points: int = setting(
        3,
        "mean of",
        "So many of the outermost points. Isolated points, which no two others beside them support, are left"
        " out.",
        ge=1,
        le=10_000,
    )

    @classmethod
    def coverage_required(cls, params: Mapping[str, Any]) -> float:
        """A peak may lie where nothing was seen."""
        return COVERAGE_OF_EXTREMES if params.get("which", "highest") in ("highest", "lowest") else 0.0

    @property
    def counts_spikes(self) -> bool:
        """Highest and lowest do."""
        return self.which in ("highest", "lowest")

    def evaluate(self, given: StepContext) -> Outcome:
        """A `Point`."""
        cut = given.optional_input("section", Cut)
        seen = self._on_zone(given) if cut is None else self._on_section(given, cut)
        u, v, z = seen.u, seen.v, seen.z
        if u.size == 0:
            raise NotMeasured("nothing lies in the zone; make it larger or move it onto the data")
        rank = {"left": u, "right": -u, "near": v, "far": -v, "highest": -z, "lowest": z}[self.which]
        outermost = np.argsort(rank, kind="stable")[: self.points]
        a, b, c = (float(part[outermost].mean()) for part in (u, v, z))

        def at(height: float) -> Point:
            if cut is not None:
                return cut.place(a, height)
            assert given.zone is not None
            x, y = given.zone.outward(np.array([a]), np.array([b]))[0].tolist()
            return Point(x, y, height + given.tilt.height_at(x, y))

        point = at(c)
        more = self.counts_spikes and np.isfinite(seen.farthest)
        more = more and (seen.farthest > c if self.which == "highest" else seen.farthest < c)
        facts = (("at", f"{point.x:.3f}, {point.y:.3f} mm"), ("height", f"{point.z:.3f} mm"))
        return Outcome(point, facts, possible=(at(seen.farthest),) if more else (), coverage=seen.coverage(c))

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """A cross at the point."""
        p: Point = outcome.value
        arms = (
            np.array([(p.x - CROSS, p.y, p.z), (p.x + CROSS, p.y, p.z)]),
            np.array([(p.x, p.y - CROSS, p.z), (p.x, p.y + CROSS, p.z)]),
        )
        return Evidence(tuple(Polyline(arm, "fit") for arm in arms))

    def _on_section(self, given: StepContext, cut: Cut) -> Seen:
        if self.which in ("near", "far"):
            raise NotMeasured("a section has no near and far; take left, right, highest or lowest")
        inside = cut.within(given.zone)
        z = np.where(inside, cut.z, np.nan)
        if self.counts_spikes:
            self._require_whole(given.zone, cut, inside)
        rest: dict[str, Any] = {}
        if self.counts_spikes and inside.any():
            top = self.which == "highest"
            gaps = section_gaps(cut.x, cut.z, *np.flatnonzero(inside)[[0, -1]])
            rest = {"coverage": partial(gaps.coverage, top=top), "farthest": gaps.farthest(top)}
        if z.size >= TOGETHER:
            three = np.lib.stride_tricks.sliding_window_view(z, TOGETHER)
            whole = ~np.isnan(three).any(axis=1)
            if self.which in ("highest", "lowest") and whole.any():
                level = three[whole].min(axis=1).max(), three[whole].max(axis=1).min()
                with np.errstate(invalid="ignore"):
                    inside &= (z <= level[0]) if self.which == "highest" else (z >= level[1])
            else:
                # a point counts where it is one of three in a row
                inside &= np.convolve(whole, np.ones(TOGETHER), "full") > 0
        u = cut.x[inside]
        return Seen(u, np.zeros(u.size), cut.z[inside], **rest)

    def _require_whole(self, zone: AnyZone | None, cut: Cut, inside: BoolArray) -> None:
        """Raises `NotMeasured` where the section leaves the zone at the extreme itself."""
        if zone is None or not inside.any():
            return
        sign = 1.0 if self.which == "highest" else -1.0
        u, v = zone.local(cut.x, np.where(np.isnan(cut.z), 0.0, cut.z))
        wide, tall = zone.half_extent()
        beyond = ~np.isnan(cut.z) & ~inside & (np.abs(u) <= wide) & (sign * v > tall)
        beside = np.zeros_like(beyond)
        beside[1:] |= beyond[:-1]
        beside[:-1] |= beyond[1:]
        heights = sign * cut.z
        outermost = np.sort(heights[inside])[-max(self.points, TOGETHER) :][0]
        if (inside & beside & (heights >= outermost)).any():
            side = "above" if self.which == "highest" else "below"
            raise NotMeasured(f"the section continues {side} the zone; make the zone taller")

    def _on_zone(self, given: StepContext) -> Seen:
        view = given.window()
        assert given.zone is not None
        z = np.ascontiguousarray(view.above(given.tilt, given.data))
        grid = view.grid(given.data)
        present = ~np.isnan(z) if view.inside is None else view.inside & ~np.isnan(z)
        rest: dict[str, Any] = {}
        if self.counts_spikes:
            top, looked = self.which == "highest", Looked.at(z.shape, view.inside)
            z, scattered = without_scatter(z, looked)
            present &= ~np.isnan(z)
            ends = ends_of(z, looked)
            patches = patches_of(z, looked, grid, span=ends.span)
            left_out = {"spikes": ends.spikes + scattered, "points": ends.points + scattered}
            rest = {
                "coverage": lambda height: replace(patches.coverage(view.covered, (height, top)), **left_out),
                "farthest": patches.farthest(top),
            }
            with np.errstate(invalid="ignore"):
                present &= (z <= ends.high) & (z >= ends.low)
        else:
            padded = np.pad(present, 1).astype(np.int8)
            windows = np.lib.stride_tricks.sliding_window_view(padded, (3, 3))
            present &= windows.sum(axis=(2, 3)) >= TOGETHER
        i, j = np.nonzero(present)
        u, v = given.zone.local(grid.x0 + grid.dx * j, grid.y0 + grid.dy * i)
        return Seen(u, v, z[present].astype(np.float64), **rest)
