"""Preparation onto another grid: one spacing for rows and columns."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from hemtra.core.errors import NotMeasured
from hemtra.core.form_fields import setting
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.section import sample
from hemtra.core.plan.kind import Outcome, StepContext
from hemtra.core.plan.registry import register
from hemtra.core.preparation.preparing import Preparing

MOST_POINTS = 30_000_000
"""Points of the finest map made; checked before memory is taken for it."""


@register
class ResampleKind(Preparing):
    """The map on a grid of one spacing, by bilinear interpolation; beside missing points nothing is made up."""

    kind: ClassVar = "resample"
    title: ClassVar = "Resample"
    glyph: ClassVar = "resample"

    pitch: float = setting(
        0.1, "spacing", "Distance of neighbouring points along x and y.", unit="mm", gt=0.001, le=100.0
    )

    def evaluate(self, given: StepContext) -> Outcome:
        """The map over the same extent."""
        x0, x1, y0, y1 = given.data.extent
        cols, rows = (int((high - low) / self.pitch + 1e-9) + 1 for low, high in ((x0, x1), (y0, y1)))
        if rows * cols > MOST_POINTS:
            raise NotMeasured(
                f"at {self.pitch:g} mm the map would have {rows * cols:,} points; take a larger spacing"
            )
        x = x0 + self.pitch * np.arange(cols)[None, :]
        y = y0 + self.pitch * np.arange(rows)[:, None]
        z = sample(given.data, x, y).astype(np.float32)
        grey = None
        if given.data.intensity is not None:
            g = given.data.grid
            i = np.clip(np.round((y[:, 0] - g.y0) / g.dy).astype(np.intp), 0, given.data.shape[0] - 1)
            j = np.clip(np.round((x[0] - g.x0) / g.dx).astype(np.intp), 0, given.data.shape[1] - 1)
            grey = given.data.intensity[i[:, None], j[None, :]]
        data = HeightMap(z, grey, self.pitch, self.pitch, x0, y0)
        return Outcome(data, (("points", f"{cols} × {rows}"),))
