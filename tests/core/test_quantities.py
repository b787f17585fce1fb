"""Constructed features and quantities against analytic truth, and formulas."""

import math

import numpy as np
import pytest
import scipy.ndimage
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from test_anchors import PITCH, X, Y, local, relief

from examples import examples
from hemtra import HeightMap, NotMeasured
from hemtra.core.characteristics.against_reference import FillKind, SurfaceDeviationKind
from hemtra.core.characteristics.contour_form import RoundnessKind, StraightnessKind
from hemtra.core.characteristics.distance import DistanceKind
from hemtra.core.characteristics.form import FlatnessKind, minimum_zone
from hemtra.core.characteristics.formula import FormulaKind
from hemtra.core.characteristics.position import PositionKind, TruePositionKind
from hemtra.core.characteristics.relations import GapKind, ParallelismKind, WidthKind
from hemtra.core.characteristics.sizes import (
    AreaKind,
    CountKind,
    DataShareKind,
    DiameterKind,
    VolumeKind,
)
from hemtra.core.detection.island_kernels import runs_of
from hemtra.core.errors import HemtraError
from hemtra.core.features.circle import CircleKind
from hemtra.core.features.constructed import (
    FrameKind,
    HolePatternKind,
    IntersectionKind,
    LineThroughKind,
    MidpointKind,
    OffsetLineKind,
    OffsetPlaneKind,
    PlaneThroughKind,
    ProjectionKind,
)
from hemtra.core.features.deviation import DeviationKind
from hemtra.core.features.edge import EdgeKind
from hemtra.core.features.island import IslandKind
from hemtra.core.features.plane import PlaneKind
from hemtra.core.geometry.elements import LEVEL, Arc, Circle, Line, Number, Plane, Point
from hemtra.core.geometry.frames import Frame
from hemtra.core.plan.expressions import parse_formula
from hemtra.core.plan.kind import StepContext
from hemtra.core.plan.series import MeasuredAlong, Series
from hemtra.core.plan.usual_limits import form_limits, usual_limits
from hemtra.core.zones.zone import RectangleZone, RingZone

ORIGIN = Point(0.0, 0.0, 0.0)
near = st.floats(-20, 20)
apart = st.integers(-20_000, 20_000).map(lambda micrometres: micrometres / 1000)
turns = st.floats(-180, 180)


def value(kind, **inputs):
    """The value of a kind without data."""
    given_ = {name: v if isinstance(v, tuple) else (v,) for name, v in inputs.items()}
    return kind.evaluate(StepContext(None, None, given_)).value


def line(x, y, direction, z=0.0, climb=0.0, length=10.0):
    return Line(x, y, z, direction, length, climb)


@given(near, near, turns, turns)
def test_two_lines_meet_on_both(x, y, one, other):
    assume(abs(math.sin(math.radians(one - other))) > 0.02)
    a, b = line(x, y, one, 1.0), line(y, -x, other, 3.0)
    p = value(IntersectionKind(), line=a, other=b)
    for held in (a, b):
        ux, uy = held.along
        assert abs((p.x - held.x) * uy - (p.y - held.y) * ux) < 1e-6
    assert p.z == pytest.approx(2.0)
    with pytest.raises(NotMeasured, match="parallel"):
        value(IntersectionKind(), line=a, other=line(0, 0, one + 180))
    with pytest.raises(NotMeasured, match="choose a line or a plane"):
        value(IntersectionKind(), line=a)


@given(near, near, near, st.floats(-0.5, 0.5), st.floats(-0.5, 0.5))
def test_projections_are_square_to_what_they_fall_on(x, y, z, slope_x, slope_y):
    plane, point = Plane(1.0, 2.0, 3.0, slope_x, slope_y), Point(x, y, z)
    foot = value(ProjectionKind(), point=point, plane=plane)
    assert plane.distance(foot) == pytest.approx(0.0, abs=1e-9)
    held = line(3.0, -1.0, 25.0, 2.0, slope_x)
    foot = value(ProjectionKind(), point=point, line=held)
    away = np.array([x - foot.x, y - foot.y, z - foot.z])
    assert abs(float(away @ held.vector)) < 1e-9
    meets = value(IntersectionKind(), line=line(x, y, 70.0, z, 1.0), plane=plane)
    assert plane.distance(meets) == pytest.approx(0.0, abs=1e-7)


