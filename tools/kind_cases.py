"""Analytic surfaces for every kind: what is measured on them, minus what is true."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import scipy

from hemtra import HeightMap
from hemtra.core.characteristics.against_reference import FillKind, SurfaceDeviationKind
from hemtra.core.characteristics.along import AlongKind
from hemtra.core.characteristics.angle import TiltKind
from hemtra.core.characteristics.continuity import ContinuityKind
from hemtra.core.characteristics.coplanarity import CoplanarityKind
from hemtra.core.characteristics.distance import DistanceKind
from hemtra.core.characteristics.formula import FormulaKind
from hemtra.core.characteristics.height import HeightKind, StepKind
from hemtra.core.characteristics.plane_distance import PlaneDistanceKind
from hemtra.core.characteristics.position import PositionKind, TruePositionKind
from hemtra.core.characteristics.relations import AngleKind, GapKind, ParallelismKind, WidthKind
from hemtra.core.characteristics.sizes import AreaKind, VolumeKind
from hemtra.core.features.arc import ArcKind
from hemtra.core.features.bead import BeadKind
from hemtra.core.features.circle import CircleKind
from hemtra.core.features.constructed import IntersectionKind, ProjectionKind
from hemtra.core.features.corner import CornerKind
from hemtra.core.features.deviation import DeviationKind
from hemtra.core.features.dome import DomeKind
from hemtra.core.features.edge import EdgeKind
from hemtra.core.features.groove import GrooveKind
from hemtra.core.features.island import IslandKind
from hemtra.core.features.opening import EllipseKind, SlotKind
from hemtra.core.features.path import PathKind
from hemtra.core.features.plane import PlaneKind
from hemtra.core.features.profile_edge import ProfileEdgeKind
from hemtra.core.features.profile_line import ProfileLevelKind, ProfileLineKind
from hemtra.core.features.section import SectionKind
from hemtra.core.features.spot import SpotKind
from hemtra.core.geometry.elements import LEVEL
from hemtra.core.geometry.outline_fit import rounded_distance
from hemtra.core.plan.kind import Kind, StepContext
from hemtra.core.zones.zone import AnyZone, EllipseZone, PathZone, RectangleZone

PITCH, NOISE, QUANTUM = 0.1, 0.008, 0.001
X, Y = np.meshgrid((np.arange(241) - 120) * PITCH, (np.arange(201) - 100) * PITCH)
HEIGHT, EDGE, ROUND, ANGLE = 0.001, 0.05 * PITCH, 0.02 * PITCH, 0.005
"""What noise-free values may be off: mm, mm, mm and degrees."""
BLUR = 0.12
"""mm of the standard deviation of the light spot that softens every edge."""


@dataclass(frozen=True)
class Case:
    """A kind on a surface: `error(rng, noise)` draws the surface and tells measured minus true, in `unit`."""

    name: str
    unit: str
    bound: float | None
    error: Callable[[np.random.Generator, float], float]
    skewed: bool = False
    """Whether noise only ever adds to it, as to everything that is greatest minus least."""


def scan(z, rng: np.random.Generator, noise: float) -> HeightMap:
    """The surface as a sensor with some noise (times that of the Sim 130) gives it."""
    if noise:
        z = np.round((z + noise * NOISE * rng.standard_normal(z.shape)) / QUANTUM) * QUANTUM
    return HeightMap(np.asarray(z, np.float32), dx=PITCH, dy=PITCH, x0=float(X[0, 0]), y0=float(Y[0, 0]))


def soft(inside):
    """0 outside to 1 inside of an edge, softened by the light spot."""
    return 0.5 * (1.0 + scipy.special.erf(inside / (BLUR * math.sqrt(2.0))))


def turned(x, y, degrees):
    """The plane seen from a place, turned."""
    c, s = math.cos(math.radians(degrees)), math.sin(math.radians(degrees))
    return c * (X - x) + s * (Y - y), c * (Y - y) - s * (X - x)


def pose(rng, *, tilt=2.0):
    """Place in mm, direction in degrees, and slopes of what lies there."""
    slopes = np.tan(np.radians(rng.uniform(-tilt, tilt, 2)))
    return rng.uniform(-0.7, 0.7), rng.uniform(-0.7, 0.7), rng.uniform(-40, 40), *slopes


def measured(kind: Kind, data: HeightMap, zone: AnyZone | None = None, *, taught=None, **inputs):
    """The value of a kind."""
    wired = {name: (v if isinstance(v, tuple) else (v,)) for name, v in inputs.items()}
    return kind.evaluate(StepContext(data, zone, wired, taught=taught or {})).value


def box(x, y, width, height, turn=0.0) -> RectangleZone:
    """A rectangle."""
    return RectangleZone(x=x, y=y, width=width, height=height, rotation=turn)


# -- heights and planes ----------------------------------------------------------------------------


def _spot(rng, noise):
    _, _, _, a, b = pose(rng)
    data = scan(1.5 + a * X + b * Y, rng, noise)
    spot = measured(SpotKind(), data, EllipseZone(x=1.03, y=-2.01, width=4, height=4))
    return spot.z - (1.5 + a * spot.x + b * spot.y)


def _raised(rng, noise):
    """Two levels on a tilted datum, 2 mm apart square to it."""
    x, y, turn, a, b = pose(rng)
    u, _ = turned(x, y, turn)
    square = math.sqrt(1 + a * a + b * b)
    data = scan(a * X + b * Y + 2.0 * square * soft(u), rng, noise)
    c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    upper = measured(SpotKind(), data, EllipseZone(x=x + 4 * c, y=y + 4 * s, width=4, height=4))
    lower = measured(SpotKind(), data, EllipseZone(x=x - 4 * c, y=y - 4 * s, width=4, height=4))
    plane = measured(PlaneKind(), data, box(x - 4.5 * c, y - 4.5 * s, 6, 10, turn))
    return data, upper, lower, plane


def _height(rng, noise):
    data, upper, _, plane = _raised(rng, noise)
    return measured(HeightKind(), data, point=upper, plane=plane).value - 2.0


def _step(rng, noise):
    data, upper, lower, plane = _raised(rng, noise)
    return measured(StepKind(), data, upper=upper, lower=lower, plane=plane).value - 2.0


def _projection(rng, noise):
    data, upper, _, plane = _raised(rng, noise)
    foot = measured(ProjectionKind(), data, point=upper, plane=plane)
    return measured(DistanceKind(), data, start=upper, end=foot).value - 2.0


def _tilt(rng, noise):
    _, _, _, a, b = pose(rng)
    data = scan(a * X + b * Y, rng, noise)
    plane = measured(PlaneKind(), data, box(0.4, -0.7, 14, 11))
    return measured(TiltKind(), data, plane=plane).value - math.degrees(math.atan(math.hypot(a, b)))


def _parallelism(rng, noise):
    _, _, _, a, b = pose(rng)
    data = scan(a * X + b * Y, rng, noise)
    plane = measured(PlaneKind(), data, box(0, 0, 12, 8))
    value = measured(ParallelismKind(), data, plane=plane, datum=LEVEL).value
    return value - 12 * abs(a) - 8 * abs(b)


def _coplanarity(rng, noise):
    """Four spots, two of them 0.1 mm higher across from each other: no plane comes nearer than 0.05."""
    _, _, _, a, b = pose(rng, tilt=0.5)
    data = scan(a * X + b * Y + np.where(X * Y > 0, 0.1, 0.0), rng, noise)
    places = [(6, 5), (-6, 5), (-6, -5), (6, -5)]
    spots = tuple(measured(SpotKind(), data, EllipseZone(x=x, y=y, width=4, height=4)) for x, y in places)
    return measured(CoplanarityKind(), data, points=spots).value - 0.1 / math.sqrt(1 + a * a + b * b)


def _planes(rng, noise, climb=0.0):
    """Two levels 2 mm apart, the upper one steeper by `climb` across the step; both planes, 6 by 10 mm."""
    x, y, turn, a, b = pose(rng)
    u, _ = turned(x, y, turn)
    square = math.sqrt(1 + a * a + b * b)
    c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    data = scan(a * X + b * Y + square * (2.0 + climb * (u - 4.5)) * soft(u), rng, noise)
    upper, lower = (
        measured(PlaneKind(), data, box(x + k * 4.5 * c, y + k * 4.5 * s, 6, 10, turn)) for k in (1, -1)
    )
    return data, upper, lower


def _plane_distance(rng, noise):
    data, upper, lower = _planes(rng, noise)
    return measured(PlaneDistanceKind(), data, plane=upper, datum=lower).value - 2.0


def _planes_parallelism(rng, noise):
    data, upper, lower = _planes(rng, noise, climb=0.02)
    return measured(ParallelismKind(), data, plane=upper, datum=lower).value - 6.0 * 0.02


def _formula(rng, noise):
    data, upper, lower, plane = _raised(rng, noise)
    heights = tuple(measured(HeightKind(), data, point=point, plane=plane) for point in (upper, lower))
    return measured(FormulaKind(text="(a - b) * 3"), data, numbers=heights).value - 6.0


def _deviation(rng, noise):
    """0.1 mm higher than the reference on a fifth of the zone, of which half the cells reach further."""
    x, y, turn, a, b = pose(rng)
    u, v = turned(x, y, turn)
    flat = a * X + b * Y
    inside = np.minimum(3.4 - np.abs(u), 3.4 - np.abs(v))
    zone, kind = box(x, y, 14, 12, turn), DeviationKind()
    reference = HeightMap(flat.astype(np.float32), dx=PITCH, dy=PITCH, x0=float(X[0, 0]), y0=float(Y[0, 0]))
    taught = kind.teach(StepContext(reference, zone))
    data = scan(flat + 0.1 * soft(inside), rng, noise)
    found = measured(kind, data, zone, taught=taught)
    return measured(SurfaceDeviationKind(take="percentile", percentile=90.0), data, of=found).value - 0.1


def _fill(rng, noise):
    x, y, turn, *_ = pose(rng)
    u, _ = turned(x, y, turn)
    zone = EllipseZone(x=x, y=y, width=12, height=12)
    return measured(FillKind(level=0.5), scan(soft(u), rng, noise), zone).value - 50.0


# -- edges and rims --------------------------------------------------------------------------------


def _edge_at(rng, noise):
    x, y, turn, a, b = pose(rng, tilt=1.0)
    u, _ = turned(x, y, turn)
    data = scan(a * X + b * Y + 2.0 * soft(u), rng, noise)
    return data, x, y, turn, measured(EdgeKind(), data, box(x + 0.2, y - 0.1, 5, 8, turn + 3.0))


def _edge(rng, noise):
    _, x, y, turn, edge = _edge_at(rng, noise)
    c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    return c * (edge.x - x) + s * (edge.y - y)


def _edge_direction(rng, noise):
    *_, turn, edge = _edge_at(rng, noise)
    return (edge.direction - turn - 90.0 + 90.0) % 180.0 - 90.0


def _two_edges(rng, noise, spread=0.0):
    """A bar 6 mm wide, whose sides are `spread` degrees apart."""
    x, y, turn, _, _ = pose(rng)
    c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    one, _ = turned(x - 3 * c, y - 3 * s, turn)
    other, _ = turned(x + 3 * c, y + 3 * s, turn + spread)
    data = scan(2.0 * soft(np.minimum(one, -other)), rng, noise)
    edges = [
        measured(EdgeKind(), data, box(x + k * 3 * c, y + k * 3 * s, 3, 7, turn + (spread if k > 0 else 0)))
        for k in (-1, 1)
    ]
    return data, edges, (x, y, turn)


def _width(rng, noise):
    data, (one, other), _ = _two_edges(rng, noise)
    return measured(WidthKind(), data, one=one, other=other).value - 6.0


def _edge_angle(rng, noise):
    data, (one, other), _ = _two_edges(rng, noise, spread=25.0)
    return measured(AngleKind(), data, line=one, to=other).value - 25.0


def _intersection(rng, noise):
    data, (one, other), (x, y, turn) = _two_edges(rng, noise, spread=60.0)
    point = measured(IntersectionKind(), data, line=one, other=other)
    c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    # on the first side, where the second one, 6 mm beyond and 60° apart, crosses it
    along = -6.0 * math.cos(math.radians(60)) / math.sin(math.radians(60))
    true = x - 3 * c + along * s, y - 3 * s - along * c
    return min(math.dist((point.x, point.y), p) for p in (true, (x - 3 * c - along * s, y - 3 * s + along * c)))


def _hole(rng, noise):
    x, y, _, a, b = pose(rng, tilt=1.0)
    # round in the plane of its tilted rim
    off = np.hypot(np.hypot(X - x, Y - y), a * (X - x) + b * (Y - y))
    data = scan(a * X + b * Y - 2.0 * soft(4.0 - off), rng, noise)
    zone = EllipseZone(x=x + 0.2, y=y - 0.1, width=12, height=12)
    return data, x, y, measured(CircleKind(change="rises", least_step=1), data, zone)


def _diameter(rng, noise):
    *_, circle = _hole(rng, noise)
    return 2 * circle.radius - 8.0


def _centre(rng, noise):
    data, x, _, circle = _hole(rng, noise)
    return measured(PositionKind(axis="x"), data, point=circle).value - x


def _true_position(rng, noise):
    data, x, y, circle = _hole(rng, noise)
    return measured(TruePositionKind(x=x + 0.3, y=y - 0.4), data, point=circle).value - 1.0


def _ellipse(rng, noise):
    x, y, turn, _, _ = pose(rng)
    u, v = turned(x, y, turn)
    value = np.maximum(np.hypot(u / 5.0, v / 3.0), 1e-9)
    inside = (1 - value) * value / np.maximum(np.hypot(u / 25.0, v / 9.0), 1e-9)
    zone = EllipseZone(x=x, y=y, width=14, height=14)
    kind = EllipseKind(change="rises", least_step=1)
    return measured(kind, scan(-2.0 * soft(inside), rng, noise), zone).length - 10.0


def _slot(rng, noise):
    x, y, turn, _, _ = pose(rng)
    places = np.column_stack([part.ravel() for part in turned(x, y, turn)])
    inside = -rounded_distance(places, np.array([0, 0, 5.0, 3.0, 0.0, 1.5])).reshape(X.shape)
    zone = EllipseZone(x=x, y=y, width=14, height=14)
    kind = SlotKind(change="rises", least_step=1)
    return measured(kind, scan(-2.0 * soft(inside), rng, noise), zone).width - 6.0


def _island(rng, noise):
    x, y, *_ = pose(rng)
    data = scan(1.0 * soft(4.0 - np.hypot(X - x, Y - y)), rng, noise)
    return data, measured(IslandKind(level=0.5), data, EllipseZone(x=0, y=0, width=14, height=14))


def _area(rng, noise):
    data, island = _island(rng, noise)
    return measured(AreaKind(), data, of=island).value - math.pi * 16.0


def _volume(rng, noise):
    """Above half its height, with the edge that the light spot makes."""
    true, _ = scipy.integrate.quad(lambda r: 2 * math.pi * r * (soft(4.0 - r) - 0.5), 0.0, 4.0)
    data, island = _island(rng, noise)
    return measured(VolumeKind(), data, of=island).value - true


# -- rounded surfaces ------------------------------------------------------------------------------


def _ball(rng, noise):
    x, y, *_ = pose(rng)
    z = np.sqrt(np.maximum(15.0**2 - (X - x) ** 2 - (Y - y) ** 2, 0.0))
    return measured(DomeKind(), scan(z, rng, noise), EllipseZone(x=x, y=y, width=12, height=12)).radius - 15.0


def _cylinder(rng, noise):
    x, y, turn, *_ = pose(rng)
    _, v = turned(x, y, turn)
    data = scan(np.sqrt(np.maximum(8.0**2 - v**2, 0.0)), rng, noise)
    return measured(DomeKind(shape="cylinder"), data, box(x, y, 12, 7, turn)).radius - 8.0


# -- sections --------------------------------------------------------------------------------------


def cut(rng, noise, profile, width=3.0):
    """A section square across what runs along, whose height over x is `profile`, in any direction."""
    x, y, turn, *_ = pose(rng)
    u, _ = turned(x, y, turn)
    data = scan(profile(u), rng, noise)
    return data, measured(SectionKind(), data, box(x, y, 16, width, turn))


def _level_on(rng, noise):
    data, section = cut(rng, noise, lambda u: 1.0 + 2.0 * soft(u))
    return measured(ProfileLevelKind(), data, box(4, 3, 5, 2), section=section).z - 3.0


def _crossing(rng, noise):
    data, section = cut(rng, noise, lambda u: 2.0 * soft(u - 0.3))
    kind = ProfileEdgeKind(by="level", level=1.0)
    return _along(section, measured(kind, data, box(0, 1, 6, 4), section=section)) - 0.3


def _steepest(rng, noise):
    data, section = cut(rng, noise, lambda u: 2.0 * soft(u - 0.3))
    return _along(section, measured(ProfileEdgeKind(), data, box(0, 1, 6, 4), section=section)) - 0.3


def _along(section, point):
    turn = math.radians(section.direction)
    return math.cos(turn) * (point.x - section.at[0]) + math.sin(turn) * (point.y - section.at[1])


def _line_on(rng, noise):
    climb = math.tan(math.radians(20.0))
    data, section = cut(rng, noise, lambda u: climb * u)
    line = measured(ProfileLineKind(), data, box(0, 0, 10, 12), section=section)
    return measured(AngleKind(), data, line=line).value - 20.0


def _arc_radius(rng, noise):
    data, section = cut(rng, noise, lambda u: np.sqrt(np.maximum(6.0**2 - u * u, 0.0)))
    return measured(ArcKind(), data, box(0, 5, 8, 6), section=section).radius - 6.0


def _groove(rng, noise):
    """2 mm deep with a floor 3 mm wide and flanks of 45°: 5 mm wide half way down."""
    data, section = cut(rng, noise, lambda u: 5.0 - np.clip(3.5 - np.abs(u), 0.0, 2.0))
    return measured(GrooveKind(floor="flat"), data, box(0, 4, 14, 6), section=section)


def _groove_depth(rng, noise):
    return _groove(rng, noise).depth - 2.0


def _groove_width(rng, noise):
    return _groove(rng, noise).width - 5.0


def _corner(rng, noise):
    climb = math.tan(math.radians(35.0))
    data, section = cut(rng, noise, lambda u: np.where(u < 0.4, 0.0, -climb * (u - 0.4)))
    return _along(section, measured(CornerKind(), data, box(0, -1, 8, 6), section=section)) - 0.4


def _slit(rng, noise, take):
    """Two edges rounded by 2 mm, 1.5 mm apart, the right one 0.2 mm higher."""

    def profile(u):
        left = -2.0 + np.sqrt(np.maximum(4.0 - np.clip(u + 2.75, 0.0, 2.0) ** 2, 0.0))
        right = -1.8 + np.sqrt(np.maximum(4.0 - np.clip(2.75 - u, 0.0, 2.0) ** 2, 0.0))
        return np.where(u <= -0.75, left, np.where(u >= 0.75, right, np.nan))

    data, section = cut(rng, noise, profile)
    left = measured(ArcKind(), data, box(-2.0, -0.55, 1.3, 1.2), section=section)
    right = measured(ArcKind(), data, box(2.0, -0.35, 1.3, 1.2), section=section)
    return measured(GapKind(take=take), data, left=left, right=right).value


def _paste(rng, noise):
    """A bead 1 mm high and 3 mm wide, 1.5 mm on top, 0.2 mm to the right of a path of 10 mm."""
    x, y, turn, a, b = pose(rng)
    u, _ = turned(x, y, turn)
    high = np.clip((1.5 - np.abs(u - 0.2)) / 0.75, 0.0, 1.0)
    data = scan(a * X + b * Y + high, rng, noise)
    c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    ends = np.array([(x + k * 5 * s, y - k * 5 * c) for k in (1, -1)])
    path = measured(PathKind(), data, PathZone.through(ends, across=12.0))
    return data, measured(BeadKind(), data, path=path)


def _bead_size(what):
    true = {"width": 3.0, "height": 1.0, "area": 2.25, "offset": 0.2}[what]

    def error(rng, noise):
        data, bead = _paste(rng, noise)
        return measured(AlongKind(what=what, take="mean"), data, of=bead).value - true

    return error


def _bead_volume(rng, noise):
    data, bead = _paste(rng, noise)
    return measured(ContinuityKind(take="volume"), data, of=bead).value - 22.5


CASES = (
    Case("spot, height", "mm", HEIGHT, _spot),
    Case("height above a plane", "mm", HEIGHT, _height),
    Case("step square to a plane", "mm", HEIGHT, _step),
    Case("projection on a plane, distance", "mm", HEIGHT, _projection),
    Case("plane, tilt", "°", ANGLE, _tilt),
    Case("parallelism of a plane", "mm", HEIGHT, _parallelism),
    Case("distance of two planes", "mm", HEIGHT, _plane_distance),
    Case("parallelism of two planes", "mm", HEIGHT, _planes_parallelism, skewed=True),
    Case("formula of two heights", "mm", HEIGHT, _formula),
    Case("deviation from the reference", "mm", HEIGHT, _deviation),
    Case("coplanarity of four spots", "mm", HEIGHT, _coplanarity, skewed=True),
    Case("edge line, place", "mm", EDGE, _edge),
    Case("edge line, direction", "°", ANGLE, _edge_direction),
    Case("width of two edges", "mm", EDGE, _width),
    Case("angle of two edges", "°", ANGLE, _edge_angle),
    Case("intersection of two edges", "mm", HEIGHT, _intersection, skewed=True),
    Case("circle, diameter", "mm", ROUND, _diameter),
    Case("circle, position of the centre", "mm", EDGE, _centre),
    Case("true position of a circle", "mm", HEIGHT * 0.3, _true_position),
    Case("ellipse, length", "mm", EDGE, _ellipse),
    Case("slot, width", "mm", EDGE, _slot),
    Case("island, area", "mm²", 0.1, _area),
    Case("island, volume", "mm³", 0.01, _volume),
    Case("filled share", "%", 0.1, _fill),
    Case("sphere, radius", "mm", ROUND, _ball),
    Case("cylinder, radius", "mm", ROUND, _cylinder),
    Case("level on a section", "mm", HEIGHT, _level_on),
    Case("edge on a section, crossing of a level", "mm", EDGE, _crossing),
    Case("edge on a section, steepest change", "mm", EDGE, _steepest),
    Case("line on a section, angle", "°", ANGLE, _line_on),
    Case("arc on a section, radius", "mm", ROUND, _arc_radius),
    Case("groove, depth", "mm", HEIGHT, _groove_depth),
    Case("groove, width", "mm", EDGE, _groove_width),
    Case("corner, place", "mm", EDGE, _corner),
    Case("gap of rounded edges", "mm", HEIGHT, lambda rng, noise: _slit(rng, noise, "lateral") - 1.5),
    Case("flush of rounded edges", "mm", HEIGHT, lambda rng, noise: _slit(rng, noise, "flush") - 0.2),
    Case("bead, width", "mm", 0.05, _bead_size("width")),
    Case("bead, height", "mm", HEIGHT, _bead_size("height"), skewed=True),
    Case("bead, section area", "mm²", 0.005, _bead_size("area")),
    Case("bead, offset", "mm", EDGE, _bead_size("offset")),
    Case("bead, volume", "mm³", 0.05, _bead_volume),
)
