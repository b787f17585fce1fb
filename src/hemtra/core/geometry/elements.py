"""Points, planes and numbers: the values that steps hand to each other."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any, ClassVar, TypeAlias, overload

import numpy as np

from hemtra.core.arrays import FloatArray

Triple: TypeAlias = tuple[float, float, float]


@dataclass(frozen=True, slots=True)
class Point:
    """A position in mm."""

    gives: ClassVar[frozenset[str]] = frozenset({"x", "y", "z"})
    """The axes on which zones can follow it."""

    x: float
    y: float
    z: float

    @property
    def place(self) -> Triple:
        """x, y and z."""
        return self.x, self.y, self.z


@dataclass(frozen=True, slots=True)
class Line(Point):
    """A straight line in mm: its middle, and its direction seen from above.

    direction: degrees counter-clockwise from x. climb: rise in mm per mm along the direction. length: of the
    piece that was seen, in mm.
    """

    gives: ClassVar[frozenset[str]] = frozenset({"x", "y", "z", "rotation"})

    direction: float
    length: float
    climb: float = 0.0

    @property
    def along(self) -> tuple[float, float]:
        """Unit vector of its direction, seen from above."""
        return math.cos(math.radians(self.direction)), math.sin(math.radians(self.direction))

    @property
    def unit(self) -> tuple[float, float, float]:
        """Unit vector of its direction in space."""
        ux, uy = self.along
        size = np.sqrt(1.0 + self.climb * self.climb)
        return ux / size, uy / size, self.climb / size

    @property
    def vector(self) -> FloatArray:
        """(3,) unit vector of its direction in space."""
        return np.array(self.unit)

    @property
    def origin(self) -> FloatArray:
        """(3,) its middle in mm."""
        return np.array([self.x, self.y, self.z])

    def ends(self) -> tuple[Point, Point]:
        """Ends of the piece with data."""
        ux, uy = self.along
        half = self.length / 2
        return (
            Point(self.x - half * ux, self.y - half * uy, self.z - half * self.climb),
            Point(self.x + half * ux, self.y + half * uy, self.z + half * self.climb),
        )


@dataclass(frozen=True, slots=True)
class Round(Point):
    """Round element about a centre; radius in mm."""

    radius: float


@dataclass(frozen=True, slots=True)
class Circle(Round):
    """A circle seen from above."""


@dataclass(frozen=True, slots=True)
class Arc(Round):
    """A circle that stands upright in a section; direction of the section in degrees.

    span: degrees of it that were seen.
    """

    direction: float
    span: float


@dataclass(frozen=True, slots=True)
class Plane:
    """A plane that is not vertical: z = z0 + slope_x (x - x0) + slope_y (y - y0), lengths in mm."""

    gives: ClassVar[frozenset[str]] = frozenset({"z", "tilt"})

    x0: float
    y0: float
    z0: float
    slope_x: float
    slope_y: float

    @property
    def normal(self) -> tuple[float, float, float]:
        """Unit normal, pointing up to the sensor."""
        length = math.sqrt(1.0 + self.slope_x**2 + self.slope_y**2)
        return (-self.slope_x / length, -self.slope_y / length, 1.0 / length)

    @property
    def tilt(self) -> float:
        """Angle between the normal and z in degrees, 0 to 90."""
        return math.degrees(math.atan(math.hypot(self.slope_x, self.slope_y)))

    @overload
    def height_at(self, x: float, y: float) -> float: ...
    @overload
    def height_at(self, x: FloatArray, y: FloatArray) -> FloatArray: ...
    def height_at(self, x: float | FloatArray, y: float | FloatArray) -> float | FloatArray:
        """z of the plane at x, y in mm."""
        return self.z0 + self.slope_x * (x - self.x0) + self.slope_y * (y - self.y0)

    def distance(self, point: Point) -> float:
        """Perpendicular distance of a point in mm, positive above the plane."""
        return (point.z - self.height_at(point.x, point.y)) * self.normal[2]

    def foot(self, point: Point) -> Point:
        """The point of the plane nearest to a given one."""
        along = self.distance(point)
        nx, ny, nz = self.normal
        return Point(point.x - along * nx, point.y - along * ny, point.z - along * nz)

    def angle_to(self, other: Plane) -> float:
        """Angle between the two planes' normals in degrees, 0 to 90."""
        return angle_between(self.normal, other.normal)


def length_of(x: Any, y: Any, z: Any) -> Any:
    """Length of a vector, or of lanes of them."""
    return np.sqrt(x * x + y * y + z * z)


def angle_between(a: Triple, b: Triple) -> float:
    """Acute angle between two directions in degrees; atan2 keeps its digits at small angles, acos does not.

    Of lanes of directions, lanes of angles.
    """
    x, y, z = a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]
    acute: float = np.degrees(np.arctan2(length_of(x, y, z), abs(a[0] * b[0] + a[1] * b[1] + a[2] * b[2])))
    return acute


LEVEL = Plane(0.0, 0.0, 0.0, 0.0, 0.0)
"""z = 0 of the station."""


@dataclass(frozen=True, slots=True)
class Number:
    """A measured quantity with its unit and the place on the part where its balloon points."""

    value: float
    unit: str
    at: Point
    text: str = ""
    """Text that was read; the value then is the share of it that is right, 0 to 1."""