@given(st.lists(st.tuples(near, near, near), min_size=3, max_size=9), near, near)
def test_means_lines_and_planes_through_points(places, slope_x, slope_y):
    points = tuple(Point(*p) for p in places)
    middle = value(MidpointKind(), points=points)
    assert (middle.x, middle.y, middle.z) == tuple(pytest.approx(c) for c in np.mean(places, axis=0))
    flat = np.array(places)[:, :2]
    spread = np.linalg.svd(flat - flat.mean(axis=0), compute_uv=False)
    assume(spread[1] > 0.1)
    exact = Plane(1.0, 1.0, 1.0, slope_x / 20, slope_y / 20)
    lifted = tuple(Point(x, y, exact.height_at(x, y)) for x, y, _ in places)
    plane = value(PlaneThroughKind(), points=lifted)
    assert (plane.slope_x, plane.slope_y) == (
        pytest.approx(exact.slope_x, abs=1e-7),
        pytest.approx(exact.slope_y, abs=1e-7),
    )
    (x0, y0, _), (x1, y1, _) = places[0], places[1]
    assume(math.dist((x0, y0), (x1, y1)) > 0.1)
    through = value(LineThroughKind(), points=points[:2])
    for p in points[:2]:
        foot = value(ProjectionKind(), point=p, line=through)
        assert math.dist((foot.x, foot.y, foot.z), (p.x, p.y, p.z)) < 1e-6
    assert through.length == pytest.approx(math.dist((x0, y0), (x1, y1)), abs=1e-6)


def test_points_that_span_nothing_make_nothing():
    row = tuple(Point(float(k), 2.0 * k, 0.0) for k in range(5))
    for kind in (PlaneThroughKind(), HolePatternKind()):
        with pytest.raises(NotMeasured, match="on one line"):
            value(kind, points=row)
    with pytest.raises(NotMeasured, match="coincide"):
        value(LineThroughKind(), points=(ORIGIN, ORIGIN))
    with pytest.raises(NotMeasured, match="above each other"):
        value(LineThroughKind(), points=(ORIGIN, Point(0.0, 0.0, 5.0)))
    with pytest.raises(NotMeasured, match="needs 3; connect more"):
        value(PlaneThroughKind(), points=row[:2])
    with pytest.raises(NotMeasured, match="same point"):
        value(FrameKind(), origin=ORIGIN, towards=ORIGIN)


@given(near, near, st.floats(1, 50), st.lists(turns, min_size=3, max_size=8, unique=True))
def test_a_ring_of_holes_lies_on_its_circle(x, y, radius, angles):
    angles = np.sort(np.radians(angles))
    gaps = np.append(np.diff(angles), angles[0] + 2 * np.pi - angles[-1])
    assume(gaps.max() < 4.0 and np.sort(gaps)[-3] > 0.2)
    points = tuple(Point(x + radius * math.cos(a), y + radius * math.sin(a), 1.0) for a in angles)
    circle = value(HolePatternKind(), points=points)
    assert (circle.x, circle.y, circle.radius) == tuple(pytest.approx(v, abs=1e-6) for v in (x, y, radius))
    assert value(DiameterKind(), of=circle).value == pytest.approx(2 * radius)


