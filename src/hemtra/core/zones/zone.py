"""Zones: where in the scan a feature looks."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Sequence
from typing import Annotated, Any, Literal, Self, TypeAlias

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.paths.curve import PathCurve, Turn, curve_through
from hemtra.core.zones.kernels import ellipse_spans, near_line, rectangle_spans

Coordinate = Annotated[float, Field(allow_inf_nan=False, ge=-1e6, le=1e6)]
Share = Annotated[float, Field(allow_inf_nan=False, ge=-0.5, le=0.5)]
Length = Annotated[float, Field(allow_inf_nan=False, gt=0, le=1e6)]

ELLIPSE_CORNERS = 72
"""Corners of the polygon an ellipse is drawn with."""
MOST_NODES, MOST_PIECES = 500, 64
EDGE_SLACK = 1e-6
"""Rounding margin of the edges of a zone's pieces, mm."""
SAMPLED = 400
"""Points along either side of the grid that finds the area of a zone with pieces."""


class Band(BaseModel):
    """Heights in mm between which a zone looks, above a surface; without one of the ends, all that way.

    above: that surface as x, y, z of a point of it and its slopes along x and y. It comes from what the zone
    follows; z = 0 of the station where it follows nothing.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    low: Coordinate | None = None
    high: Coordinate | None = None
    above: tuple[Coordinate, Coordinate, Coordinate, Coordinate, Coordinate] = (0.0, 0.0, 0.0, 0.0, 0.0)

    @model_validator(mode="after")
    def _has_room(self) -> Self:
        if self.low is None and self.high is None:
            raise ValueError("a height band needs a lower or an upper end")
        if self.low is not None and self.high is not None and self.low >= self.high:
            raise ValueError(
                f"the height band must end above where it starts, not {self.low:g}–{self.high:g} mm"
            )
        return self

    def holds(self, x: FloatArray, y: FloatArray, z: FloatArray) -> BoolArray:
        """Mask of the points in it; those without data are not ruled out."""
        x0, y0, z0, slope_x, slope_y = self.above
        height = z - (z0 + slope_x * (x - x0) + slope_y * (y - y0))
        low, high = (-np.inf if self.low is None else self.low), (np.inf if self.high is None else self.high)
        return ~((height < low) | (height > high))

    @property
    def words(self) -> str:
        """Describe the band: “3 to 4 mm”, “above 3 mm”."""
        if self.low is None:
            return f"below {self.high:g} mm"
        return f"above {self.low:g} mm" if self.high is None else f"{self.low:g} to {self.high:g} mm"


class _Zone(BaseModel, ABC):
    """Centre, size and rotation shared by all zones; the height map's z does not matter to them.

    add and cut are pieces of the zone: what one of `add` holds belongs to it, what one of `cut` holds does not.
    Pieces lie in the zone's own coordinates, so that they move and turn with it.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    x: Coordinate
    y: Coordinate
    width: Length
    height: Length
    rotation: Annotated[float, Field(allow_inf_nan=False, ge=-3600, le=3600)] = 0.0
    add: Annotated[tuple[Zone, ...], Field(max_length=MOST_PIECES)] = ()
    cut: Annotated[tuple[Zone, ...], Field(max_length=MOST_PIECES)] = ()
    band: Band | None = None

    @model_validator(mode="after")
    def _pieces_are_plain(self) -> Self:
        if any(piece.add or piece.cut or piece.band for piece in (*self.add, *self.cut)):
            raise ValueError("an added area cannot have added areas or a height band of its own")
        return self

    @abstractmethod
    def base_area(self) -> float:
        """Area of the zone without its pieces, mm²."""

    @abstractmethod
    def base_outline(self) -> FloatArray:
        """(n, 2) polygon in the zone's own coordinates, counter-clockwise, not closed."""

    @abstractmethod
    def base_contains(self, u: FloatArray, v: FloatArray) -> BoolArray:
        """Mask of the places inside, in the zone's own coordinates, pieces apart."""

    @property
    def area(self) -> float:
        """mm²; with pieces, counted on a grid."""
        if not self.add and not self.cut:
            return self.base_area()
        wx, wy = self.half_extent()
        x = self.x + wx * (2 * (np.arange(SAMPLED) + 0.5) / SAMPLED - 1)
        y = self.y + wy * (2 * (np.arange(SAMPLED) + 0.5) / SAMPLED - 1)
        inside = np.count_nonzero(self.contains(x[None, :], y[:, None]))
        return max(4 * wx * wy * inside / SAMPLED**2, 1e-9)

    def outline(self) -> FloatArray:
        """(n, 2) polygon in mm, counter-clockwise, not closed; without pieces."""
        return self.outward(*self.base_outline().T)

    def inner_outlines(self) -> list[FloatArray]:
        """(n, 2) polygons in mm of what is cut out and added."""
        return [self.outward(*piece.outline().T) for piece in (*self.cut, *self.add)]

    def half_extent(self) -> tuple[float, float]:
        """Half size along x and y of the box about the centre that holds the zone, mm."""
        added = [self.outward(*piece.outline().T) for piece in self.add]
        reach = [np.abs(part - (self.x, self.y)).max(axis=0) for part in (self.outline(), *added)]
        wx, wy = np.max(reach, axis=0)
        return float(wx), float(wy)

    def fills_its_box(self) -> bool:
        """Whether every point of the box along x and y is inside."""
        return False

    def spans(self, y: FloatArray) -> tuple[FloatArray, FloatArray] | None:
        """First and last x in mm inside, on lines at y (n,) in mm; None where it is not one span a line."""
        return None

    def contains(self, x: FloatArray, y: FloatArray) -> BoolArray:
        """Mask of the positions in mm that are inside."""
        u, v = self.local(x, y)
        inside = self.base_contains(u, v)
        for piece in self.add:
            inside = inside | piece.contains(u, v)
        for piece in self.cut:
            inside = inside & ~piece.contains(u, v)
        return inside

    def local(self, x: FloatArray, y: FloatArray) -> tuple[FloatArray, FloatArray]:
        """x, y in mm seen in the zone: origin in its centre, x along its width."""
        if self.rotation == 0.0:  # keeps a row of x and a column of y as they are, a map's worth less work
            return x - self.x, y - self.y
        c, s = self._turn()
        return c * (x - self.x) + s * (y - self.y), c * (y - self.y) - s * (x - self.x)

    def _turn(self) -> tuple[float, float]:
        """Cosine and sine of its rotation."""
        return math.cos(math.radians(self.rotation)), math.sin(math.radians(self.rotation))

    def outward(self, u: FloatArray, v: FloatArray) -> FloatArray:
        """(n, 2) positions in mm of points given in the zone."""
        c, s = self._turn()
        return np.column_stack([self.x + c * u - s * v, self.y + s * u + c * v])

    def corners(self) -> FloatArray:
        """(4, 2) corners of the bounding rectangle in the zone's own directions, counter-clockwise."""
        w, h = self.width / 2, self.height / 2
        return self.outward(np.array([-w, w, w, -w]), np.array([-h, -h, h, h]))


