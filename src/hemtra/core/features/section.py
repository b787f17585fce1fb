"""Section: a cut along a zone, averaged over its height: a profile on which other features look.

And what all features that look on sections and profiles have in common.
"""

from __future__ import annotations

import math
from abc import abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar, Literal

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import LEVEL, Plane, Point
from hemtra.core.geometry.squared import Squared
from hemtra.core.maps.heightmap import HeightMap, Profile
from hemtra.core.maps.section import sample, section, shown_across
from hemtra.core.marks import Evidence, Polyline
from hemtra.core.plan.kind import Absent, Input, Kind, Outcome, StepContext, least_data
from hemtra.core.plan.registry import register
from hemtra.core.zones.zone import AnyZone


@dataclass(frozen=True)
class Cut(Profile):
    """A section with where it lies: x counts in mm from its middle, z from what its zone follows.

    Where that is tilted, x runs along it and z stands square to it.

    at: x, y in mm of the middle. direction: degrees counter-clockwise. seen: (n,) share of the lines across it
    that show a level at each of its points, None of a single profile. wide: mm across it that it takes in.
    grid_spacing: mm between the points of the map it was cut from, in x and y; 0 of a single profile. pivot: mm
    above the base of what is seen where it stands; on a tilted part what is higher or lower is seen aside.
    """

    at: tuple[float, float] = (0.0, 0.0)
    direction: float = 0.0
    base: Plane = LEVEL
    seen: FloatArray | None = None
    wide: float = 0.0
    grid_spacing: tuple[float, float] = (0.0, 0.0)
    pivot: float = 0.0

    @property
    def sag(self) -> float:
        """mm² by which interpolation between the points of a map raises it, for each 1/mm of its bend upwards.

        In the mean over all places a chord lies a twelfth of its length squared inside of a bend.
        """
        ux, uy = self._along
        return ((self.grid_spacing[0] * ux) ** 2 + (self.grid_spacing[1] * uy) ** 2) / 12

    @property
    def edge_room(self) -> float:
        """mm by which a straight end of the data square across it may lie off, as far as the points show.

        Lines of points that the end runs along all end alike, anywhere within a spacing; each more of them that
        it crosses halves, thirds and so on the rest.
        """
        ux, uy = (abs(part) for part in self._along)
        dx, dy = self.grid_spacing
        if not dx or not dy:
            return 0.0
        return dx / 2 * ux / (1 + self.wide * uy / dx) + dy / 2 * uy / (1 + self.wide * ux / dy)

    def room(self, wide: Any, run: Any) -> Any:
        """mm by which a step may lie off, as a profile's own points show it, or the lines across a section.

        wide: mm over which it rises, 0 where points are missing on it; run: mm from the point before it to the
        one behind it; both may be lanes. A sheer step may lie anywhere between two points; one that rises over
        more is seen.
        """
        short = SEEN - wide / self._point_spacing
        # of a single one in a tenth of the time
        sheer = np.clip(short, 0.0, 1.0) if isinstance(short, np.ndarray) else min(max(short, 0.0), 1.0)
        return sheer * (run / 2 if self.seen is None else self.edge_room)

    @property
    def _point_spacing(self) -> float:
        """mm along it from one point to the next: of the map, or its own where it is a single profile."""
        if self.seen is None:
            return float(self.x[-1] - self.x[0]) / max(self.x.size - 1, 1)
        ux, uy = (abs(part) for part in self._along)
        dx, dy = self.grid_spacing
        return dx * ux + dy * uy

    @property
    def _along(self) -> tuple[float, float]:
        return math.cos(math.radians(self.direction)), math.sin(math.radians(self.direction))

    @property
    def fine(self) -> int:
        """Samples to a point of the map: a single profile holds the points themselves."""
        return 1 if self.seen is None else FINE

    def place(self, x: Any, z: Any) -> Point:
        """A point of the section as a point of the scan; lanes of them as lanes."""
        ux, uy = self._along
        u, above = x, z
        if self.base is not LEVEL:
            square = Squared.on(self.base, ux, uy)
            u, above = square.seen(x, z - self.pivot)[0], z * square.rise
        px, py = self.at[0] + u * ux, self.at[1] + u * uy
        return Point(px, py, above + self.base.height_at(px, py))

    def seen_at(self, x: Any, z: Any) -> tuple[Any, Any]:
        """Where a point of the section is seen from above: mm along from its middle, and z on the scan."""
        (ux, uy), place = self._along, self.place(x, z)
        return (place.x - self.at[0]) * ux + (place.y - self.at[1]) * uy, place.z

    def lies_at(self, u: Any, z: Any) -> tuple[Any, Any]:
        """x and z in the section of what is seen u mm along from its middle, at z mm on the scan."""
        ux, uy = self._along
        square = Squared.on(self.base, ux, uy)
        height = (z - self.base.height_at(self.at[0] + u * ux, self.at[1] + u * uy)) / square.rise
        return square.stretch * u + square.lean * (height - self.pivot), height

    def within(self, zone: AnyZone | None) -> BoolArray:
        """Mask of its points with data inside an x/z zone, or anywhere without one."""
        inside = ~np.isnan(self.z)
        if zone is not None:
            inside &= zone.contains(self.x, np.where(inside, self.z, 0.0))
        return inside