@given(near, near, turns, st.floats(-0.1, 0.1), st.floats(-0.1, 0.1), near, near)
def test_a_point_keeps_its_place_in_a_frame_that_moves_with_it(x, y, turn, slope_x, slope_y, u, v):
    pose = Frame(x, y, 3.0, turn, math.degrees(slope_x), math.degrees(slope_y))
    corners = pose.outward(np.array([(0, 0, 0), (10, 0, 0), (u, v, 0.5), (0, 10, 0)], float))
    origin, towards, point, _ = (Point(*map(float, p)) for p in corners)
    sx, sy = pose.slopes
    frame = value(
        FrameKind(), origin=origin, towards=towards, plane=Plane(origin.x, origin.y, origin.z, sx, sy)
    )
    seen = [value(PositionKind(axis=axis), point=point, frame=frame).value for axis in ("x", "y", "z", "r")]
    assert seen == [pytest.approx(c, abs=1e-6) for c in (u, v, 0.5, math.hypot(u, v))]
    off = value(TruePositionKind(x=u - 0.03, y=v + 0.04), point=point, frame=frame).value
    assert off == pytest.approx(0.1, abs=1e-6)


@given(turns, st.floats(-5, 5), st.floats(-0.2, 0.2))
def test_parallel_lines_and_planes_keep_their_distance(direction, offset, slope):
    first = line(1.0, 2.0, direction)
    other = value(OffsetLineKind(offset=offset), line=first)
    assert value(WidthKind(), one=first, other=other).value == pytest.approx(abs(offset), abs=1e-9)
    square = value(OffsetLineKind(turn="square"), line=first, point=ORIGIN)
    assert abs(float(square.vector @ first.vector)) < 1e-9
    plane = Plane(0.0, 0.0, 1.0, slope, -slope)
    lifted = value(OffsetPlaneKind(offset=offset), plane=plane)
    assert plane.distance(Point(3.0, 4.0, lifted.height_at(3.0, 4.0))) == pytest.approx(offset, abs=1e-9)
    level = value(OffsetPlaneKind(offset=2.0), point=Point(1.0, 1.0, 5.0))
    assert (level.height_at(9.0, 9.0), level.tilt) == (7.0, 0.0)


def test_a_wedge_of_edges_has_its_least_and_greatest_width():
    one, other = line(0, 0, 0, length=10), line(0, 5, 180 - 2, length=10)
    least, mean, greatest = (
        value(WidthKind(take=t), one=one, other=other).value for t in ("least", "mean", "greatest")
    )
    assert mean == pytest.approx(5.0, abs=0.01)
    assert greatest - least == pytest.approx(10 * math.tan(math.radians(2)), rel=0.02)
    with pytest.raises(NotMeasured, match="side by side"):
        value(WidthKind(), one=one, other=line(0, 5, 80))
    with pytest.raises(NotMeasured, match="do not overlap"):
        value(WidthKind(), one=one, other=line(30, 5, 0))


@settings(deadline=None, max_examples=examples(10))
@given(st.floats(0.15, 0.4), st.floats(3, 20))
def test_form_is_found_through_sampling(bow, turn):
    """An edge bowed by a parabola, and a rim with three lobes, on a map of points."""
    u, v = local(0, 0, turn)
    data = relief(np.where(u < bow * (v / 5.0) ** 2, 2.0, 0.0))
    zone = RectangleZone(x=0, y=0, width=6, height=10, rotation=turn)
    edge = EdgeKind(least_seen=30).evaluate(StepContext(data, zone)).value
    straight = value(StraightnessKind(cell=0.5), edge=edge).value
    assert straight == pytest.approx(bow, abs=PITCH)
    lobed = relief(np.where(np.hypot(u, v) < 5.0 + bow / 2 * np.cos(3 * np.arctan2(v, u)), 2.0, 0.0))
    rim = CircleKind().evaluate(StepContext(lobed, RingZone(x=0, y=0, width=16, height=16, inner=0.3))).value
    assert value(RoundnessKind(cell=1.0), circle=rim).value == pytest.approx(bow, abs=PITCH)