class RectangleZone(_Zone):
    """A rectangle, turned about its centre."""

    shape: Literal["rectangle"] = "rectangle"

    def base_area(self) -> float:
        """Area, mm²."""
        return self.width * self.height

    def base_outline(self) -> FloatArray:
        """Its corners."""
        w, h = self.width / 2, self.height / 2
        return np.array([(-w, -h), (w, -h), (w, h), (-w, h)])

    def half_extent(self) -> tuple[float, float]:
        """Exact, since what fills its box is cut out of the map as it is."""
        if self.add:
            return super().half_extent()
        c, s = _abs_cos_sin(self.rotation)
        return (c * self.width + s * self.height) / 2, (s * self.width + c * self.height) / 2

    def fills_its_box(self) -> bool:
        """Along x and y it does."""
        return self.rotation % 90.0 == 0.0 and not self.add and not self.cut

    def spans(self, y: FloatArray) -> tuple[FloatArray, FloatArray] | None:
        """Between its two pairs of parallel sides."""
        if self.add or self.cut:
            return None
        return rectangle_spans(y, (self.x, self.y), self._turn(), (self.width / 2, self.height / 2))

    def base_contains(self, u: FloatArray, v: FloatArray) -> BoolArray:
        """Within half its size either way."""
        return (np.abs(u) <= self.width / 2) & (np.abs(v) <= self.height / 2)


