"""Deviation of a surface from the reference part, and fill of a zone."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar, Literal

import numpy as np

from hemtra.core.arrays import BoolArray, Heights
from hemtra.core.detection.unseen import Looked, filled, patches_of
from hemtra.core.errors import NotMeasured
from hemtra.core.features.deviation import Deviation
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Number, Point
from hemtra.core.marks import Evidence, Region
from hemtra.core.plan.kind import Input, Kind, Outcome, StepContext
from hemtra.core.plan.registry import register
from hemtra.core.text import percent
from hemtra.core.zones.window import Window


@register
class SurfaceDeviationKind(Kind):
    """One number for the deviation of a surface from the reference."""

    kind: ClassVar = "surface-deviation"
    title: ClassVar = "Deviation from the reference"
    glyph: ClassVar = "flatness"
    output: ClassVar = Number
    unit: ClassVar = "mm"
    inputs: ClassVar = {"of": Input(Deviation, "of", "The difference to the reference.")}
    least_coverage: ClassVar = 95.0

    take: Literal["greatest", "percentile", "range", "beyond"] = setting(
        "greatest",
        "take",
        "The largest difference either way, one that a percentage of the cells stays within, the range from the"
        " lowest to the highest, or the percentage of cells beyond a limit.",
        choices={"greatest": "largest difference", "beyond": "percentage beyond a limit"},
    )
    percentile: float = setting(
        95.0,
        "percentile",
        "Share of the cells within the difference.",
        unit="%",
        when={"take": ("percentile",)},
        ge=0.0,
        le=100.0,
    )
    limit: float = setting(
        0.1,
        "limit",
        "Differences beyond this, either way, are counted.",
        unit="mm",
        when={"take": ("beyond",)},
        ge=0.0,
        le=1000.0,
    )

    def evaluate(self, given: StepContext) -> Outcome:
        """In mm, or in percent of the cells."""
        found = given.one("of", Deviation)
        off = np.abs(found.values)
        value = {
            "greatest": float(off.max()),
            "percentile": float(np.percentile(off, self.percentile)),
            "range": float(np.ptp(found.values)),
            "beyond": 100.0 * float(np.mean(off > self.limit)),
        }[self.take]
        facts = (("cells", str(off.size)), ("seen", percent(found.seen)))
        number = Number(value, "%" if self.take == "beyond" else "mm", found)
        # of cells that were not seen none, or each of them, may lie beyond
        ends = (value * found.seen, value * found.seen + 100.0 * (1.0 - found.seen))
        possible = tuple(replace(number, value=end) for end in ends)
        return Outcome(number, facts, possible=possible if self.take == "beyond" and found.seen < 1.0 else ())

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The map of differences shows it."""
        return Evidence()


@register
class FillKind(Kind):
    """Share of a zone that stands above, or lies below, a level."""

    kind: ClassVar = "fill-share"
    title: ClassVar = "Filled share"
    glyph: ClassVar = "fill"
    output: ClassVar = Number
    unit: ClassVar = "%"
    needs_zone: ClassVar = True
    revision: ClassVar = 2

    side: Literal["above", "below"] = setting(
        "above",
        "lies",
        "What counts as filled.",
        choices={"above": "above the level", "below": "below the level"},
    )
    level: float = setting(
        0.0, "level", "Counted from what the zone follows.", unit="mm", ge=-1000.0, le=1000.0
    )
    least_data: float = setting(
        50.0,
        "min. data",
        "Share of the zone that must hold data for the share to be trusted.",
        unit="%",
        ge=0.0,
        le=100.0,
    )

    def evaluate(self, given: StepContext) -> Outcome:
        """In percent of the points of the zone."""
        filled_points, height, view = self._masks(given)
        assert given.zone is not None
        if np.isnan(height).all():
            raise NotMeasured("there is no data in the zone")
        x, y = given.zone.x, given.zone.y
        at = Point(x, y, given.base.height_at(x, y) + self.level)
        patches = patches_of(height, Looked.at(height.shape, view.inside), view.grid(given.data))
        full = int(np.count_nonzero(filled_points))
        share = 100.0 * full / patches.total
        if not patches.points.size:
            return Outcome(Number(share, "%", at))
        sign = 1.0 if self.side == "above" else -1.0
        near, far = (patches.rim_low, patches.rim_high) if sign > 0 else (patches.rim_high, patches.rim_low)
        # unseen taken for empty, and for full where something beside it is
        may = np.nan_to_num(sign * (far - self.level), nan=1.0) > 0.0
        surely = (np.nan_to_num(sign * (near - self.level), nan=-1.0) > 0.0) & patches.small
        whole = filled(height, patches)
        held = sign * (whole - self.level) > 0.0
        held = held if view.inside is None else held & view.inside
        known = patches.total - float(patches.points[~patches.small].sum())
        value = 100.0 * np.count_nonzero(held) / max(known, 1.0)
        least = share + 100.0 * float(patches.points[surely].sum()) / patches.total
        most = share + 100.0 * float(patches.points[may].sum()) / patches.total
        possible = Number(min(least, value), "%", at), Number(max(most, value), "%", at)
        return Outcome(Number(value, "%", at), possible=possible)

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """Masks of the filled and the empty area."""
        held, height, view = self._masks(given)
        grid, present = view.grid(given.data), ~np.isnan(height)
        present = present if view.inside is None else present & view.inside
        return Evidence((Region(grid, held, "used-data"), Region(grid, present & ~held, "left-out")))

    def _masks(self, given: StepContext) -> tuple[BoolArray, Heights, Window]:
        """(rows, cols) which points of the window are seen to be filled, heights above the base; the window."""
        view = given.window(self.least_data)
        height = view.above(given.base, given.data)
        held = (height > self.level) if self.side == "above" else (height < self.level)
        return held if view.inside is None else held & view.inside, height, view