@settings(deadline=None)
@given(st.lists(st.tuples(apart, apart, st.floats(-1, 1)), min_size=5, max_size=40, unique=True), near, near)
def test_the_minimum_zone_is_no_wider_than_any_other(places, slope_x, slope_y):
    u, v, w = np.array(places).T
    assume(np.linalg.svd(np.column_stack([u - u.mean(), v - v.mean()]), compute_uv=False)[1] > 1.0)

    def width(a, b):
        return float(np.ptp(w - a * u - b * v))

    zone = minimum_zone(u, v, w)
    least_squares = np.linalg.lstsq(np.column_stack([u, v, np.ones(u.size)]), w, rcond=None)[0]
    for other in (least_squares[:2], (slope_x / 20, slope_y / 20), (0.0, 0.0), *(zone + 1e-3 * np.eye(2))):
        assert width(*zone) <= width(*other) + 1e-9


def test_a_saddle_is_flatter_by_its_zone_than_by_least_squares():
    zone = RectangleZone(x=3, y=2, width=20, height=10)
    plane = PlaneKind(trim=0).evaluate(StepContext(relief(1e-3 * X * X + 2e-3 * X * Y + 0.02 * X), zone)).value
    by = {
        method: FlatnessKind(method=method)
        .evaluate(StepContext(relief(1e-3 * X * X + 2e-3 * X * Y + 0.02 * X), None, {"surfaces": (plane,)}))
        .value.value
        for method in ("least squares", "minimum zone")
    }
    assert 0.5 * by["least squares"] < by["minimum zone"] < by["least squares"]


def test_planes_and_edges_are_evaluated_against_their_datums():
    zone = RectangleZone(x=0, y=0, width=20, height=10)
    tilted = PlaneKind().evaluate(StepContext(relief(0.01 * X + 1.0), zone)).value
    inputs = {"plane": (tilted,), "datum": (LEVEL,)}
    width = ParallelismKind().evaluate(StepContext(relief(0.01 * X + 1.0), None, inputs)).value.value
    assert width == pytest.approx(0.2, abs=1e-4)
    u, _ = local(0, 0, 3.0)
    zone = RectangleZone(x=0, y=0, width=6, height=10)
    edge = EdgeKind().evaluate(StepContext(relief(np.where(u < 0, 2.0, 0.0)), zone)).value
    off = value(ParallelismKind(turn="square"), edge=edge, to=line(0, 0, 0)).value
    assert off == pytest.approx(edge.length * math.sin(math.radians(3.0)), abs=0.02)
    with pytest.raises(NotMeasured, match="connect a plane"):
        value(ParallelismKind(), edge=edge)


def test_islands_are_counted_chosen_and_weighed():
    z = np.zeros(X.shape)
    for x, y, size, height in ((-10, 0, 3.0, 1.0), (0, 5, 2.0, 2.0), (8, -6, 1.0, 1.0)):
        z = np.where((np.abs(X - x) < size) & (np.abs(Y - y) < size), height, z)
    grey = np.where(z > 1.5, 200, 50).astype(np.uint8)
    data = HeightMap(z, grey, 0.1, 0.1, -20, -15)
    zone = RectangleZone(x=0, y=0, width=38, height=28)

    def island(**params):
        return IslandKind(**params).evaluate(StepContext(data, zone)).value

    found = island(level=0.5)
    assert (value(CountKind(), of=found).value, found.x, found.y) == (
        3.0,
        pytest.approx(-10),
        pytest.approx(0, abs=0.01),
    )
    assert value(AreaKind(), of=found).value == pytest.approx(36 + 16 + 4, rel=0.07)
    volume = 0.5 * 36 + 1.5 * 16 + 0.5 * 4
    assert value(VolumeKind(), of=found).value == pytest.approx(volume, rel=0.07)
    assert island(number=3).x == pytest.approx(8, abs=0.01)
    assert value(CountKind(), of=island(least_area=10)).value == 2.0
    assert island(greatest_area=20).x == pytest.approx(0, abs=0.01)
    assert island(side="brightness", darkest=100).y == pytest.approx(5, abs=0.01)
    with pytest.raises(NotMeasured, match="only 3 regions"):
        island(number=4)
    with pytest.raises(NotMeasured, match="no intensity"):
        IslandKind(side="brightness", darkest=9).evaluate(StepContext(relief(z), zone))


