"""Plane: least squares through a chosen share of the heights in a zone."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import ClassVar, Literal, Self

import numpy as np
from pydantic import model_validator

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Plane
from hemtra.core.geometry.plane_fit import fit_plane
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.reduce import block_means
from hemtra.core.marks import Evidence, Polyline, Region, ResidualMap
from hemtra.core.plan.kind import Kind, Outcome, StepContext, least_data
from hemtra.core.plan.registry import register
from hemtra.core.text import percent
from hemtra.core.zones.window import Window, window
from hemtra.core.zones.zone import AnyZone

MAP_CELLS = 40
"""Cells of the residual map along its longer side."""


@dataclass(frozen=True, slots=True)
class FittedPlane(Plane):
    """A plane with the data it came from."""

    zone: AnyZone
    low: float
    high: float
    """Perpendicular residuals in mm between which points were used."""
    rms: float
    """Root mean square of the used residuals in mm."""
    used: int

    def residuals(self, data: HeightMap) -> tuple[Window, FloatArray, BoolArray]:
        """The zone's window, its perpendicular residuals (rows, cols) float64 in mm, and which were used."""
        view = window(self.zone, data)
        grid, z = view.grid(data), data.z[view.rows, view.cols]
        x = grid.x0 + grid.dx * np.arange(z.shape[1])
        y = grid.y0 + grid.dy * np.arange(z.shape[0])
        surface = self.height_at(x, np.array(0.0))[None, :] + (self.slope_y * y)[:, None]
        residual = (z - surface) * self.normal[2]
        used = (residual >= self.low) & (residual <= self.high)
        return view, residual, used if view.inside is None else used & view.inside


@register
class PlaneKind(Kind):
    """A plane through the heights of a zone."""

    kind: ClassVar = "plane"
    title: ClassVar = "Plane"
    glyph: ClassVar = "plane"
    output: ClassVar = FittedPlane
    needs_zone: ClassVar = True

    use: Literal["lowest", "highest", "band"] = setting(
        "band",
        "use",
        "Which heights of the zone belong to the plane, ranked by their distance from it.",
    )
    share: float = setting(
        100.0,
        "share",
        "How much of the data to use, for lowest and highest.",
        unit="%",
        when={"use": ("lowest", "highest")},
        gt=0.0,
        le=100.0,
    )
    band_from: float = setting(
        0.0,
        "from",
        "Where the band starts: 0 is the lowest point of the zone.",
        unit="%",
        when={"use": ("band",)},
        ge=0.0,
        le=100.0,
    )
    band_to: float = setting(
        100.0,
        "to",
        "Where the band ends: 100 is the highest point.",
        unit="%",
        when={"use": ("band",)},
        ge=0.0,
        le=100.0,
    )
    trim: float = setting(
        3.5,
        "trim",
        "Points farther from the plane than this many root mean squares are dropped; 0 keeps them all.",
        unit="× rms",
        ge=0.0,
        le=20.0,
    )

    least_data: float = least_data()

    @model_validator(mode="after")
    def _band_has_room(self) -> Self:
        if self.use == "band" and self.band_to <= self.band_from:
            raise ValueError(f"the band must end above where it starts, not {self.band_from}–{self.band_to} %")
        return self

    def _ranks(self) -> tuple[float, float]:
        ends = {
            "lowest": (0.0, self.share),
            "highest": (100.0 - self.share, 100.0),
            "band": (self.band_from, self.band_to),
        }[self.use]
        return ends[0] / 100.0, ends[1] / 100.0

    def evaluate(self, given: StepContext) -> Outcome:
        """A `FittedPlane`; facts: tilt, rms and how many points were used."""
        view, data = given.window(self.least_data), given.data
        z = data.z[view.rows, view.cols]
        fit = fit_plane(z, view.inside, self._ranks(), self.trim or None)
        grid, (rows, cols) = view.grid(data), z.shape
        slope_x, slope_y = fit.a / grid.dx, fit.b / grid.dy
        upright = 1.0 / math.sqrt(1.0 + slope_x**2 + slope_y**2)
        assert given.zone is not None
        plane = FittedPlane(
            grid.x0 + grid.dx * (cols - 1) / 2,
            grid.y0 + grid.dy * (rows - 1) / 2,
            fit.c,
            slope_x,
            slope_y,
            zone=given.zone,
            low=fit.low * upright,
            high=fit.high * upright,
            rms=fit.rms * upright,
            used=fit.used,
        )
        facts = (
            ("tilt", f"{plane.tilt:.3f}°"),
            ("residual RMS", f"{plane.rms * 1000:.1f} µm"),
            ("points", f"{plane.used:,}".replace(",", " ")),
        )
        return Outcome(plane, facts, _coverage_note(view))

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """Used and left-out points, the plane over its zone, and the map of residuals."""
        plane: FittedPlane = outcome.value
        view, residual, used = plane.residuals(given.data)
        grid = view.grid(given.data)
        present = ~np.isnan(residual) if view.inside is None else view.inside & ~np.isnan(residual)
        corners = plane.zone.outline()
        on_plane = np.column_stack([corners, plane.height_at(corners[:, 0], corners[:, 1])])
        cell = max(1, max(residual.shape) // MAP_CELLS)
        means = block_means(np.where(used, residual, np.nan), cell, cell)
        picture = ResidualMap("deviation from the plane", means, max(2.0 * plane.rms, 1e-4))
        return Evidence(
            (
                Region(grid, used, "used-data"),
                Region(grid, present & ~used, "left-out"),
                Polyline(on_plane, "fit", closed=True),
            ),
            picture,
        )


def _coverage_note(view: Window) -> str:
    return "" if view.covered > 0.995 else f"{percent(1 - view.covered)} of the zone lies outside the scan"
