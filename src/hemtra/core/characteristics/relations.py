"""Between two features: angle, width of a pair of edges, gap, parallelism, perpendicularity."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, ClassVar, Literal

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.characteristics.contour_form import local_sizes, pieces
from hemtra.core.characteristics.surface_points import Surface, Surfaces
from hemtra.core.errors import NotMeasured
from hemtra.core.features.edge import FoundEdge
from hemtra.core.features.plane import FittedPlane
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import (
    LEVEL,
    Arc,
    Line,
    Number,
    Plane,
    Point,
    Round,
    Triple,
    angle_between,
    length_of,
)
from hemtra.core.geometry.squared import flattened, seen_from_above
from hemtra.core.marks import Dimension, Evidence, Polyline
from hemtra.core.plan.kind import Input, Kind, Outcome, Reading, StepContext
from hemtra.core.plan.registry import register
from hemtra.core.plan.usual_limits import form_limits

LEAST_OVERLAP = 0.05
"""Share of the shorter of two edges that must lie beside the other."""


@register
class AngleKind(Kind):
    """Angle between two lines, or between a line and the plane or level it rises from."""

    kind: ClassVar = "angle"
    title: ClassVar = "Angle"
    glyph: ClassVar = "angle"
    output: ClassVar = Number
    unit: ClassVar = "°"
    inputs: ClassVar = {
        "line": Input(Line, "line", "The line whose angle is wanted."),
        "to": Input(Line, "to line", "The line it is measured to.", optional=True),
        "plane": Input(
            Plane, "to plane", "The plane it is measured to instead; the level without either.", optional=True
        ),
    }

    take: Literal["acute", "obtuse", "complement"] = setting(
        "acute",
        "take",
        "Two lines make two angles; the complement is 90° less the acute one, as a draft is dimensioned.",
        choices={"acute": "the acute one", "obtuse": "the obtuse one", "complement": "its complement to 90°"},
    )

    def evaluate(self, given: StepContext) -> Outcome:
        """In degrees, in space."""
        return Outcome(self.read(given).number("°"))

    def read(self, given: StepContext) -> Reading:
        """In degrees, in space."""
        line, to, plane = (
            given.one("line", Line),
            given.optional_input("to", Line),
            given.optional_input("plane", Plane),
        )
        if to is not None:
            acute = angle_between(line.unit, to.unit)
        else:
            acute = 90.0 - angle_between(line.unit, (plane or LEVEL).normal)
        value = {"acute": acute, "obtuse": 180.0 - acute, "complement": 90.0 - acute}[self.take]
        return Reading(value, Point(line.x, line.y, line.z))

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The lines."""
        lines = [line for name in ("line", "to") if (line := given.optional_input(name, Line)) is not None]
        ends = [line.ends() for line in lines]
        return Evidence(tuple(Polyline(np.array([(p.x, p.y, p.z) for p in pair]), "fit") for pair in ends))