class EllipseZone(_Zone):
    """An ellipse, or a circle when width and height agree."""

    shape: Literal["ellipse"] = "ellipse"

    def base_area(self) -> float:
        """Area, mm²."""
        return math.pi / 4 * self.width * self.height

    def base_outline(self) -> FloatArray:
        """A polygon with many corners."""
        angle = np.linspace(0.0, 2 * np.pi, ELLIPSE_CORNERS, endpoint=False)
        return np.column_stack([self.width / 2 * np.cos(angle), self.height / 2 * np.sin(angle)])

    def half_extent(self) -> tuple[float, float]:
        """Exact, since the polygon it is drawn with lies inside it."""
        if self.add:
            return super().half_extent()
        c, s = _abs_cos_sin(self.rotation)
        return math.hypot(c * self.width, s * self.height) / 2, math.hypot(s * self.width, c * self.height) / 2

    def spans(self, y: FloatArray) -> tuple[FloatArray, FloatArray] | None:
        """Between the two roots of its equation."""
        if self.add or self.cut or type(self) is not EllipseZone:
            return None
        return self.roots(y)

    def roots(self, y: FloatArray, share: float = 1.0) -> tuple[FloatArray, FloatArray]:
        """First and last x in mm on lines at y (n,) of an ellipse that is a share of this size."""
        return ellipse_spans(y, (self.x, self.y), self._turn(), (share * self.width, share * self.height))

    def base_contains(self, u: FloatArray, v: FloatArray) -> BoolArray:
        """Within the ellipse."""
        return (u / (self.width / 2)) ** 2 + (v / (self.height / 2)) ** 2 <= 1.0


class RingZone(EllipseZone):
    """An ellipse with a smaller one cut out of its middle."""

    shape: Literal["ring"] = "ring"  # type: ignore[assignment]
    inner: Annotated[float, Field(gt=0.0, lt=1.0)] = 0.5
    """Size of the hole as a share of the whole."""

    def base_area(self) -> float:
        """Area, mm²."""
        return super().base_area() * (1.0 - self.inner**2)

    def base_contains(self, u: FloatArray, v: FloatArray) -> BoolArray:
        """Between the two ellipses."""
        r = (u / (self.width / 2)) ** 2 + (v / (self.height / 2)) ** 2
        return (r <= 1.0) & (r >= self.inner**2)

    def inner_outlines(self) -> list[FloatArray]:
        """The hole, and the pieces."""
        return [self.outward(*(self.inner * self.base_outline()).T), *super().inner_outlines()]


class PolygonZone(_Zone):
    """A polygon: its nodes as shares of width and height, from -0.5 to 0.5 about the centre."""

    shape: Literal["polygon"] = "polygon"
    nodes: Annotated[tuple[tuple[Share, Share], ...], Field(min_length=3, max_length=MOST_NODES)]

    @model_validator(mode="after")
    def _does_not_cross_itself(self) -> Self:
        if _crosses(np.array(self.nodes)):
            raise ValueError("a polygon must not cross itself; move the node that does")
        return self

    @classmethod
    def through(cls, points: FloatArray) -> PolygonZone:
        """The polygon through (n, 2) places in mm. Raises `ValueError` when it crosses itself."""
        low, high = points.min(axis=0), points.max(axis=0)
        size, middle = np.maximum(high - low, 1e-6), (low + high) / 2
        nodes = tuple((float(u), float(v)) for u, v in (points - middle) / size)
        return cls(x=middle[0], y=middle[1], width=size[0], height=size[1], nodes=nodes)

    def base_area(self) -> float:
        """mm², by the shoelace formula."""
        u, v = self.base_outline().T
        return abs(float(np.dot(u, np.roll(v, -1)) - np.dot(v, np.roll(u, -1)))) / 2

    def base_outline(self) -> FloatArray:
        """Its nodes."""
        outline: FloatArray = np.array(self.nodes) * (self.width, self.height)
        return outline

    def base_contains(self, u: FloatArray, v: FloatArray) -> BoolArray:
        """Whether a line to the right crosses its border an odd number of times."""
        u, v = np.broadcast_arrays(u, v)
        inside = np.zeros(u.shape, np.bool_)
        corners = self.base_outline()
        for (ua, va), (ub, vb) in zip(corners, np.roll(corners, -1, axis=0), strict=True):
            if va == vb:
                continue
            crosses = ((va > v) != (vb > v)) & (u < ua + (v - va) * (ub - ua) / (vb - va))
            inside ^= crosses
        return inside


