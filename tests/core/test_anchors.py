"""Anchor kinds and the outline search against analytic truth."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from examples import examples
from hemtra import HeightMap, NotMeasured
from hemtra.core.features.circle import CircleKind
from hemtra.core.features.corner import CornerKind
from hemtra.core.features.edge import EdgeKind
from hemtra.core.features.extreme import ExtremeKind
from hemtra.core.features.instance import InstanceKind
from hemtra.core.features.island import IslandKind
from hemtra.core.features.outline import OutlineKind
from hemtra.core.features.section import SectionKind
from hemtra.core.geometry.elements import Plane
from hemtra.core.geometry.line_fit import robust_circle, robust_linear
from hemtra.core.plan.kind import StepContext
from hemtra.core.zones.zone import EllipseZone, RectangleZone, RingZone

PITCH = 0.1
X, Y = np.meshgrid(-20 + PITCH * np.arange(401), -15 + PITCH * np.arange(301))


def relief(z: np.ndarray, *, missing: float = 0.0, noise: float = 0.0, seed: int = 0) -> HeightMap:
    rng = np.random.default_rng(seed)
    z = z + rng.normal(0.0, noise, z.shape) if noise else z
    if missing:
        z = np.where(rng.random(z.shape) < missing, np.nan, z)
    return HeightMap(z, dx=PITCH, dy=PITCH, x0=-20, y0=-15)


def local(x: float, y: float, turn: float) -> tuple[np.ndarray, np.ndarray]:
    c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    return c * (X - x) + s * (Y - y), c * (Y - y) - s * (X - x)


def bracket(x: float, y: float, turn: float) -> np.ndarray:
    """An L-shaped plate with a hole, 2 mm high: it looks like itself in one rotation only."""
    u, v = local(x, y, turn)
    body = ((np.abs(u) < 7) & (np.abs(v + 2) < 2)) | ((np.abs(u + 5) < 2) & (np.abs(v) < 4))
    return np.where(body & (np.hypot(u - 4, v + 2) > 1.2), 2.0, 0.0)


@settings(deadline=None, max_examples=examples(25))
@given(st.floats(-3, 3), st.floats(-25, 25), st.booleans())
def test_an_edge_lies_where_it_was_drawn(offset, turn, rises):
    u, _ = local(offset, 0, turn)
    data = relief(np.where((u > 0) == rises, 1.5, 0.0), missing=0.05, noise=0.003)
    zone = RectangleZone(x=0, y=0, width=16, height=8, rotation=5)
    edge = EdgeKind(change="rises" if rises else "falls").evaluate(StepContext(data, zone)).value
    assert abs(math.cos(math.radians(turn)) * (edge.x - offset) + math.sin(math.radians(turn)) * edge.y) < 0.06
    assert abs((edge.direction - turn - 90 + 180) % 360 - 180) < 1.2
    assert edge.z == pytest.approx(1.5, abs=0.02)
    with pytest.raises(NotMeasured, match=r"an edge shows on \d of"):
        EdgeKind(change="falls" if rises else "rises").evaluate(StepContext(data, zone))


def test_an_edge_into_a_shadow_ends_where_the_data_ends():
    """On average over places, data that ends says the same as a step that is seen."""
    found = []
    for k in range(20):
        at = 0.3 + 0.1 * k * 0.37
        z = np.where(at > X, 3.0, np.where(at + 1.5 > X, np.nan, 0.0))
        edge = EdgeKind().evaluate(StepContext(relief(z), RectangleZone(x=0, y=0, width=8, height=6))).value
        found.append(edge.x - at)
    assert abs(np.mean(found)) < 0.012


@settings(deadline=None, max_examples=examples(20))
@given(st.floats(-1.5, 1.5), st.floats(-1.5, 1.5), st.floats(3.0, 5.0), st.booleans())
def test_a_rim_is_found_with_its_centre_and_radius(x, y, radius, hole):
    inside = np.hypot(X - x, Y - y) < radius
    data = relief(np.where(inside != hole, 2.0, 0.0) + 0.01 * X, missing=0.1, noise=0.003)
    zone = RingZone(x=0, y=0, width=14, height=14, inner=0.15)
    outcome = CircleKind(change="rises" if hole else "falls").evaluate(StepContext(data, zone))
    circle = outcome.value
    assert math.hypot(circle.x - x, circle.y - y) < 0.03
    assert circle.radius == pytest.approx(radius, abs=0.03)
    assert circle.z == pytest.approx(2.0 + 0.01 * x, abs=0.01)
    half = relief(np.where(x > X, np.where(inside != hole, 2.0, 0.0), np.nan))
    with pytest.raises(NotMeasured, match="one side only"):
        CircleKind(least_seen=10, change="rises" if hole else "falls").evaluate(StepContext(half, zone))


@settings(deadline=None, max_examples=examples(20))
@given(st.floats(-3, 3), st.floats(-3, 3), st.floats(-80, 80))
def test_an_island_has_a_centroid_an_area_and_a_direction(x, y, turn):
    u, v = local(x, y, turn)
    data = relief(np.where((np.abs(u) < 4) & (np.abs(v) < 1.5), 1.0, 0.0) + np.where(X > 17, 1.0, 0.0))
    island = IslandKind().evaluate(StepContext(data, RectangleZone(x=0, y=0, width=30, height=26))).value
    assert (island.x, island.y) == (pytest.approx(x, abs=0.06), pytest.approx(y, abs=0.06))
    assert island.area == pytest.approx(24.0, rel=0.06)
    assert abs((island.direction - turn + 90) % 180 - 90) < 1.5
    with pytest.raises(NotMeasured, match="nothing of at least 30 mm²"):
        IslandKind(least_area=30).evaluate(StepContext(data, RectangleZone(x=0, y=0, width=30, height=26)))


def roof(ridge: float) -> np.ndarray:
    """Two slopes that meet at x = ridge, 5 mm high."""
    return 5.0 - np.where(ridge > X, 0.3 * (ridge - X), 0.5 * (X - ridge))


@settings(deadline=None, max_examples=examples(15))
@given(st.floats(-2, 2))
def test_a_corner_is_where_two_flanks_meet(ridge):
    data = relief(roof(ridge), noise=0.002)
    cut = SectionKind().evaluate(StepContext(data, RectangleZone(x=1, y=2, width=16, height=1))).value
    corner = CornerKind().evaluate(StepContext(data, None, {"section": (cut,)})).value
    assert (corner.x, corner.y) == (pytest.approx(ridge, abs=0.01), pytest.approx(2))
    assert corner.z == pytest.approx(5.0, abs=0.005)
    flank = RectangleZone(x=5, y=3, width=5, height=8)
    with pytest.raises(NotMeasured, match=r"that is no corner|too short"):
        CornerKind().evaluate(StepContext(data, flank, {"section": (cut,)}))
    with pytest.raises(NotMeasured, match="only 0 points"):
        CornerKind().evaluate(
            StepContext(data, RectangleZone(x=0, y=90, width=5, height=8), {"section": (cut,)})
        )


def test_a_section_counts_from_what_its_zone_follows():
    data = relief(0.1 * X + 2.0)
    tilted = Plane(0.0, 0.0, 2.0, 0.1, 0.0)
    cut = (
        SectionKind()
        .evaluate(StepContext(data, RectangleZone(x=3, y=0, width=10, height=2), base=tilted))
        .value
    )
    assert np.nanmax(np.abs(cut.z)) < 1e-5
    # 1 mm square above the base, 2 mm along it from the middle of the zone
    point, size = cut.place(2.0, 1.0), math.hypot(1.0, 0.1)
    assert (point.x, point.z) == pytest.approx((3.0 + (2.0 - 0.1) / size, 2.0 + 0.3 + (0.2 + 1.0) / size))


@pytest.mark.parametrize(
    ("which", "truth"), [("left", (-6, None)), ("right", (6, None)), ("near", (None, -4)), ("far", (None, 4))]
)
def test_the_outermost_points_of_a_zone(which, truth):
    z = np.where((np.abs(X) < 6) & (np.abs(Y) < 4), 1.0, np.nan)
    zone = RectangleZone(x=0, y=0, width=30, height=25)
    point = ExtremeKind(which=which).evaluate(StepContext(relief(z), zone)).value
    for found, true in zip((point.x, point.y), truth, strict=True):
        assert true is None or found == pytest.approx(true, abs=0.11)


def test_the_highest_point_of_a_section():
    data = relief(roof(1.0))
    cut = (
        SectionKind()
        .evaluate(StepContext(data, RectangleZone(x=0, y=-3, width=20, height=0.5, rotation=0)))
        .value
    )
    top = ExtremeKind(which="highest", points=1).evaluate(StepContext(data, None, {"section": (cut,)})).value
    assert (top.x, top.y, top.z) == (pytest.approx(1, abs=0.06), pytest.approx(-3), pytest.approx(5, abs=0.03))
    with pytest.raises(NotMeasured, match="has no near and far"):
        ExtremeKind(which="near").evaluate(StepContext(data, None, {"section": (cut,)}))


@settings(deadline=None, max_examples=examples(40))
@given(st.floats(-5, 5), st.floats(-3, 3), st.floats(-180, 180), st.integers(0, 3))
def test_an_outline_is_found_wherever_it_lies(x, y, turn, hide):
    kind = OutlineKind(least_step=1.0)
    taught = kind.teach(StepContext(relief(bracket(0, 0, 7.0)), RectangleZone(x=0, y=0, width=18, height=12)))
    home = kind.evaluate(StepContext(relief(bracket(0, 0, 7.0)), None, taught=taught)).value
    z = bracket(x, y, turn)
    u, _ = local(x, y, turn)
    # one corner of the contour is hidden, or lies under something
    z = np.where((u > 5.5) & (hide == 1), np.nan, np.where((u > 5.5) & (hide == 2), 6.0, z))
    found = kind.evaluate(StepContext(relief(z, missing=0.03, noise=0.01), None, taught=taught)).value
    # beside the rows, sides sampled as one step of a pitch in their middles are all a grid may show of a turn;
    # a straight line through such a step has this slope, for sides of twice 7 and 4 mm
    steepest = math.degrees(0.75 * PITCH * (7**2 + 4**2) / (7**3 + 4**3))
    along_the_rows = abs((turn + 45.0) % 90.0 - 45.0) < 0.5
    off = abs((found.rotation - home.rotation - turn + 7 + 180) % 360 - 180)
    assert off < (steepest if along_the_rows else 0.6)
    a = math.radians(turn - 7.0)
    cx, cy = home.x, home.y
    true = x + math.cos(a) * cx - math.sin(a) * cy, y + math.sin(a) * cx + math.cos(a) * cy
    assert math.hypot(found.x - true[0], found.y - true[1]) < 0.1
    assert found.share > (0.95 if hide in (0, 3) else 0.6)


def test_sloped_flanks_are_found_on_a_map_that_is_finer_than_the_one_that_taught_them():
    """A plate of 40 × 16 mm, 2 mm high, whose flanks run out by 0.8 mm."""

    def plate(pitch: float) -> HeightMap:
        x, y = np.meshgrid(np.arange(-24, 24, pitch), np.arange(-12, 12, pitch))
        inside = np.minimum(20 - np.abs(x), np.where(x > 5, 4 - np.abs(y + 4), 8 - np.abs(y)))
        return HeightMap(2.0 * np.clip(inside / 0.8, 0.0, 1.0), dx=pitch, dy=pitch, x0=-24, y0=-12)

    kind = OutlineKind(least_step=1.0)
    taught = kind.teach(StepContext(plate(0.1), RectangleZone(x=0, y=0, width=46, height=22)))
    for pitch in (0.1, 0.05, 0.03):
        found = kind.evaluate(StepContext(plate(pitch), None, taught=taught)).value
        assert found.share > 0.98
        assert math.hypot(found.x, found.y) < 0.03


def test_no_place_and_two_places_are_no_place():
    kind = OutlineKind(least_step=1.0)
    taught = kind.teach(StepContext(relief(bracket(0, 0, 0)), RectangleZone(x=0, y=0, width=18, height=12)))
    with pytest.raises(NotMeasured, match="the outline was not found"):
        kind.evaluate(StepContext(relief(np.zeros_like(X)), None, taught=taught))
    far = OutlineKind(least_step=1.0, turn_from=-20, turn_to=20)
    with pytest.raises(NotMeasured, match="the outline was not found"):
        far.evaluate(StepContext(relief(bracket(0, 0, 90)), None, taught=taught))
    near = OutlineKind(least_step=1.0, reach=2.0)
    with pytest.raises(NotMeasured, match="the outline was not found"):
        near.evaluate(StepContext(relief(bracket(6, 5, 10)), None, taught=taught))
    square = np.where((np.abs(X) < 5) & (np.abs(Y) < 5), 2.0, 0.0)
    even = kind.teach(StepContext(relief(square), RectangleZone(x=0, y=0, width=14, height=14)))
    with pytest.raises(NotMeasured, match="two places match the outline equally well"):
        kind.evaluate(StepContext(relief(square), None, taught=even))
    with pytest.raises(NotMeasured, match="too little contour"):
        kind.teach(StepContext(relief(np.zeros_like(X)), RectangleZone(x=0, y=0, width=14, height=14)))


def test_several_instances_in_the_order_asked_for():
    def small(x, y):
        return np.where((np.abs(X - x) < 3) & (np.abs(Y - y) < 1.5) & (X - x + Y - y < 3), 2.0, 0.0)

    taught = OutlineKind().teach(StepContext(relief(small(0, 0)), RectangleZone(x=0, y=0, width=9, height=6)))
    data = relief(small(-10, 5) + small(1, -8) + small(11, 6), noise=0.005)
    kind = OutlineKind(count=5, order="x", turn_from=-30, turn_to=30)
    found = kind.evaluate(StepContext(data, None, taught=taught)).value
    places = [(f.x, f.y) for f in (found, *found.others)]
    assert len(places) == 3
    for place, true in zip(places, ((-10, 5), (1, -8), (11, 6)), strict=True):
        assert place == (pytest.approx(true[0], abs=0.15), pytest.approx(true[1], abs=0.15))
    third = InstanceKind(number=3).evaluate(StepContext(data, None, {"outline": (found,)})).value
    assert third.x == pytest.approx(11, abs=0.15)
    with pytest.raises(NotMeasured, match="found 3 times only"):
        InstanceKind(number=4).evaluate(StepContext(data, None, {"outline": (found,)}))


def test_brightness_can_be_a_contour_and_what_is_rubbed_out_is_none():
    u, v = X, Y
    print_ = (np.abs(u) < 5) & (np.abs(v) < 3) & (u + v < 5)
    flat = HeightMap(np.zeros_like(X), np.where(print_, 200, 60).astype(np.uint8), PITCH, PITCH, -20, -15)
    zone = RectangleZone(x=0, y=0, width=14, height=10)
    kind = OutlineKind(source="intensity", least_contrast=60)
    taught = kind.teach(StepContext(flat, zone))
    assert kind.evaluate(StepContext(flat, None, taught=taught)).value.share > 0.97
    rubbed = kind.model_copy(update={"rubbed": ((-5.0, 0.0, 2.0),)})
    fewer = rubbed.teach(StepContext(flat, zone))
    assert len(fewer["x"]) < len(taught["x"])
    assert min(math.hypot(a + 5, b) for a, b in zip(fewer["x"], fewer["y"], strict=True)) > 1.9
    with pytest.raises(NotMeasured, match="no intensity"):
        kind.teach(StepContext(relief(bracket(0, 0, 0)), zone))
    holed = EllipseZone(x=0, y=0, width=30, height=24)
    assert len(kind.teach(StepContext(flat, holed))["x"]) > 100


def test_fits_withstand_what_is_wrong_at_one_end():
    rng = np.random.default_rng(1)
    v = np.linspace(-20, 20, 200)
    values = 3 + 0.01 * v + rng.normal(0, 0.01, 200)
    values[:80] += 5
    solution, used = robust_linear(np.column_stack([np.ones(200), v]), values, 0.001)
    assert solution == pytest.approx([3, 0.01], abs=0.003)
    assert not used[:80].any()
    angle = rng.uniform(0, 2 * np.pi, 300)
    x, y = 100 + 6 * np.cos(angle), -30 + 6 * np.sin(angle)
    x[:60] += 2
    cx, cy, radius, used = robust_circle(x, y, 0.001)
    assert (cx, cy, radius) == (
        pytest.approx(100, abs=1e-3),
        pytest.approx(-30, abs=1e-3),
        pytest.approx(6, abs=1e-3),
    )


def test_an_edge_is_the_same_whatever_memory_held_before():
    """Edges near the end of a scan line see only what was sampled."""
    data = relief(np.where(X < 0.1 * Y + 2.9, 1.5, 0.0))
    zone = RectangleZone(x=0, y=0, width=6.2, height=8)
    found = []
    for junk in (-1e9, 0.0, 1e9):
        held = [np.full(size, junk) for size in range(60, 240) for _ in range(4)]
        del held
        found.append(EdgeKind(least_seen=5).evaluate(StepContext(data, zone)).value)
    assert found[0] == found[1] == found[2]


def test_an_outline_taught_from_brightness_needs_brightness():
    print_ = (np.abs(X) < 5) & (np.abs(Y) < 3) & (X + Y < 5)
    flat = HeightMap(np.zeros_like(X), np.where(print_, 200, 60).astype(np.uint8), PITCH, PITCH, -20, -15)
    kind = OutlineKind(source="intensity", least_contrast=60)
    taught = kind.teach(StepContext(flat, RectangleZone(x=0, y=0, width=14, height=10)))
    with pytest.raises(NotMeasured, match="this scan has no intensity"):
        kind.evaluate(StepContext(relief(bracket(0, 0, 0)), None, taught=taught))


def test_a_rotation_range_may_lie_about_half_a_turn():
    narrow = OutlineKind(least_step=1.0, turn_from=150, turn_to=210)
    taught = narrow.teach(StepContext(relief(bracket(0, 0, 0)), RectangleZone(x=0, y=0, width=18, height=12)))
    found = narrow.evaluate(StepContext(relief(bracket(1, 1, -175)), None, taught=taught)).value
    assert abs(found.rotation + 175) < 0.6
    with pytest.raises(NotMeasured, match="not found"):
        narrow.evaluate(StepContext(relief(bracket(1, 1, 20)), None, taught=taught))
    with pytest.raises(ValueError, match="within one turn"):
        OutlineKind(turn_from=-180, turn_to=300)


@pytest.mark.parametrize("shape", [(1, 1), (1, 40), (40, 1), (2, 3)])
def test_a_map_of_hardly_any_points_holds_no_outline(shape):
    kind = OutlineKind(least_step=1.0)
    taught = kind.teach(StepContext(relief(bracket(0, 0, 0)), RectangleZone(x=0, y=0, width=18, height=12)))
    with pytest.raises(NotMeasured, match="not found"):
        kind.evaluate(StepContext(HeightMap(np.zeros(shape), dx=0.1, dy=0.1), None, taught=taught))
