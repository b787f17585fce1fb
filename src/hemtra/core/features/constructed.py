"""Features made of other features."""

from __future__ import annotations

import math
from typing import ClassVar, Literal

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Circle, Line, Plane, Point
from hemtra.core.geometry.frames import Frame
from hemtra.core.marks import Evidence, Polyline
from hemtra.core.plan.kind import Input, Kind, Outcome, StepContext
from hemtra.core.plan.registry import register

BLUNTEST = 0.5
"""Smallest angle between two lines that meet, degrees."""
CROSS = 1.0
"""Half length of the cross that marks a point, mm."""
NARROW = 1e-6
"""Ratio of the spreads of points across and along below which they lie on one line."""


class _Constructed(Kind):
    """Common base of constructed features: no zone, and marks that show the element itself."""

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The element."""
        return Evidence(element_marks(outcome.value))


@register
class MidpointKind(_Constructed):
    """The point halfway between several, their mean."""

    kind: ClassVar = "mean-point"
    title: ClassVar = "Midpoint or mean of points"
    glyph: ClassVar = "mean-point"
    output: ClassVar = Point
    inputs: ClassVar = {"points": Input(Point, "of", "Two points or more; of lines, their middles.", many=True)}

    def evaluate(self, given: StepContext) -> Outcome:
        """A `Point`."""
        points = coordinates(given.many("points", Point), 2)
        return _point(points.mean(axis=0))


@register
class IntersectionKind(_Constructed):
    """Intersection of two lines in the top view, or of a line and a plane."""

    kind: ClassVar = "intersection"
    title: ClassVar = "Intersection"
    glyph: ClassVar = "corner"
    output: ClassVar = Point
    inputs: ClassVar = {
        "line": Input(Line, "line", "The first line."),
        "other": Input(Line, "with line", "The line it meets.", optional=True),
        "plane": Input(Plane, "with plane", "The plane it meets, instead of a line.", optional=True),
    }

    def evaluate(self, given: StepContext) -> Outcome:
        """A `Point`; of two lines at different heights halfway between them."""
        line, plane = given.one("line", Line), given.optional_input("plane", Plane)
        if plane is not None:
            along = float(line.vector @ np.array(plane.normal))
            if abs(along) < math.sin(math.radians(BLUNTEST)):
                raise NotMeasured("the line runs along the plane and does not meet it")
            off = plane.distance(line)
            return _point(line.origin - off / along * line.vector)
        other = given.optional_input("other", Line)
        if other is None:
            raise NotMeasured("nothing is connected that the line could meet; choose a line or a plane")
        (ax, ay), (bx, by) = line.along, other.along
        cross = ax * by - ay * bx
        if abs(cross) < math.sin(math.radians(BLUNTEST)):
            raise NotMeasured("the two lines are parallel and do not meet")
        t = ((other.x - line.x) * by - (other.y - line.y) * bx) / cross
        x, y = line.x + t * ax, line.y + t * ay
        s = (x - other.x) * bx + (y - other.y) * by
        return _point(np.array([x, y, (line.z + t * line.climb + other.z + s * other.climb) / 2]))


@register
class ProjectionKind(_Constructed):
    """The point of a line or plane nearest to a point."""

    kind: ClassVar = "projection"
    title: ClassVar = "Projection of a point"
    glyph: ClassVar = "projection"
    output: ClassVar = Point
    inputs: ClassVar = {
        "point": Input(Point, "point", "The point to project."),
        "line": Input(Line, "on line", "The line it falls on.", optional=True),
        "plane": Input(Plane, "on plane", "The plane it falls on, instead of a line.", optional=True),
    }

    def evaluate(self, given: StepContext) -> Outcome:
        """A `Point`."""
        point, line, plane = (
            given.one("point", Point),
            given.optional_input("line", Line),
            given.optional_input("plane", Plane),
        )
        if plane is not None:
            foot = plane.foot(point)
            return _point(np.array([foot.x, foot.y, foot.z]))
        if line is None:
            raise NotMeasured("nothing is connected that the point could fall on; choose a line or a plane")
        at = np.array([point.x, point.y, point.z])
        return _point(line.origin + line.vector * float((at - line.origin) @ line.vector))


@register
class LineThroughKind(_Constructed):
    """The straight line through points, by least squares where there are more than two."""

    kind: ClassVar = "line-through"
    title: ClassVar = "Line through points"
    glyph: ClassVar = "line-through"
    output: ClassVar = Line
    inputs: ClassVar = {"points": Input(Point, "through", "Two points or more.", many=True)}

    def evaluate(self, given: StepContext) -> Outcome:
        """A `Line` from the first point towards the last; fact: how far the points lie off it."""
        points = coordinates(given.many("points", Point), 2)
        middle = points.mean(axis=0)
        _, spread, axes = np.linalg.svd(points - middle, full_matrices=False)
        if spread[0] < 1e-9:
            raise NotMeasured("the points coincide; a line needs two different ones")
        direction = axes[0] if float(axes[0] @ (points[-1] - points[0])) >= 0 else -axes[0]
        flat = math.hypot(direction[0], direction[1])
        if flat < 1e-6:
            raise NotMeasured("the points lie above each other; seen from above that is no line")
        length = float(np.ptp((points - middle) @ direction))
        off = points - middle - np.outer((points - middle) @ direction, direction)
        x, y, z = (float(c) for c in middle)
        line = Line(
            x,
            y,
            z,
            math.degrees(math.atan2(direction[1], direction[0])),
            length * flat,
            float(direction[2] / flat),
        )
        return Outcome(line, (("farthest off", f"{float(np.linalg.norm(off, axis=1).max()):.4f} mm"),))


@register
class PlaneThroughKind(Kind):
    """The plane through points, by least squares where there are more than three."""

    kind: ClassVar = "plane-through"
    title: ClassVar = "Plane through points"
    glyph: ClassVar = "plane"
    output: ClassVar = Plane
    inputs: ClassVar = {"points": Input(Point, "through", "Three points or more.", many=True)}

    def evaluate(self, given: StepContext) -> Outcome:
        """A `Plane`; facts: tilt, and how far the points lie off it."""
        points = coordinates(given.many("points", Point), 3)
        middle = points.mean(axis=0)
        u, v, w = (points - middle).T
        spread = np.linalg.svd(np.column_stack([u, v]), compute_uv=False)
        if spread[1] <= NARROW * spread[0] or spread[0] == 0.0:
            raise NotMeasured("the points lie on one line; a plane needs three that do not")
        slopes, *_ = np.linalg.lstsq(np.column_stack([u, v]), w, rcond=None)
        x, y, z = (float(c) for c in middle)
        plane = Plane(x, y, z, float(slopes[0]), float(slopes[1]))
        off = max(abs(plane.distance(Point(*(float(c) for c in p)))) for p in points)
        return Outcome(plane, (("tilt", f"{plane.tilt:.3f}°"), ("farthest off", f"{off:.4f} mm")))

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The points, joined."""
        return Evidence((Polyline(coordinates(given.many("points", Point), 3), "fit", closed=True),))


