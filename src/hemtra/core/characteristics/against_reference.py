"""How far a surface departs from that of the reference part, and how full a zone is."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np

from hemtra.core.arrays import BoolArray
from hemtra.core.errors import NotMeasured
from hemtra.core.features.deviation import Deviation
from hemtra.core.form import setting
from hemtra.core.geometry.elements import Number, Point
from hemtra.core.marks import Evidence, Region
from hemtra.core.plan.kind import Given, Input, Kind, Outcome
from hemtra.core.plan.registry import register


@register
class SurfaceDeviationKind(Kind):
    """One number for the differences of a surface from the reference."""

    kind: ClassVar = "surface-deviation"
    title: ClassVar = "Deviation from the reference"
    glyph: ClassVar = "flatness"
    output: ClassVar = Number
    unit: ClassVar = "mm"
    inputs: ClassVar = {"of": Input(Deviation, "of", "The difference to the reference.")}

    take: Literal["greatest", "percentile", "range", "beyond"] = setting(
        "greatest",
        "take",
        "The greatest difference either way, one that a share of the cells stays within, the range from the"
        " lowest to the highest, or the share of cells beyond a limit.",
        choices={
            "greatest": "greatest",
            "percentile": "percentile",
            "range": "range",
            "beyond": "share beyond a limit",
        },
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

    def evaluate(self, given: Given) -> Outcome:
        """In mm, or in percent of the cells."""
        found = given.one("of", Deviation)
        off = np.abs(found.values)
        value = {
            "greatest": float(off.max()),
            "percentile": float(np.percentile(off, self.percentile)),
            "range": float(np.ptp(found.values)),
            "beyond": 100.0 * float(np.mean(off > self.limit)),
        }[self.take]
        facts = (("cells", str(off.size)), ("seen", f"{found.seen:.0%}".replace("%", " %")))
        return Outcome(Number(value, "%" if self.take == "beyond" else "mm", found), facts)

    def explain(self, given: Given, outcome: Outcome) -> Evidence:
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
        "least data",
        "Share of the zone that must hold data for the share to be trusted.",
        unit="%",
        ge=0.0,
        le=100.0,
    )

    def evaluate(self, given: Given) -> Outcome:
        """In percent of the points with data."""
        filled, present = self._masks(given)
        assert given.zone is not None
        if not present.any():
            raise NotMeasured("there is no data in the zone")
        x, y = given.zone.x, given.zone.y
        share = 100.0 * float(np.count_nonzero(filled) / np.count_nonzero(present))
        return Outcome(Number(share, "%", Point(x, y, given.base.height_at(x, y) + self.level)))

    def explain(self, given: Given, outcome: Outcome) -> Evidence:
        """What is filled, and what is not."""
        filled, present = self._masks(given)
        grid = given.window().grid(given.data)
        return Evidence((Region(grid, filled, "used-data"), Region(grid, present & ~filled, "left-out")))

    def _masks(self, given: Given) -> tuple[BoolArray, BoolArray]:
        """(rows, cols) which points of the window are filled, and which hold data."""
        view = given.window(self.least_data)
        grid, z, base = view.grid(given.data), given.data.z[view.rows, view.cols], given.base
        x = grid.x0 + grid.dx * np.arange(z.shape[1])
        y = grid.y0 + grid.dy * np.arange(z.shape[0])
        height = z - base.height_at(x, np.array(base.y0))[None, :] - (base.slope_y * (y - base.y0))[:, None]
        present = ~np.isnan(z) if view.inside is None else view.inside & ~np.isnan(z)
        filled = present & ((height > self.level) if self.side == "above" else (height < self.level))
        return filled, present