def test_the_share_of_data_is_measured_also_where_there_is_none():
    data = relief(np.where(X > 0, 1.0, np.nan))
    for x, share in ((10, 100.0), (0, 50.0), (-10, 0.0)):
        found = DataShareKind().evaluate(StepContext(data, RectangleZone(x=x, y=0, width=8, height=8)))
        assert found.value.value == pytest.approx(share, abs=1)


@given(st.floats(0.1, 50), st.floats(0.1, 50), st.floats(-80, 80))
def test_formulas_calculate_as_written(a, b, angle):
    def found(text):
        return parse_formula(text).value({"a": a, "b": b, "t": angle})

    assert found("(a + b) / 2") == pytest.approx(found("mean(a, b)"))
    assert found("sqrt(a^2)") == pytest.approx(a)
    assert found("atan(tan(t))") == pytest.approx(angle, abs=1e-6)
    assert found("a if a > b else b") == found("max(a, b)") == pytest.approx(max(a, b))
    assert found("-a + 2 * b - 1e-3") == pytest.approx(2 * b - a - 1e-3)
    assert found("1 < 2 <= 2 and not_zero if 0 else 7".replace("not_zero", "a")) == 7.0


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("__import__('os')", "no function __import__"),
        ("a.real", "numbers, names"),
        ("[a]", "numbers, names"),
        ("'x'", "numbers, names"),
        ("open(a)", "no function open"),
        ("a +", "is no formula"),
        ("", "is no formula"),
        ("min()", "at least one"),
        ("sqrt(a, b)", "takes 1"),
        ("max", "is a function"),
        ("(" * 300 + "a" + ")" * 300, r"at most|no formula|nested"),
        ("-" * 60 + "a", "nested too deeply"),
    ],
)
def test_nothing_but_arithmetic_is_a_formula(text, message):
    with pytest.raises(HemtraError, match=message):
        parse_formula(text)
    with pytest.raises(ValueError, match=r"."):
        FormulaKind(text=text)


@pytest.mark.parametrize(
    ("text", "message"),
    [("a / (a - a)", "divides by zero"), ("c", "names c"), ("sqrt(-a)", "no value"), ("9^9^9^9", "no value")],
)
def test_formulas_without_a_value_say_so(text, message):
    with pytest.raises(NotMeasured, match=message):
        value(FormulaKind(text=text), numbers=(Number(2.0, "mm", ORIGIN),))


def test_a_formula_notes_units_that_do_not_go_together():
    numbers = (Number(2.0, "mm", ORIGIN), Number(3.0, "°", ORIGIN))
    outcome = FormulaKind(text="a + b").evaluate(StepContext(None, None, {"numbers": numbers}))
    assert (outcome.value.value, outcome.value.unit) == (5.0, "mm")
    assert "mixes" in outcome.note
    assert value(FormulaKind(text="a * a", result="mm²"), numbers=numbers).unit == "mm²"
    assert value(FormulaKind(text="2 * a"), numbers=Number(1.0, "%", ORIGIN)).unit == "%"
    assert value(DiameterKind(), of=Circle(0.0, 0.0, 0.0, 2.0)).value == 4.0