@register
class WidthKind(Kind):
    """Distance between two edges that run side by side."""

    kind: ClassVar = "width"
    title: ClassVar = "Width"
    glyph: ClassVar = "width"
    output: ClassVar = Number
    unit: ClassVar = "mm"
    inputs: ClassVar = {
        "one": Input(Line, "from", "One edge."),
        "other": Input(Line, "to", "The edge across from it."),
        "plane": Input(Plane, "along", "The surface the width lies in; level without.", optional=True),
    }

    revision: ClassVar = 4

    take: Literal["mean", "fit", "least", "greatest"] = setting(
        "mean",
        "take",
        "The mean of what both edges have in common; the distance of two parallel lines through all of both by"
        " least squares (GG, ISO 14405-1); or the minimum or maximum local size, from point to point across"
        " (two-point size, LP).",
        choices={"fit": "least squares", "least": "minimum", "greatest": "maximum"},
    )
    counted: Literal["lateral", "space"] = setting(
        "lateral",
        "counted",
        "Where one edge lies higher than the other, the width along the surface is less than that in space.",
        when={"take": ("mean", "least", "greatest")},
        choices={"lateral": "along the surface", "space": "in space"},
    )
    least_seen: float = setting(
        95.0,
        "minimum data",
        "Percentage of both edges that must have data for the minimum or maximum local size.",
        unit="%",
        when={"take": ("least", "greatest")},
        ge=0.0,
        le=100.0,
    )

    def evaluate(self, given: StepContext) -> Outcome:
        """In mm, square to the mean direction of both; facts: least and greatest."""
        (a, b), widths = self._ends(given)
        middle = (a.mean(axis=0) + b.mean(axis=0)) / 2
        value, at = float(widths.mean()), Point(*(float(c) for c in middle))
        local = self._local(given)
        low, high = (widths.min(), widths.max()) if local is None else (local[1].min(), local[1].max())
        facts = (("minimum", f"{low:.3f} mm"), ("maximum", f"{high:.3f} mm"))
        if self.take == "fit":
            value = self._apart(given)
        elif self.take != "mean":
            value = float(low if self.take == "least" else high)
            if local is not None:
                k = int(np.argmin(local[1]) if self.take == "least" else np.argmax(local[1]))
                x, y = local[0][k].mean(axis=0).tolist()
                at = Point(x, y, at.z)
        return Outcome(Number(value, "mm", at), facts)

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The dimension where it was taken."""
        (a, b), widths = self._ends(given)
        local = self._local(given) if self.take in ("least", "greatest") else None
        if self.take in ("mean", "fit"):
            start, end = a.mean(axis=0), b.mean(axis=0)
        elif local is not None:
            k = int(np.argmin(local[1]) if self.take == "least" else np.argmax(local[1]))
            start, end = (np.append(p, outcome.value.at.z) for p in local[0][k])
        else:
            k = int(np.argmin(widths) if self.take == "least" else np.argmax(widths))
            start, end = a[k], b[k]
        ends = (Point(*(float(c) for c in p)) for p in (start, end))
        return Evidence((Dimension(next(ends), next(ends), f"{outcome.value.value:.3f} mm"),))

    def _local(self, given: StepContext) -> tuple[FloatArray, FloatArray] | None:
        """(n, 2, 2) pairs of places across from each other and (n,) local sizes; None for constructed lines."""
        one, other = given.one("one", Line), given.one("other", Line)
        if not isinstance(one, FoundEdge) or not isinstance(other, FoundEdge):
            return None
        if one.places is None or other.places is None:
            return None
        known = min(one.coverage.known, other.coverage.known)
        if self.take in ("least", "greatest") and 100.0 * known < self.least_seen:
            raise NotMeasured(
                f"only {100.0 * known:.0f} % of the edges are seen;"
                f" minimum {self.least_seen:g} % for a local size"
            )
        # as they lie on the surface, which from above is seen shorter along its slope
        plane = given.optional_input("plane", Plane) or LEVEL
        slopes, nz = (plane.slope_x, plane.slope_y), plane.normal[2]
        above = (one.z - other.z - float(np.dot(slopes, (one.x - other.x, one.y - other.y)))) * nz
        sides = [flattened(side, slopes) for side in (one.places, other.places)]
        # square to it the higher edge is seen beside where it stands
        sides[0] = sides[0] - above * np.array(plane.normal[:2])
        u, v = flattened(np.array([one.along, other.along]), slopes)
        places, sizes = local_sizes(sides[0], sides[1], u + (v if float(u @ v) >= 0 else -v))
        places = seen_from_above(places.reshape(-1, 2), slopes).reshape(places.shape)
        if self.counted == "space":
            sizes = np.hypot(sizes, above)
        return places, sizes

    def _apart(self, given: StepContext) -> float:
        """mm between two parallel lines, each through all places of its edge, along the surface."""
        one, other = given.one("one", Line), given.one("other", Line)
        plane = given.optional_input("plane", Plane) or LEVEL
        sides = [np.column_stack([xy, plane.height_at(*xy.T)]) for xy in map(_places, (one, other))]
        centres = [side.mean(axis=0) for side in sides]
        spread = sum((side - c).T @ (side - c) for side, c in zip(sides, centres, strict=True))
        # along what both spread over most together; across that in the plane
        across = np.cross(plane.normal, np.linalg.eigh(spread)[1][:, 2])
        return abs(float((centres[1] - centres[0]) @ across))

    def _ends(self, given: StepContext) -> tuple[tuple[FloatArray, FloatArray], FloatArray]:
        """(2, 3) points of both edges at the ends of what they have in common, and the widths there, (2,)."""
        one, other = given.one("one", Line), given.one("other", Line)
        u, v = one.vector, other.vector
        v = v if float(u @ v) >= 0 else -v
        along = (u + v) / np.linalg.norm(u + v)
        if angle_between(one.unit, other.unit) > 45.0:
            raise NotMeasured("the two edges do not run side by side; a width needs edges that do")
        reach = [
            (float(line.origin @ along) - line.length / 2, float(line.origin @ along) + line.length / 2)
            for line in (one, other)
        ]
        low, high = max(r[0] for r in reach), min(r[1] for r in reach)
        if high - low < LEAST_OVERLAP * min(one.length, other.length):
            raise NotMeasured("edges do not overlap; place their zones opposite each other")
        pair = []
        for line, direction in ((one, u), (other, v)):
            t = [(at - float(line.origin @ along)) / float(direction @ along) for at in (low, high)]
            pair.append(np.array([line.origin + k * direction for k in t]))
        across = pair[1] - pair[0]
        if self.counted == "lateral" or self.take == "fit":
            normal = np.array((given.optional_input("plane", Plane) or LEVEL).normal)
            across = across - (across @ normal)[:, None] * normal
        return (pair[0], pair[1]), np.linalg.norm(across, axis=1)


def _places(line: Line) -> FloatArray:
    """(n, 2) mm where an edge was seen, or the ends of a line that was constructed."""
    if isinstance(line, FoundEdge) and line.places is not None:
        return line.places
    return np.array([(p.x, p.y) for p in line.ends()])


@register
class GapKind(Kind):
    """Clearance between two sides: points, or rounded edges by the arcs fitted to them."""

    kind: ClassVar = "gap"
    title: ClassVar = "Gap"
    glyph: ClassVar = "gap"
    output: ClassVar = Number
    unit: ClassVar = "mm"
    inputs: ClassVar = {
        "left": Input(Point, "from", "One side: a point, or the arc of a rounded edge."),
        "right": Input(Point, "to", "The other side: a point, or the arc of a rounded edge."),
        "plane": Input(Plane, "along", "The surface the gap lies in; level without.", optional=True),
        "line": Input(Line, "along a line", "That surface on a section, in place of a plane.", optional=True),
    }

    take: Literal["least", "lateral", "depth", "flush"] = setting(
        "lateral",
        "take",
        "The minimum clearance, its part along the surface, the height of the second side above the first, or"
        " the clearance so deep below the surface.",
        choices={"least": "minimum clearance", "lateral": "along the surface", "depth": "at a depth"},
    )
    depth: float = setting(
        0.5,
        "depth",
        "Below the tops of the rounded edges; deeper than their radius a side goes straight down.",
        unit="mm",
        when={"take": ("depth",)},
        ge=0.0,
        le=1000.0,
    )

    def evaluate(self, given: StepContext) -> Outcome:
        """In mm; facts: all of them."""
        found = self.read(given).number("mm")
        start, end, _ = self._ends(given)
        parts = self._parts(given, start, end)
        return Outcome(found, tuple((name, f"{value:.3f} mm") for name, value in parts.items()))

    def read(self, given: StepContext) -> Reading:
        """In mm."""
        start, end, problems = self._ends(given)
        value = self._parts(given, start, end)["lateral" if self.take == "depth" else self.take]
        middle = Point(*((a + b) / 2 for a, b in zip(start, end, strict=True)))
        return Reading(value, middle, problems)

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The segment it was measured along; a lateral one at the height of the upper side."""
        start, end, _ = self._ends(given)
        if self.take == "lateral":
            top = max(start[2], end[2])
            start, end = (start[0], start[1], top), (end[0], end[1], top)
        return Evidence((Dimension(Point(*start), Point(*end), f"{outcome.value.value:.3f} mm"),))

    @staticmethod
    def _normal(given: StepContext) -> Triple:
        """Unit vector square to the surface that the gap lies in, upward."""
        line = given.optional_input("line", Line)
        if line is None:
            return (given.optional_input("plane", Plane) or LEVEL).normal
        (ux, uy), size = line.along, np.hypot(1.0, line.climb)
        return -line.climb * ux / size, -line.climb * uy / size, 1.0 / size

    def _parts(self, given: StepContext, start: Triple, end: Triple) -> dict[str, float]:
        nx, ny, nz = self._normal(given)
        dx, dy, dz = (b - a for a, b in zip(start, end, strict=True))
        flush = dx * nx + dy * ny + dz * nz
        lateral = length_of(dx - flush * nx, dy - flush * ny, dz - flush * nz)
        return {"least": length_of(dx, dy, dz), "lateral": lateral, "flush": flush}

    def _ends(self, given: StepContext) -> tuple[Triple, Triple, tuple[tuple[Any, str], ...]]:
        """The two places, on arcs those that face the other side, and why there is no gap."""
        left, right = given.one("left", Point), given.one("right", Point)
        a, b = left.place, right.place
        dx, dy, dz = (q - p for p, q in zip(a, b, strict=True))
        same = (length_of(dx, dy, dz) < 1e-9, "both sides are the same place; connect the two sides of the gap")
        radii = [side.radius if isinstance(side, Round) else 0.0 for side in (left, right)]
        tops = [side.radius if isinstance(side, Arc) else 0.0 for side in (left, right)]
        if self.take == "flush":
            # rounded edges are compared by their tops, which on a map are the highest places, plane or none
            nx, ny, nz = LEVEL.normal if given.optional_input("line", Line) is None else self._normal(given)
            first, second = (
                (x + r * nx, y + r * ny, z + r * nz) for (x, y, z), r in zip((a, b), tops, strict=True)
            )
            return first, second, (same,)
        if self.take != "least":
            nx, ny, nz = self._normal(given)
            up = dx * nx + dy * ny + dz * nz
            dx, dy, dz = dx - up * nx, dy - up * ny, dz - up * nz
        size = length_of(dx, dy, dz)
        if self.take == "depth":
            radii = [_reach(radius, top, self.depth) for radius, top in zip(radii, tops, strict=True)]
        overlap = radii[0] + radii[1] > size, "the two rounded edges overlap; there is no gap between them"
        whole: Any = np.where(size > 0.0, size, 1.0)
        ux, uy, uz = dx / whole, dy / whole, dz / whole
        r, s = radii[0], -radii[1]
        one = a[0] + r * ux, a[1] + r * uy, a[2] + r * uz
        other = b[0] + s * ux, b[1] + s * uy, b[2] + s * uz
        return one, other, (same, overlap)


