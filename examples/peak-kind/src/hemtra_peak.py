"""A kind of step from outside Hemtra: how far the highest points of a zone stand above its median.

Form, chooser, lineage, command line and reports follow from what is declared here.
"""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Number, Point
from hemtra.core.marks import Evidence
from hemtra.core.plan.kind import Kind, Outcome, StepContext, least_data
from hemtra.core.plan.registry import register


@register
class PeakKind(Kind):
    """Height of the peaks of a zone above its median, such as of a knurl."""

    kind: ClassVar = "example-peak"
    title: ClassVar = "Peak above the median"
    glyph: ClassVar = "height"
    output: ClassVar = Number
    unit: ClassVar = "mm"
    needs_zone: ClassVar = True

    share: float = setting(
        99.0, "percentile", "Share of the points that lie below the peak.", unit="%", ge=50.0, le=100.0
    )
    min_data: float = least_data()

    def evaluate(self, given: StepContext) -> Outcome:
        """In mm. Raises `NotMeasured` where too little of the zone holds data."""
        assert given.zone is not None
        heights = given.window(self.min_data).heights(given.data)
        median, peak = np.percentile(heights, [50.0, self.share])
        at = Point(given.zone.x, given.zone.y, float(peak))
        return Outcome(Number(float(peak - median), self.unit, at))

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """Nothing beside the zone."""
        return Evidence()