def test_a_dent_is_measured_against_the_reference_wherever_the_part_lies():
    """Taught on a wavy surface; on the part there is a dent of 0.4 mm, 3 mm wide, and some data is missing."""

    def wave(u, v):
        return 0.3 * np.sin(u / 4.0) + 0.02 * v

    zone = RectangleZone(x=0, y=0, width=20, height=14)
    kind = DeviationKind(cell=0.5)
    taught = kind.teach(StepContext(relief(wave(X, Y)), zone))
    u, v = local(1.5, -0.7, 25.0)
    dent = np.where(np.hypot(u - 3.0, v + 2.0) < 1.5, -0.4, 0.0)
    moved = zone.model_copy(update={"x": 1.5, "y": -0.7, "rotation": 25.0})
    base = Plane(0.0, 0.0, 2.0, 0.01, -0.02)
    lifted = relief(wave(u, v) + dent + base.height_at(X, Y), missing=0.02)
    found = kind.evaluate(StepContext(lifted, moved, base=base, taught=taught)).value
    assert value(SurfaceDeviationKind(), of=found).value == pytest.approx(0.4, abs=0.01)
    c, s = math.cos(math.radians(25)), math.sin(math.radians(25))
    assert math.hypot(found.x - (1.5 + 3 * c + 2 * s), found.y - (-0.7 + 3 * s - 2 * c)) < 1.6
    share = math.pi * 1.5**2 / (20 * 14) * 100
    assert value(SurfaceDeviationKind(take="beyond", limit=0.2), of=found).value == pytest.approx(
        share, rel=0.2
    )
    assert value(SurfaceDeviationKind(take="percentile", percentile=90), of=found).value < 0.01
    assert value(SurfaceDeviationKind(take="range"), of=found).value == pytest.approx(0.4, abs=0.02)
    with pytest.raises(NotMeasured, match="not been taught"):
        kind.evaluate(StepContext(lifted, moved))
    half = relief(np.where(u > 0, lifted.z, np.nan))
    with pytest.raises(NotMeasured, match=r"only \d+ % of the area seen on the reference"):
        DeviationKind(cell=0.5, least_data=80).evaluate(StepContext(half, moved, base=base, taught=taught))


def test_a_zone_is_filled_by_a_share():
    data = relief(np.where(X > 2.0, 1.0, 0.0))
    zone = RectangleZone(x=0, y=0, width=10, height=6)
    assert FillKind(level=0.5).evaluate(StepContext(data, zone)).value.value == pytest.approx(30.0, abs=1.5)
    below = FillKind(level=0.5, side="below", least_data=0).evaluate(StepContext(data, zone)).value.value
    assert below == pytest.approx(70.0, abs=1.5)


@settings(deadline=None, max_examples=examples(15))
@given(st.floats(-3, 3), st.floats(-3, 3), st.floats(3, 40))
def test_printed_edges_and_rings_are_found_by_brightness(x, y, turn):
    u, _ = local(x, y, turn)
    height = 0.01 * X + 2.0
    line = np.where(u < 0, 200, 60).astype(np.uint8)
    ring = np.where(np.hypot(X - x, Y - y) < 4.0, 60, 200).astype(np.uint8)
    zone = RectangleZone(x=x, y=y, width=8, height=8, rotation=turn)
    edge = (
        EdgeKind(on="brightness").evaluate(StepContext(HeightMap(height, line, 0.1, 0.1, -20, -15), zone)).value
    )
    off = (edge.x - x) * math.cos(math.radians(turn)) + (edge.y - y) * math.sin(math.radians(turn))
    assert abs(off) < 0.03
    assert edge.z == pytest.approx(2.0 + 0.01 * edge.x, abs=0.005)
    around = RingZone(x=x, y=y, width=12, height=12, inner=0.3)
    dark = CircleKind(on="brightness", change="rises")
    circle = dark.evaluate(StepContext(HeightMap(height, ring, 0.1, 0.1, -20, -15), around)).value
    assert math.hypot(circle.x - x, circle.y - y) < 0.03
    assert circle.radius == pytest.approx(4.0, abs=0.03)
    with pytest.raises(NotMeasured, match="no intensity"):
        dark.evaluate(StepContext(relief(height), around))
    with pytest.raises(NotMeasured, match="radial lines"):
        CircleKind(on="brightness", change="rises", least_contrast=200).evaluate(
            StepContext(HeightMap(height, ring, 0.1, 0.1, -20, -15), around)
        )


@settings(deadline=None)
@given(st.integers(1, 25), st.integers(1, 25), st.floats(0, 1), st.integers(0, 2**31))
def test_regions_are_those_of_a_labelling_of_all_points(rows, cols, share, seed):
    mask = np.random.default_rng(seed).random((rows, cols)) < share
    runs, region = runs_of(mask)
    mine = np.zeros(mask.shape, np.int64)
    for (row, first, last), number in zip(runs, region, strict=True):
        assert not mine[row, first : last + 1].any()
        mine[row, first : last + 1] = number + 1
    labels, count = scipy.ndimage.label(mask)
    assert ((mine > 0) == mask).all()
    assert len(set(zip(mine[mask], labels[mask], strict=True))) == count == len(np.unique(region))


