"""Marks and pictures: the evidence of a number as plain geometry, painted by whoever has a screen or a page.

Positions are (n, 3) float64 in mm in the coordinates of the scan.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, TypeAlias

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.geometry.elements import Point
from hemtra.core.maps.heightmap import Grid

Role: TypeAlias = Literal["used-data", "left-out", "fit", "anchor", "dimension"]


@dataclass(frozen=True)
class Region:
    """Points of the height map as a mask: mask (rows, cols) bool on `grid`."""

    grid: Grid
    mask: BoolArray
    role: Role


@dataclass(frozen=True)
class Polyline:
    """A line through points (n, 3) in mm."""

    points: FloatArray
    role: Role
    closed: bool = False


@dataclass(frozen=True)
class Dimension:
    """A dimension between two points, as on a drawing. `text` is what stands at its line."""

    start: Point
    end: Point
    text: str
    role: Role = "dimension"


@dataclass(frozen=True)
class Strokes:
    """Many short strokes: ends (n, 2, 3) in mm."""

    ends: FloatArray
    role: Role


@dataclass(frozen=True)
class Label:
    """A word at a place, as the number of an island."""

    at: Point
    text: str
    role: Role = "fit"


Mark: TypeAlias = Region | Polyline | Dimension | Strokes | Label


@dataclass(frozen=True)
class Histogram:
    """Counts of the values in a zone: edges (n + 1,), counts (n,), and of these the used ones (n,)."""

    title: str
    unit: str
    edges: FloatArray
    counts: FloatArray
    used: FloatArray


@dataclass(frozen=True)
class ResidualMap:
    """Deviations from a fit in mm, (rows, cols) float64, NaN where nothing was used; row 0 at the lowest y."""

    title: str
    values: FloatArray
    reach: float
    """Deviation in mm at which the colour is full."""


@dataclass(frozen=True)
class MatchPicture:
    """A contour about its centre, (n, 2) in mm, and which of its points were found, (n,)."""

    title: str
    points: FloatArray
    seen: BoolArray


@dataclass(frozen=True)
class Curve:
    """A curve: x and y (n,), with the places on x that were chosen and those that could have been.

    shares: how strong the candidates are, as shares of the strongest; a click on a weak one lowers the floor.

    along: unit of x. floor: share of the highest y, 0 to 1, below which nothing counts. place, share: the
    parameters that a click on a place, and a drag of the floor, set; `taken` are what the click sets besides,
    and `origin` is the x that the place counts from.
    """

    title: str
    x: FloatArray
    y: FloatArray
    chosen: tuple[float, ...]
    unit: str
    along: str = "mm"
    candidates: tuple[float, ...] = ()
    shares: tuple[float, ...] = ()
    floor: float | None = None
    place: str = ""
    share: str = ""
    taken: tuple[tuple[str, str], ...] = ()
    origin: float = 0.0


Picture: TypeAlias = Histogram | ResidualMap | MatchPicture | Curve


@dataclass(frozen=True)
class Evidence:
    """Marks that explain one step."""

    marks: tuple[Mark, ...] = ()
    picture: Picture | None = None