class PathNode(BaseModel):
    """A node of a path: where it lies, as shares of width and height, and how the path goes through it.

    corner: mm of the radius that a corner is rounded with. nominal: what is requested here, in the unit of what
    is measured along the path, where that differs from place to place.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    u: Share
    v: Share
    turn: Turn = "corner"
    corner: Annotated[float, Field(allow_inf_nan=False, ge=0.0, le=1e4)] = 0.0
    nominal: Annotated[float, Field(allow_inf_nan=False, ge=-1e6, le=1e6)] | None = None


class PathZone(_Zone):
    """A curve along the part, and how far across it is looked: `across` mm in all, half to either side."""

    shape: Literal["path"] = "path"
    nodes: Annotated[tuple[PathNode, ...], Field(min_length=2, max_length=MOST_NODES)]
    closed: bool = False
    across: Annotated[float, Field(gt=0.0, le=1000.0)] = 8.0

    @classmethod
    def through(cls, points: FloatArray, like: Sequence[PathNode] = (), **fields: Any) -> PathZone:
        """The path through (n, 2) places in mm; `like` says the rest of each node."""
        low, high = points.min(axis=0), points.max(axis=0)
        size, middle = np.maximum(high - low, 1e-6), (low + high) / 2
        shares = np.clip((points - middle) / size, -0.5, 0.5)
        plain = [PathNode(u=float(u), v=float(v)) for u, v in shares]
        nodes = tuple(
            node.model_copy(update={"u": at.u, "v": at.v})
            for node, at in zip(like or plain, plain, strict=True)
        )
        return cls(x=middle[0], y=middle[1], width=size[0], height=size[1], nodes=nodes, **fields)

    def node_places(self) -> FloatArray:
        """(n, 2) the nodes as they lie, in mm."""
        u, v = np.array([(n.u, n.v) for n in self.nodes]).T
        return self.outward(u * self.width, v * self.height)

    def curve(self) -> PathCurve:
        """The line through its nodes. Raises `NotMeasured` where they make none."""
        nodes = self.nodes
        return curve_through(
            self.node_places(), [n.turn for n in nodes], [n.corner for n in nodes], closed=self.closed
        )

    def base_area(self) -> float:
        """Area of the band along it, mm²."""
        places = self.base_outline()
        return max(float(np.hypot(*np.diff(places, axis=0).T).sum()), 1e-3) * self.across

    def base_outline(self) -> FloatArray:
        """Its line, or its nodes where they make none."""
        try:
            places = self.curve().places
        except NotMeasured:
            places = self.node_places()
        return np.column_stack(self.local(*places.T))

    def half_extent(self) -> tuple[float, float]:
        """With room for what lies across."""
        wx, wy = super().half_extent()
        return wx + self.across / 2, wy + self.across / 2

    def base_contains(self, u: FloatArray, v: FloatArray) -> BoolArray:
        """Within half its width across of the line, drawn coarsely."""
        u, v = np.broadcast_arrays(u, v)
        line = self.base_outline()
        line = line[np.unique(np.linspace(0, len(line) - 1, min(len(line), 200)).astype(int))]
        whole, other = (np.ascontiguousarray(np.atleast_2d(c)) for c in (u, v))
        flat = near_line(whole, other, line, self.across / 2)
        return np.asarray(flat.reshape(u.shape))


AnyZone: TypeAlias = RectangleZone | EllipseZone | RingZone | PolygonZone | PathZone
Zone: TypeAlias = Annotated[AnyZone, Field(discriminator="shape")]
for _kind in (RectangleZone, EllipseZone, RingZone, PolygonZone, PathZone):
    _kind.model_rebuild()


def _crosses(nodes: FloatArray) -> bool:
    """Whether any two sides of a closed polygon (n, 2) that are no neighbours meet."""
    a, b = nodes, np.roll(nodes, -1, axis=0)

    def side(p: FloatArray, q: FloatArray, r: FloatArray) -> FloatArray:
        turn: FloatArray = (q[..., 0] - p[..., 0]) * (r[..., 1] - p[..., 1]) - (q[..., 1] - p[..., 1]) * (
            r[..., 0] - p[..., 0]
        )
        return turn

    p, q, r, t = a[:, None], b[:, None], a[None], b[None]
    meet = (side(p, q, r) * side(p, q, t) < 0) & (side(r, t, p) * side(r, t, q) < 0)
    return bool(meet.any())


def _abs_cos_sin(degrees: float) -> tuple[float, float]:
    quarter, rest = divmod(degrees, 90.0)
    c, s = math.cos(math.radians(rest)), math.sin(math.radians(rest))
    return (c, s) if quarter % 2 == 0 else (s, c)