@pytest.mark.parametrize(
    ("params", "expected"),
    [
        ({}, 5.0),
        ({"along": "x"}, 3.0),
        ({"along": "y", "signed": True}, -4.0),
        ({"along": "z", "signed": True}, 0.0),
        ({"along": "direction", "direction": 45.0, "signed": True}, -math.sqrt(0.5)),
        ({"along": "direction", "direction": 225.0}, math.sqrt(0.5)),
    ],
)
def test_distances_in_space_or_along_a_direction(params, expected):
    start, end = Point(1.0, 2.0, 7.0), Point(4.0, -2.0, 7.0)
    assert value(DistanceKind(**params), start=start, end=end).value == pytest.approx(expected)
    turned = Frame(x=50.0, rotation=90.0)
    if params.get("along") == "x":
        # x of a frame that is turned by 90° is y of the scan
        assert value(DistanceKind(**params), start=start, end=end, frame=turned).value == pytest.approx(4.0)


def test_a_gap_of_rounded_edges_at_a_depth():
    """Two edges rounded by 1 mm whose faces stand 2 mm apart."""
    left, right = Arc(-2.0, 0.0, -1.0, 1.0, 0.0, 90.0), Arc(2.0, 0.0, -1.0, 1.0, 0.0, 90.0)
    for depth in (0.1, 0.5, 1.0, 3.0):
        reach = math.sqrt(1 - (1 - min(depth, 1.0)) ** 2)
        found = value(GapKind(take="depth", depth=depth), left=left, right=right).value
        assert found == pytest.approx(4.0 - 2 * reach), depth


@given(st.floats(0.001, 3.0))
def test_a_proposed_limit_of_form_has_room_for_twice_what_the_part_shows(value):
    (upper,) = form_limits(Number(value, "mm", Point(0, 0, 0)), None).values()
    assert 2.0 * value - 1e-9 <= upper < 2.0 * value + 0.05 + 1e-9 or upper == 0.05
    assert upper / 0.05 == pytest.approx(round(upper / 0.05))


def test_proposed_limits_of_areas_are_in_hundredths():
    found = usual_limits(Number(12.3456, "mm²", Point(0, 0, 0)), None)
    assert found == {"nominal": 12.3, "lower": 11.07, "upper": 13.53}
    # data is missing, so that it may be up to 15: the tolerance has room for it
    found = usual_limits(Number(12.0, "mm²", Point(0, 0, 0)), (11.5, 15.0))
    assert found == {"nominal": 12.0, "lower": 8.4, "upper": 15.6}


@pytest.mark.parametrize(
    ("value", "unit", "room"),
    [(3000.0, "mm", 2.0), (9000.0, "mm", 2.0), (-20.0, "mm", 0.2), (30.0, "°", 0.5), (0.2, "mm", 0.1)],
)
def test_proposed_limits_of_lengths_and_angles_are_those_of_the_medium_class(value, unit, room):
    found = usual_limits(Number(value, unit, Point(0, 0, 0)), None)
    assert found == {
        "nominal": value,
        "lower": pytest.approx(value - room),
        "upper": pytest.approx(value + room),
    }


def test_limits_along_a_path_let_every_section_of_a_good_part_pass():
    values = np.array([2.99, 3.21, 2.97, np.nan, 3.02])
    series = Series(values, np.arange(5.0), np.zeros((5, 3)), {3: "not seen"}, "section")
    found = usual_limits(MeasuredAlong(3.0, "mm", Point(0, 0, 0), series=series), None)
    # half as much again as 0.21, in multiples of 0.05
    assert found == {"nominal": 3.0, "lower": 2.65, "upper": 3.35}