@register
class OffsetPlaneKind(Kind):
    """A plane parallel to another, or a level one at a height."""

    kind: ClassVar = "offset-plane"
    title: ClassVar = "Parallel plane"
    glyph: ClassVar = "level"
    output: ClassVar = Plane
    inputs: ClassVar = {
        "plane": Input(Plane, "parallel to", "The plane; level in the station without one.", optional=True),
        "point": Input(Point, "through", "A point it goes through.", optional=True),
    }

    offset: float = setting(
        0.0, "offset", "Distance from the plane or point, upwards.", unit="mm", ge=-1e4, le=1e4
    )

    def evaluate(self, given: StepContext) -> Outcome:
        """A `Plane`."""
        plane = given.optional_input("plane", Plane) or Plane(0.0, 0.0, 0.0, 0.0, 0.0)
        point = given.optional_input("point", Point) or Point(plane.x0, plane.y0, plane.z0)
        z = point.z + self.offset / plane.normal[2]
        found = Plane(point.x, point.y, z, plane.slope_x, plane.slope_y)
        return Outcome(found, (("height", f"{z:.4f} mm"),))

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """A plane has no border to be drawn by."""
        return Evidence()


@register
class OffsetLineKind(_Constructed):
    """A line parallel or square to another, through a point or at a distance."""

    kind: ClassVar = "offset-line"
    title: ClassVar = "Parallel or square line"
    glyph: ClassVar = "offset-line"
    output: ClassVar = Line
    inputs: ClassVar = {
        "line": Input(Line, "to", "The line it is parallel or square to."),
        "point": Input(
            Point, "through", "The point it goes through; the line's own middle without.", optional=True
        ),
    }

    turn: Literal["parallel", "square"] = setting(
        "parallel",
        "is",
        "Whether it runs the same way or at right angles.",
    )
    offset: float = setting(
        0.0, "offset", "Distance to the left of where it would be.", unit="mm", ge=-1e4, le=1e4
    )

    def evaluate(self, given: StepContext) -> Outcome:
        """A `Line`."""
        line = given.one("line", Line)
        point = given.optional_input("point", Point) or line
        direction = line.direction + (90.0 if self.turn == "square" else 0.0)
        climb = line.climb if self.turn == "parallel" else 0.0
        ux, uy = math.cos(math.radians(direction)), math.sin(math.radians(direction))
        x, y = point.x - self.offset * uy, point.y + self.offset * ux
        return Outcome(Line(x, y, point.z, (direction + 180.0) % 360.0 - 180.0, line.length, climb))


