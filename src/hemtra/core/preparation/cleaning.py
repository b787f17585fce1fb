"""Preparation that cleans: small holes filled, spikes and glare removed, a height band kept."""

from __future__ import annotations

from typing import ClassVar, Self

import numpy as np
from pydantic import model_validator

from hemtra.core.errors import NotMeasured
from hemtra.core.filters.filtering import fill_holes, keep_band, remove_spikes
from hemtra.core.filters.glare import MOST, glaring, saturated
from hemtra.core.form_fields import setting
from hemtra.core.marks import Evidence, Region
from hemtra.core.plan.kind import Outcome, StepContext
from hemtra.core.plan.registry import register
from hemtra.core.preparation.preparing import LARGEST_WINDOW, Preparing, points_across, with_heights


@register
class FillKind(Preparing):
    """Small holes filled from their surroundings; larger ones stay as they are."""

    kind: ClassVar = "fill"
    title: ClassVar = "Fill small holes"
    glyph: ClassVar = "fill"

    widest: float = setting(1.0, "up to", "Maximum width of a filled hole.", unit="mm", gt=0.0, le=100.0)

    def evaluate(self, given: StepContext) -> Outcome:
        """The map without its small holes."""
        grid = given.data.grid
        most = int(self.widest / grid.dy + 1e-9), int(self.widest / grid.dx + 1e-9)
        z, filled = fill_holes(given.data.z, most)
        return Outcome(with_heights(given.data, z), (("filled", f"{filled} points"),))


@register
class SpikesKind(Preparing):
    """Points far from their neighbours dropped."""

    kind: ClassVar = "spikes"
    title: ClassVar = "Remove spikes"
    glyph: ClassVar = "spikes"

    reach: float = setting(
        0.3, "beyond", "Removes points farther from the local median.", unit="mm", gt=0.0, le=100.0
    )
    width: float = setting(
        0.5, "window", "Width of the square they are compared with.", unit="mm", gt=0.0, le=10.0
    )

    def evaluate(self, given: StepContext) -> Outcome:
        """The map without its spikes."""
        z, dropped = remove_spikes(given.data.z, self.reach, points_across(given.data, self.width, least=3))
        return Outcome(with_heights(given.data, z), (("dropped", f"{dropped} points"),))


@register
class GlareKind(Preparing):
    """Points dropped at which the sensor took the wrong one of two reflections: the part shines there."""

    kind: ClassVar = "glare"
    title: ClassVar = "Remove glare"
    glyph: ClassVar = "glare"

    reach: float = setting(
        0.05,
        "beyond",
        "Removes saturated points that stand off the surface by more, unless points beside them do too.",
        unit="mm",
        gt=0.0,
        le=100.0,
    )
    width: float = setting(
        0.8, "window", "Width of the square they are compared with.", unit="mm", gt=0.0, le=10.0
    )

    def evaluate(self, given: StepContext) -> Outcome:
        """The map without its glare; the map itself where none was found."""
        data = given.data
        if data.intensity is None:
            return Outcome(data, (("dropped", "nothing: the scan has no intensity"),))
        count = len(saturated(data.intensity))
        if count > MOST:
            words = f"nothing: {count} points are saturated, too many to detect glare"
            return Outcome(data, (("dropped", words),))
        half = tuple(
            max(1, min(round(self.width / 2 / spacing), LARGEST_WINDOW))
            for spacing in (data.grid.dy, data.grid.dx)
        )
        gone = glaring(data.z, data.intensity, self.reach, (half[0], half[1]))
        dropped = int(np.count_nonzero(gone))
        facts = (("dropped", f"{dropped} points"),)
        if not dropped:
            return Outcome(data, facts)
        z = data.z.copy()
        z[gone] = np.nan
        return Outcome(with_heights(data, z), facts)

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """Mask of the points dropped."""
        gone = np.isnan(outcome.value.z) & ~np.isnan(given.data.z)
        return Evidence((Region(given.data.grid, gone, "left-out"),))


@register
class BandKind(Preparing):
    """Heights outside a band dropped."""

    kind: ClassVar = "height-band"
    title: ClassVar = "Height band"
    glyph: ClassVar = "height-band"

    low: float = setting(-100.0, "from", "Nothing lower is kept.", unit="mm", ge=-1e4, le=1e4)
    high: float = setting(100.0, "to", "Nothing higher is kept.", unit="mm", ge=-1e4, le=1e4)

    @model_validator(mode="after")
    def _has_room(self) -> Self:
        if self.low >= self.high:
            raise ValueError("a height band needs its upper limit above its lower one")
        return self

    def evaluate(self, given: StepContext) -> Outcome:
        """The map within the band. Raises `NotMeasured` when nothing is."""
        z = keep_band(given.data.z, self.low, self.high)
        if np.isnan(z).all():
            raise NotMeasured(f"nothing of the scan lies between {self.low:g} and {self.high:g} mm")
        dropped = np.count_nonzero(np.isnan(z)) - np.count_nonzero(np.isnan(given.data.z))
        return Outcome(with_heights(given.data, z), (("dropped", f"{dropped} points"),))

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """Mask of the points dropped."""
        gone = np.isnan(outcome.value.z) & ~np.isnan(given.data.z)
        return Evidence((Region(given.data.grid, gone, "left-out"),))
