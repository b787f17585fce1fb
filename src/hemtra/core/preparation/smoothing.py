"""Preparation that smooths: median, mean, Gaussian; and levelling to a plane."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar, Literal

import numpy as np

from hemtra.core.filters.filtering import smooth_gaussian, smooth_mean
from hemtra.core.filters.rank_filter import median_filter
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Plane
from hemtra.core.plan.kind import DATA, Input, Outcome, StepContext
from hemtra.core.plan.registry import register
from hemtra.core.preparation.preparing import Preparing, points_across, with_heights


@register
class SmoothKind(Preparing):
    """Noise averaged out; what is missing neither counts nor appears."""

    kind: ClassVar = "smooth"
    title: ClassVar = "Smooth"
    glyph: ClassVar = "smooth"

    by: Literal["median", "mean", "gaussian"] = setting(
        "median",
        "by",
        "The median keeps edges and drops spikes; mean and Gaussian average noise better.",
        choices={"gaussian": "Gaussian"},
    )
    width: float = setting(
        0.5, "over", "Width of the window; of a Gaussian, four standard deviations.", unit="mm", gt=0.0, le=20.0
    )

    def evaluate(self, given: StepContext) -> Outcome:
        """The smoothed map."""
        data, grid = given.data, given.data.grid
        if self.by == "median":
            size = points_across(data, self.width, least=3)
            return Outcome(with_heights(data, median_filter(data.z, size)), (("window", f"{size} × {size}"),))
        if self.by == "mean":
            rows, cols = (max(1, int(self.width / spacing) // 2 * 2 + 1) for spacing in (grid.dy, grid.dx))
            return Outcome(
                with_heights(data, smooth_mean(data.z, rows, cols)), (("window", f"{rows} × {cols}"),)
            )
        sigma = self.width / 4
        z = smooth_gaussian(data.z, sigma / grid.dy, sigma / grid.dx)
        return Outcome(with_heights(data, z), (("deviation", f"{sigma:.3g} mm"),))


@register
class LevelKind(Preparing):
    """Heights counted from a plane, so that it becomes level at zero."""

    kind: ClassVar = "level"
    title: ClassVar = "Level to a plane"
    glyph: ClassVar = "level"
    inputs: ClassVar[Mapping[str, Input]] = {
        **DATA,
        "plane": Input(Plane, "plane", "The plane that becomes level."),
    }

    def evaluate(self, given: StepContext) -> Outcome:
        """The map with the plane's height taken from every point, along z."""
        plane, data = given.one("plane", Plane), given.data
        tilted = plane.height_at(data.x[None, :], data.y[:, None])
        return Outcome(
            with_heights(data, (data.z - tilted).astype(np.float32)), (("tilt", f"{plane.tilt:.3f}°"),)
        )