def _reach(radius: Any, top: Any, depth: float) -> Any:
    """Reach of a rounded edge outward from its centre at a depth below its top; 0 for a point."""
    straight = np.logical_or(top == 0.0, depth >= radius)
    return np.where(straight, radius, np.sqrt(np.maximum(radius**2 - (radius - depth) ** 2, 0.0)))


@register
class ParallelismKind(Kind):
    """Zone between two parallels of the datum that holds a plane or an edge (ISO 1101)."""

    kind: ClassVar = "parallelism"
    limits_from: ClassVar = staticmethod(form_limits)
    title: ClassVar = "Parallelism or perpendicularity"
    glyph: ClassVar = "parallelism"
    output: ClassVar = Number
    unit: ClassVar = "mm"
    looks_at_data: ClassVar = True
    inputs: ClassVar = {
        "plane": Input(FittedPlane, "plane", "The plane to compare with a plane.", optional=True),
        "datum": Input(Plane, "to plane", "The datum plane.", optional=True),
        "edge": Input(FoundEdge, "edge", "The edge to compare with an edge.", optional=True),
        "to": Input(Line, "to edge", "The datum edge.", optional=True),
    }

    revision: ClassVar = 2
    least_coverage: ClassVar = 95.0

    turn: Literal["parallel", "square"] = setting(
        "parallel",
        "should be",
        "How the edge should lie to its datum; planes are taken as parallel.",
        choices={"square": "at right angles"},
    )
    cell: float = setting(
        2.0,
        "mean over",
        "Heights are averaged over cells, and points along an edge over stretches, of this size, so that noise"
        " is not taken for form. Deviations larger than the noise still count in full.",
        unit="mm",
        gt=0.0,
        le=100.0,
    )

    def evaluate(self, given: StepContext) -> Outcome:
        """Width in mm of the zone, parallel or square to the datum, that holds all points (ISO 1101)."""
        plane, datum = given.optional_input("plane", FittedPlane), given.optional_input("datum", Plane)
        if plane is not None and datum is not None:
            held = Surfaces((Surface(plane.zone, plane),), given.data, self.cell)
            if len(held.cells) < 3:
                raise NotMeasured(f"only {len(held.cells)} cells of {self.cell:g} mm hold data; it needs three")
            # between the middles of its cells and the ends of its zone the surface continues as it is tilted
            ends = plane.zone.outline()
            extent = held.extent(datum, np.column_stack([ends, plane.height_at(ends[:, 0], ends[:, 1])]))
            facts = (
                ("off by", f"{plane.angle_to(datum):.3f}°"),
                ("isolated points", str(extent.coverage.spikes)),
            )
            value = Number(extent.width, "mm", extent.highest)
            possible = (Number(extent.possible_width, "mm", extent.highest),)
            return Outcome(value, facts, possible=possible, coverage=extent.coverage)
        edge, to = given.optional_input("edge", FoundEdge), given.optional_input("to", Line)
        if edge is None or to is None:
            raise NotMeasured("connect a plane and its datum plane, or an edge and its datum edge")
        angle = angle_between((*edge.along, 0.0), (*to.along, 0.0))
        off_by = angle if self.turn == "parallel" else 90.0 - angle
        along, off = self._beside(edge, to)
        middle, extremes = pieces(along, off, self.cell)
        low, high = min(float(middle.min()), extremes[0]), max(float(middle.max()), extremes[1])
        at = Point(edge.x, edge.y, edge.z)
        value = Number(high - low, "mm", at)
        return Outcome(value, (("off by", f"{off_by:.3f}°"),), coverage=edge.coverage)

    def ideal(self, given: StepContext) -> Mapping[str, tuple[Plane | Line, ...]]:
        """The plane or edge turned to lie as its datum asks."""
        plane, datum = given.optional_input("plane", FittedPlane), given.optional_input("datum", Plane)
        if plane is not None and datum is not None:
            return {"plane": (replace(plane, slope_x=datum.slope_x, slope_y=datum.slope_y),)}
        edge, to = given.optional_input("edge", FoundEdge), given.optional_input("to", Line)
        if edge is None or to is None:
            return {}
        return {"edge": (replace(edge, direction=to.direction + (90.0 if self.turn == "square" else 0.0)),)}

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The edge, where it is one."""
        edge = given.optional_input("edge", FoundEdge)
        if edge is None:
            return Evidence()
        return Evidence((Polyline(np.array([(p.x, p.y, p.z) for p in edge.ends()]), "fit"),))

    def _beside(self, edge: FoundEdge, to: Line) -> tuple[FloatArray, FloatArray]:
        """Places (n,) in mm along the direction that the edge should have, and off it."""
        places = np.empty((0, 2)) if edge.places is None else edge.places
        if len(places) < 2:
            raise NotMeasured("the edge was seen at too few places")
        ux, uy = to.along
        if self.turn == "square":
            ux, uy = -uy, ux
        u, v = places[:, 0] - edge.x, places[:, 1] - edge.y
        return u * ux + v * uy, v * ux - u * uy
