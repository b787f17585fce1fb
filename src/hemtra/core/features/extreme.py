"""Extreme point: the outermost point of a section, or of a zone, in some direction."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.detection.unseen import Looked, ends_of, without_scatter
from hemtra.core.errors import NotMeasured
from hemtra.core.features.section import Cut
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Point
from hemtra.core.marks import Evidence, Polyline
from hemtra.core.plan.kind import DATA, Input, Kind, Outcome, StepContext
from hemtra.core.plan.registry import register

TOGETHER = 3
"""Points beside each other that are no isolated ones."""
CROSS = 1.0
"""Half length of the cross that marks the point, mm."""


@register
class ExtremeKind(Kind):
    """The outermost point in some direction of the zone."""

    kind: ClassVar = "extreme"
    title: ClassVar = "Extreme point"
    glyph: ClassVar = "extreme"
    output: ClassVar = Point
    section_input: ClassVar = "section"
    revision: ClassVar = 2
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

    def evaluate(self, given: StepContext) -> Outcome:
        """A `Point`."""
        cut = given.optional_input("section", Cut)
        u, v, z = self._on_zone(given) if cut is None else self._on_section(given, cut)
        if u.size == 0:
            raise NotMeasured("nothing lies in the zone; make it larger or move it onto the data")
        rank = {"left": u, "right": -u, "near": v, "far": -v, "highest": -z, "lowest": z}[self.which]
        outermost = np.argsort(rank, kind="stable")[: self.points]
        a, b, c = (float(part[outermost].mean()) for part in (u, v, z))
        if cut is not None:
            point = cut.place(a, c)
        else:
            assert given.zone is not None
            x, y = given.zone.outward(np.array([a]), np.array([b]))[0]
            point = Point(float(x), float(y), c)
        facts = (("at", f"{point.x:.3f}, {point.y:.3f} mm"), ("height", f"{point.z:.3f} mm"))
        return Outcome(point, facts)

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """A cross at the point."""
        p: Point = outcome.value
        arms = (
            np.array([(p.x - CROSS, p.y, p.z), (p.x + CROSS, p.y, p.z)]),
            np.array([(p.x, p.y - CROSS, p.z), (p.x, p.y + CROSS, p.z)]),
        )
        return Evidence(tuple(Polyline(arm, "fit") for arm in arms))

    def _on_section(self, given: StepContext, cut: Cut) -> tuple[FloatArray, FloatArray, FloatArray]:
        if self.which in ("near", "far"):
            raise NotMeasured("a section has no near and far; take left, right, highest or lowest")
        inside = cut.within(given.zone)
        z = np.where(inside, cut.z, np.nan)
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
        return cut.x[inside], np.zeros(np.count_nonzero(inside)), cut.z[inside]

    def _on_zone(self, given: StepContext) -> tuple[FloatArray, FloatArray, FloatArray]:
        view = given.window()
        assert given.zone is not None
        z = np.ascontiguousarray(given.data.z[view.rows, view.cols])
        present = ~np.isnan(z) if view.inside is None else view.inside & ~np.isnan(z)
        if self.which in ("highest", "lowest"):
            looked = Looked.at(z.shape, view.inside)
            z, _ = without_scatter(z, looked)
            present &= ~np.isnan(z)
            ends = ends_of(z, looked)
            with np.errstate(invalid="ignore"):
                present &= (z <= ends.high) & (z >= ends.low)
        else:
            padded = np.pad(present, 1).astype(np.int8)
            windows = np.lib.stride_tricks.sliding_window_view(padded, (3, 3))
            present &= windows.sum(axis=(2, 3)) >= TOGETHER
        i, j = np.nonzero(present)
        grid = view.grid(given.data)
        u, v = given.zone.local(grid.x0 + grid.dx * j, grid.y0 + grid.dy * i)
        return u, v, z[present].astype(np.float64)
