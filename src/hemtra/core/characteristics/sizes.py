"""Sizes of one feature: radius, diameter, what a groove or an island measures, match score, data share."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np

from hemtra.core.errors import NotMeasured
from hemtra.core.features.groove import Groove
from hemtra.core.features.island import Island
from hemtra.core.features.opening import Opening
from hemtra.core.features.outline import FoundOutline
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Circle, Number, Point, Round
from hemtra.core.marks import Dimension, Evidence, Region
from hemtra.core.plan.kind import Input, Kind, Outcome, Reading, StepContext
from hemtra.core.plan.registry import register
from hemtra.core.plan.usual_limits import exact_limits


class _OfRound(Kind):
    output: ClassVar = Number
    unit: ClassVar = "mm"
    inputs: ClassVar = {"of": Input(Round, "of", "The circle or arc.")}

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The dimension across it."""
        found = given.one("of", Round)
        text = f"{outcome.value.value:.3f} mm"
        start = Point(found.x, found.y, found.z)
        if isinstance(found, Circle):
            end = Point(found.x + found.radius, found.y, found.z)
            start = Point(found.x - found.radius, found.y, found.z) if self.kind == "diameter" else start
        else:
            end = Point(found.x, found.y, found.z - found.radius)
        return Evidence((Dimension(start, end, text),))


@register
class DiameterKind(_OfRound):
    """Diameter of a circle or arc."""

    kind: ClassVar = "diameter"
    title: ClassVar = "Diameter"
    glyph: ClassVar = "diameter"

    def evaluate(self, given: StepContext) -> Outcome:
        """In mm."""
        return Outcome(self.read(given).number("mm"))

    def read(self, given: StepContext) -> Reading:
        """In mm."""
        found = given.one("of", Round)
        return Reading(2.0 * found.radius, found)


@register
class RadiusKind(_OfRound):
    """Radius of a circle or arc."""

    kind: ClassVar = "radius"
    title: ClassVar = "Radius"
    glyph: ClassVar = "arc"

    def evaluate(self, given: StepContext) -> Outcome:
        """In mm."""
        return Outcome(self.read(given).number("mm"))

    def read(self, given: StepContext) -> Reading:
        """In mm."""
        found = given.one("of", Round)
        return Reading(found.radius, found)


class _Plain(Kind):
    """Empty: there is nothing to draw beyond the feature."""

    output: ClassVar = Number

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The feature's own evidence shows it."""
        return Evidence()


@register
class GrooveSizeKind(_Plain):
    """Depth or width of a groove or ridge."""

    kind: ClassVar = "groove-size"
    title: ClassVar = "Depth or width of a groove"
    glyph: ClassVar = "groove"
    unit: ClassVar = "mm"
    inputs: ClassVar = {"of": Input(Groove, "of", "The groove or ridge.")}

    what: Literal["depth", "width"] = setting("depth", "take", "Which of its sizes.")

    def evaluate(self, given: StepContext) -> Outcome:
        """In mm; for an empty section, its depth and no width."""
        none = given.absent("of")
        if none is not None:
            return Outcome(Number(none.sizes[self.what], "mm", none.at), note=none.reason)
        return Outcome(self.read(given).number("mm"))

    def read(self, given: StepContext) -> Reading:
        """In mm."""
        found = given.one("of", Groove)
        return Reading(found.depth if self.what == "depth" else found.width, found)


@register
class OpeningSizeKind(_Plain):
    """Length, width or corner radius of an ellipse or slot."""

    kind: ClassVar = "opening-size"
    title: ClassVar = "Length or width of an opening"
    glyph: ClassVar = "slot"
    unit: ClassVar = "mm"
    inputs: ClassVar = {"of": Input(Opening, "of", "The ellipse or slot.")}

    what: Literal["length", "width", "corner"] = setting(
        "length",
        "take",
        "Which of its sizes; an ellipse has no corners.",
        choices={"corner": "corner radius"},
    )

    def evaluate(self, given: StepContext) -> Outcome:
        """In mm."""
        found = given.one("of", Opening)
        if self.what == "corner" and found.corner == 0.0:
            raise NotMeasured("an ellipse has no corners; choose its length or width")
        value = {"length": found.length, "width": found.width, "corner": found.corner}[self.what]
        return Outcome(Number(value, "mm", found))


@register
class AreaKind(_Plain):
    """Area of an island."""

    kind: ClassVar = "area"
    title: ClassVar = "Area"
    glyph: ClassVar = "island"
    unit: ClassVar = "mm²"
    inputs: ClassVar = {"of": Input(Island, "of", "The island.")}

    def evaluate(self, given: StepContext) -> Outcome:
        """In mm²; of several islands together."""
        found = given.one("of", Island)
        return Outcome(Number(found.total_area, "mm²", found))


@register
class CountKind(_Plain):
    """Number of islands."""

    kind: ClassVar = "count"
    limits_from: ClassVar = staticmethod(exact_limits)
    title: ClassVar = "Count"
    glyph: ClassVar = "count"
    inputs: ClassVar = {"of": Input(Island, "of", "The islands.")}

    def evaluate(self, given: StepContext) -> Outcome:
        """A whole number."""
        found = given.one("of", Island)
        return Outcome(Number(float(found.count), "", found))


@register
class VolumeKind(_Plain):
    """Volume of an island above or below its level."""

    kind: ClassVar = "volume"
    title: ClassVar = "Volume"
    glyph: ClassVar = "volume"
    unit: ClassVar = "mm³"
    inputs: ClassVar = {"of": Input(Island, "of", "The island; of several, all together.")}

    def evaluate(self, given: StepContext) -> Outcome:
        """In mm³, between the surface and the level."""
        found = given.one("of", Island)
        return Outcome(Number(found.volume, "mm³", found))


@register
class MatchKind(_Plain):
    """Share of a taught outline that was found."""

    kind: ClassVar = "match"
    title: ClassVar = "Match score"
    glyph: ClassVar = "outline"
    unit: ClassVar = "%"
    inputs: ClassVar = {"of": Input(FoundOutline, "of", "The outline.")}

    def evaluate(self, given: StepContext) -> Outcome:
        """In percent."""
        found = given.one("of", FoundOutline)
        return Outcome(Number(100.0 * found.share, "%", Point(found.x, found.y, found.z)))


@register
class DataShareKind(Kind):
    """Share of a zone that holds data."""

    kind: ClassVar = "data-share"
    title: ClassVar = "Data share"
    glyph: ClassVar = "fill"
    output: ClassVar = Number
    unit: ClassVar = "%"
    needs_zone: ClassVar = True

    def evaluate(self, given: StepContext) -> Outcome:
        """In percent; a zone without any data is measured, and has none."""
        assert given.zone is not None
        share = self._share(given)
        return Outcome(Number(100.0 * share, "%", Point(given.zone.x, given.zone.y, given.base.z0)))

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """Masks of the points with and without data."""
        try:
            view = given.window()
        except NotMeasured:
            return Evidence()
        z = given.data.z[view.rows, view.cols]
        inside = np.ones(z.shape, np.bool_) if view.inside is None else view.inside
        grid, found = view.grid(given.data), ~np.isnan(z)
        return Evidence((Region(grid, inside & found, "used-data"), Region(grid, inside & ~found, "left-out")))

    @staticmethod
    def _share(given: StepContext) -> float:
        try:
            return given.window().data_share(given.data)
        except NotMeasured:
            return 0.0