SEEN = 2.5
"""Spacings of points over which a step must rise to be seen; up to one less it is sheer."""
THIN = 9.0
"""Code of a row for a stretch that holds too little data."""
FINE = 3
"""Samples of a section for each point of the map: where data ends is known to a part of a point."""
Facts = tuple[tuple[str, str], ...]


class SectionFeature(Kind):
    """A feature that looks on a section or profile; its zone, if it has one, is a rectangle in x and z of that.

    Measuring takes a stack of profiles at once, and turns a row of numbers for each into its value; a single
    section is a stack of one. So a profile sequence is measured as fast as one section, and by the same code.
    """

    section_input: ClassVar[str] = "section"
    revision: ClassVar[int] = 2
    inputs: ClassVar[Mapping[str, Input]] = {"section": Input(Cut, "on", "The section it is measured on.")}

    least_data: float = setting(
        50.0,
        "min. data",
        "Share of the stretch it is measured on that must hold data.",
        unit="%",
        ge=0.0,
        le=100.0,
    )

    @abstractmethod
    def measure(
        self, x: FloatArray, z: FloatArray, inside: BoolArray, middle: FloatArray, fine: int = 1
    ) -> FloatArray:
        """A row of numbers for each profile: heights z (n, m) over x (m,), and which of them count (n, m).

        middle: (n,) x in mm of the middle of the zone on each. fine: samples to a point of the map. The first
        number is 0, or why there is nothing.
        """

    def unfit(self, rows: FloatArray) -> BoolArray:
        """(n,) which rows of numbers stand for no value."""
        return np.asarray(rows[:, 0] != 0.0)

    @abstractmethod
    def refused(self, cut: Cut, row: FloatArray) -> Absent | None:
        """What an unfit row stands for, if that is known: that nothing is there. Else raises `NotMeasured`."""

    @abstractmethod
    def shape(self, cut: Cut, row: Sequence[Any]) -> Any:
        """The value that a row of numbers stands for; lanes where each of them is an array."""

    def measured(
        self,
        x: FloatArray,
        z: FloatArray,
        inside: BoolArray,
        columns: BoolArray,
        middle: FloatArray,
        fine: int = 1,
    ) -> FloatArray:
        """`measure`, but `THIN` with the share of data in percent where too little of the columns has any."""
        rows = self.measure(x, z, inside, middle, fine)
        asked = np.maximum(np.count_nonzero(columns, axis=1), 1)
        share = 100.0 * np.count_nonzero(columns & ~np.isnan(z), axis=1) / asked
        thin = share < self.least_data
        rows[thin, 0], rows[thin, 1] = THIN, share[thin]
        return rows

    def value(self, cut: Cut, row: FloatArray) -> Any:
        """The value that a row of numbers stands for. Raises `NotMeasured`."""
        if row[0] == THIN:
            raise NotMeasured(
                f"only {row[1]:.0f} % of the section has data here; minimum {self.least_data:g} %"
            )
        if self.unfit(row[None])[0]:
            return self.refused(cut, row)
        return self.shape(cut, row.tolist())

    @abstractmethod
    def facts(self, cut: Cut, row: FloatArray) -> Facts:
        """Facts worth reading beside the value."""

    def evaluate(self, given: StepContext) -> Outcome:
        """The value on one section."""
        cut, row = given.one(self.section_input, Cut), self.row(given)
        return Outcome(self.value(cut, row), self.facts(cut, row))

    def row(self, given: StepContext) -> FloatArray:
        """The numbers of one section."""
        cut = given.one(self.section_input, Cut)
        inside, z = cut.within(given.zone), cut.z[None, :]
        columns, middle = spanned(z), np.array([(cut.x[0] + cut.x[-1]) / 2])
        if given.zone is not None:
            wide, _ = given.zone.half_extent()
            columns, middle = np.abs(cut.x[None, :] - given.zone.x) <= wide, np.array([given.zone.x])
        return np.asarray(self.measured(cut.x, z, inside[None, :], columns, middle, cut.fine)[0])