@register
class HolePatternKind(_Constructed):
    """The circle through the centres of a ring of holes or bosses."""

    kind: ClassVar = "hole-circle"
    title: ClassVar = "Circle through points"
    glyph: ClassVar = "circle"
    output: ClassVar = Circle
    inputs: ClassVar = {"points": Input(Point, "through", "Three centres or more.", many=True)}

    def evaluate(self, given: StepContext) -> Outcome:
        """A `Circle` by least squares on the distances; facts: diameter, farthest off."""
        points = coordinates(given.many("points", Point), 3)
        middle = points.mean(axis=0)
        u, v = (points - middle)[:, :2].T
        spread = np.linalg.svd(np.column_stack([u, v]), compute_uv=False)
        if spread[1] <= 1e-4 * spread[0] or spread[0] == 0.0:
            raise NotMeasured("the points lie on one line; no circle goes through them")
        design = np.column_stack([u, v, np.ones(u.size)])
        a, b, c = np.linalg.lstsq(design, u * u + v * v, rcond=None)[0]
        found = np.array([a / 2, b / 2, math.sqrt(max(c + (a * a + b * b) / 4, 0.0))])
        for _ in range(30):
            du, dv = u - found[0], v - found[1]
            far = np.maximum(np.hypot(du, dv), 1e-12)
            step = np.linalg.lstsq(
                np.column_stack([du / far, dv / far, np.ones(u.size)]), far - found[2], rcond=None
            )[0]
            found = found + step
            if float(np.abs(step).max()) < 1e-12:
                break
        off = float(np.abs(np.hypot(u - found[0], v - found[1]) - found[2]).max())
        circle = Circle(middle[0] + found[0], middle[1] + found[1], float(middle[2]), float(found[2]))
        facts = (("diameter", f"{2 * circle.radius:.4f} mm"), ("farthest off", f"{off:.4f} mm"))
        return Outcome(circle, facts)


@register
class FrameKind(Kind):
    """A coordinate system of the part, from datums: origin, direction of x, and plane."""

    kind: ClassVar = "frame"
    title: ClassVar = "Datum frame"
    glyph: ClassVar = "anchor"
    output: ClassVar = Frame
    inputs: ClassVar = {
        "origin": Input(Point, "origin", "The point where x and y are zero."),
        "towards": Input(Point, "x towards", "A point on the x axis, or a line along it."),
        "plane": Input(
            Plane, "on", "The plane z counts from; level through the origin without.", optional=True
        ),
    }

    turn: float = setting(0.0, "turned by", "Added to the direction of x.", unit="°", ge=-360.0, le=360.0)

    def evaluate(self, given: StepContext) -> Outcome:
        """A `Frame`; facts: place and direction."""
        origin, towards = given.one("origin", Point), given.one("towards", Point)
        plane = given.optional_input("plane", Plane)
        if isinstance(towards, Line):
            direction = towards.direction
        else:
            dx, dy = towards.x - origin.x, towards.y - origin.y
            if math.hypot(dx, dy) < 1e-6:
                raise NotMeasured("origin and direction are the same point; choose another one for x")
            direction = math.degrees(math.atan2(dy, dx))
        direction += self.turn
        at = origin if plane is None else plane.foot(origin)
        slopes = (0.0, 0.0) if plane is None else (plane.slope_x, plane.slope_y)
        frame = Frame.on(slopes, at.x, at.y, at.z, (direction + 180.0) % 360.0 - 180.0)
        facts = (("at", f"{frame.x:.3f}, {frame.y:.3f} mm"), ("direction of x", f"{frame.rotation:.3f}°"))
        return Outcome(frame, facts)

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """Its two axes."""
        axes = outcome.value.outward(np.array([(0.0, 0.0, 0.0), (10.0, 0.0, 0.0), (0.0, 5.0, 0.0)]))
        return Evidence((Polyline(axes[[2, 0, 1]], "anchor"),))


def coordinates(points: tuple[Point, ...], least: int) -> FloatArray:
    """(n, 3) of points. Raises `NotMeasured` when there are fewer than `least`."""
    if len(points) < least:
        raise NotMeasured(f"it has {len(points)} points and needs {least}; connect more")
    return np.array([(p.x, p.y, p.z) for p in points])


def element_marks(value: Point) -> tuple[Polyline, ...]:
    """A cross for a point, a stroke for a line, a ring for a circle."""
    if isinstance(value, Line):
        a, b = value.ends()
        return (Polyline(np.array([(a.x, a.y, a.z), (b.x, b.y, b.z)]), "fit"),)
    if isinstance(value, Circle):
        turn = np.linspace(0.0, 2 * np.pi, 73)
        x, y = value.x + value.radius * np.cos(turn), value.y + value.radius * np.sin(turn)
        return (Polyline(np.column_stack([x, y, np.full(73, value.z)]), "fit"),)
    px, py, pz = value.x, value.y, value.z
    return (
        Polyline(np.array([(px - CROSS, py, pz), (px + CROSS, py, pz)]), "fit"),
        Polyline(np.array([(px, py - CROSS, pz), (px, py + CROSS, pz)]), "fit"),
    )


def _point(at: FloatArray) -> Outcome:
    point = Point(*(float(c) for c in at))
    return Outcome(point, (("at", f"{point.x:.3f}, {point.y:.3f}, {point.z:.3f} mm"),))
