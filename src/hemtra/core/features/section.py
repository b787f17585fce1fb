"""Section: a cut along a zone, averaged over its height: a profile on which other features look."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.geometry.elements import LEVEL, Plane, Point
from hemtra.core.marks import Evidence, Polyline
from hemtra.core.plan.kind import Given, Kind, Outcome, least_data
from hemtra.core.plan.registry import register
from hemtra.core.scan.heightmap import Profile
from hemtra.core.scan.section import section
from hemtra.core.scan.zones import AnyZone


@dataclass(frozen=True)
class Cut(Profile):
    """A section with where it lies: x counts in mm from its middle, z from what its zone follows.

    at: x, y in mm of the middle. direction: degrees counter-clockwise.
    """

    at: tuple[float, float] = (0.0, 0.0)
    direction: float = 0.0
    base: Plane = LEVEL

    def place(self, x: float, z: float) -> Point:
        """A point of the section as a point of the scan."""
        px = self.at[0] + x * math.cos(math.radians(self.direction))
        py = self.at[1] + x * math.sin(math.radians(self.direction))
        return Point(px, py, z + self.base.height_at(px, py))

    def within(self, zone: AnyZone | None) -> BoolArray:
        """Which of its points hold data and lie in an x/z zone, or anywhere without one."""
        inside = ~np.isnan(self.z)
        if zone is not None:
            inside &= zone.contains(self.x, np.where(inside, self.z, 0.0))
        return inside


@register
class SectionKind(Kind):
    """A cut through the part."""

    kind: ClassVar = "section"
    title: ClassVar = "Section"
    glyph: ClassVar = "section"
    output: ClassVar = Cut
    needs_zone: ClassVar = True

    least_data: float = least_data()

    def evaluate(self, given: Given) -> Outcome:
        """A `Cut` along the zone's width, averaged over its height."""
        zone = given.zone
        given.window(self.least_data)
        assert zone is not None
        ux, uy = math.cos(math.radians(zone.rotation)), math.sin(math.radians(zone.rotation))
        half = zone.width / 2
        start, end = ((zone.x + side * half * ux, zone.y + side * half * uy) for side in (-1, 1))
        profile = section(given.data, start, end, width=zone.height)
        along = profile.x - half
        ground = given.base.height_at(zone.x + along * ux, zone.y + along * uy)
        z = profile.z - ground
        if np.isnan(z).all():
            raise NotMeasured("there is no data along the section")
        cut = Cut(along, z, None, (zone.x, zone.y), zone.rotation, given.base)
        facts = (
            ("lowest", f"{np.nanmin(z):.3f} mm"),
            ("highest", f"{np.nanmax(z):.3f} mm"),
            ("points", str(int(np.count_nonzero(~np.isnan(z))))),
        )
        return Outcome(cut, facts)

    def explain(self, given: Given, outcome: Outcome) -> Evidence:
        """The line of the cut on the surface."""
        cut: Cut = outcome.value
        found = np.flatnonzero(cut.valid)
        points = [cut.place(float(cut.x[k]), float(cut.z[k])) for k in found[:: max(1, found.size // 300)]]
        return Evidence((Polyline(np.array([(p.x, p.y, p.z) for p in points]), "fit"),))


def section_marks(cut: Cut, x: FloatArray, z: FloatArray) -> Polyline:
    """A line drawn in a section, as a mark on the scan."""
    points = [cut.place(float(a), float(b)) for a, b in zip(x, z, strict=True)]
    return Polyline(np.array([(p.x, p.y, p.z) for p in points]), "fit")