def spanned(z: FloatArray) -> BoolArray:
    """(n, m) the points of each profile z (n, m) from its first to its last that holds data."""
    known = ~np.isnan(z)
    return np.logical_or.accumulate(known, axis=1) & np.logical_or.accumulate(known[:, ::-1], axis=1)[:, ::-1]


@register
class ProfileKind(Kind):
    """Each profile of a scan that is a profile sequence."""

    kind: ClassVar = "profile"
    title: ClassVar = "Profile"
    glyph: ClassVar = "section"
    output: ClassVar = Cut

    def evaluate(self, given: StepContext) -> Outcome:
        """The `Cut` that one profile is; its x is that of the sensor."""
        if given.data.shape[0] != 1:
            raise NotMeasured("this plan takes a part as a whole; let it take the part profile by profile")
        cut = profile_of(given.data)
        return Outcome(
            cut, (("points", str(int(np.count_nonzero(cut.valid)))), ("at", f"y {cut.at[1]:.2f} mm"))
        )

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The line on the surface."""
        cut: Cut = outcome.value
        found = cut.valid
        return Evidence((section_marks(cut, cut.x[found], cut.z[found]),))


def profile_of(data: HeightMap) -> Cut:
    """A map of one row as a profile."""
    return Cut(data.x, data.z[0].astype(np.float64), None, (0.0, data.grid.y0))


@register
class SectionKind(Kind):
    """A cut through the part."""

    kind: ClassVar = "section"
    title: ClassVar = "Section"
    glyph: ClassVar = "section"
    output: ClassVar = Cut
    needs_zone: ClassVar = True

    take: Literal["mean", "median"] = setting(
        "mean",
        "over its width",
        "The mean has the lowest noise; the median also withstands dirt and spikes.",
    )
    least_data: float = least_data()

    def evaluate(self, given: StepContext) -> Outcome:
        """A `Cut` along the zone's width, averaged over its height."""
        zone = given.zone
        given.window(self.least_data)
        assert zone is not None
        ux, uy = math.cos(math.radians(zone.rotation)), math.sin(math.radians(zone.rotation))
        half, square = zone.width / 2, Squared.on(given.base, ux, uy)

        def place(along: Any) -> tuple[Any, Any]:
            return zone.x + along * ux, zone.y + along * uy

        ends = np.array([-half, half])
        if square.lean:
            # what stands on the ends of the zone is seen beside them
            x, y = place(ends)
            above = np.nan_to_num(sample(given.data, x, y) - given.base.height_at(x, y))
            ends += np.array([-1.0, 1.0]) * np.abs(square.lean * above).max()
        start, end = (place(float(u)) for u in ends)
        profile = section(given.data, start, end, width=zone.height, median=self.take == "median", fine=FINE)
        along = profile.x + float(ends[0])
        z = profile.z - given.base.height_at(*place(along))
        seen, pivot = shown_across(given.data, start, end, zone.height, along.size), 0.0
        if square.lean:
            known = z[~np.isnan(z)]
            if known.size and not given.on_part:
                # the station's zero is no place of the part, about which it could have turned
                pivot = float(np.median(known)) / square.rise
            count = round((along.size - 1) * zone.width / float(np.ptp(ends))) + 1
            x = np.linspace(-half, half, max(2, count))
            z = square.turned(along, z[None], x, pivot)[0]
            from_above = square.seen(x, np.nan_to_num(z) - pivot)[0]
            along, seen = x, seen[np.clip(np.searchsorted(along, from_above), 0, along.size - 1)]
        if np.isnan(z).all():
            raise NotMeasured("there is no data along the section")
        grid_spacing = given.data.grid.dx, given.data.grid.dy
        at, turn = (zone.x, zone.y), zone.rotation
        cut = Cut(along, z, None, at, turn, given.base, seen, zone.height, grid_spacing, pivot)
        facts = (
            ("lowest", f"{np.nanmin(z):.3f} mm"),
            ("highest", f"{np.nanmax(z):.3f} mm"),
            ("points", str(int(np.count_nonzero(~np.isnan(z))))),
        )
        return Outcome(cut, facts)

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The line of the cut on the surface."""
        cut: Cut = outcome.value
        found = np.flatnonzero(cut.valid)
        points = [cut.place(float(cut.x[k]), float(cut.z[k])) for k in found[:: max(1, found.size // 300)]]
        return Evidence((Polyline(np.array([(p.x, p.y, p.z) for p in points]), "fit"),))


def section_marks(cut: Cut, x: FloatArray, z: FloatArray) -> Polyline:
    """A line drawn in a section, as a mark on the scan."""
    points = [cut.place(float(a), float(b)) for a, b in zip(x, z, strict=True)]
    return Polyline(np.array([(p.x, p.y, p.z) for p in points]), "fit")
