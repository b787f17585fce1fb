"""Ellipses, slots, domes and cylinders against surfaces whose sizes are known."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from examples import examples
from hemtra import HeightMap, NotMeasured
from hemtra.core.characteristics.sizes import DiameterKind, OpeningSizeKind, RadiusKind
from hemtra.core.features.circle import CircleKind
from hemtra.core.features.dome import DomeKind
from hemtra.core.features.opening import EllipseKind, SlotKind
from hemtra.core.geometry.outline_fit import fit_ellipse, fit_rounded_rectangle, rounded_distance
from hemtra.core.plan.kind import StepContext
from hemtra.core.zones.zone import EllipseZone, RectangleZone

PITCH = 0.1
X = (np.arange(260) - 130) * PITCH + 0.013
Y = (np.arange(240) - 120)[:, None] * PITCH - 0.031


def seen(z, noise=0.0, seed=0) -> HeightMap:
    z = z + noise * np.random.default_rng(seed).standard_normal(z.shape)
    return HeightMap(z, dx=PITCH, dy=PITCH, x0=float(X[0]), y0=float(Y[0, 0]))


def local(x, y, turn):
    c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    return c * (X - x) + s * (Y - y), c * (Y - y) - s * (X - x)


def pit(inside, soft=0.15) -> np.ndarray:
    """2 mm deep where `inside` (mm) is above zero, with flanks `soft` mm wide."""
    return -2.0 * np.clip(inside / soft + 0.5, 0.0, 1.0)


def rounded(x, y, turn, length, width, corner):
    u, v = local(x, y, turn)
    places = np.column_stack([u.ravel(), v.ravel()])
    return -rounded_distance(places, np.array([0, 0, length / 2, width / 2, 0.0, corner])).reshape(u.shape)


@settings(deadline=None, max_examples=examples(15))
@given(st.floats(-1, 1), st.floats(-1, 1), st.floats(-80, 80), st.floats(1.3, 2.5))
def test_a_slot_is_found_with_its_sizes_and_corners(x, y, turn, ratio):
    length, corner = 4.0 * ratio, 1.2
    data = seen(pit(rounded(x, y, turn, length, 4.0, corner)), noise=0.004)
    zone = EllipseZone(x=0, y=0, width=18, height=18)
    slot = SlotKind(change="rises", least_step=1).evaluate(StepContext(data, zone)).value
    assert (slot.x, slot.y) == pytest.approx((x, y), abs=0.2 * PITCH)
    assert slot.length == pytest.approx(length, abs=0.3 * PITCH)
    assert slot.width == pytest.approx(4.0, abs=0.3 * PITCH)
    assert slot.corner == pytest.approx(corner, abs=PITCH)
    assert abs((slot.direction - turn + 90) % 180 - 90) < 0.4
    assert (
        OpeningSizeKind(what="width").evaluate(StepContext(data, None, {"of": (slot,)})).value.value
        == slot.width
    )


@settings(deadline=None, max_examples=examples(15))
@given(st.floats(-1, 1), st.floats(-1, 1), st.floats(-80, 80), st.floats(1.2, 2.0))
def test_an_ellipse_is_found_with_its_axes(x, y, turn, ratio):
    u, v = local(x, y, turn)
    a, b = 3.5 * ratio, 3.5
    value = np.hypot(u / a, v / b)
    inside = (1 - value) * value / np.maximum(np.hypot(u / a**2, v / b**2), 1e-9)
    zone = EllipseZone(x=0, y=0, width=19, height=19)
    found = (
        EllipseKind(change="rises", least_step=1).evaluate(StepContext(seen(pit(inside), 0.004), zone)).value
    )
    assert (found.x, found.y) == pytest.approx((x, y), abs=0.1 * PITCH)
    assert (found.length, found.width) == pytest.approx((2 * a, 2 * b), abs=0.3 * PITCH)
    assert abs((found.direction - turn + 90) % 180 - 90) < 0.8


def test_points_of_an_outline_give_it_back_exactly():
    t = np.linspace(0, 2 * np.pi, 80, endpoint=False)
    c, s = math.cos(0.4), math.sin(0.4)
    u, v = 5.0 * np.cos(t), 2.0 * np.sin(t)
    ellipse, off = fit_ellipse(np.column_stack([7 + c * u - s * v, -3 + s * u + c * v]), 0.01)
    assert ellipse[:4] == pytest.approx([7, -3, 5, 2], abs=1e-9)
    assert ellipse[4] % math.pi == pytest.approx(0.4, abs=1e-9)
    assert np.abs(off).max() < 1e-9
    u = 3.0 * np.sign(np.cos(t)) + np.cos(t)
    v = 1.0 * np.sign(np.sin(t)) + np.sin(t)
    slot, _ = fit_rounded_rectangle(np.column_stack([7 + c * u - s * v, -3 + s * u + c * v]), 0.01)
    assert slot == pytest.approx([7, -3, 4, 2, 0.4, 1], abs=1e-6)


@settings(deadline=None, max_examples=examples(20))
@given(st.floats(-1, 1), st.floats(-1, 1), st.floats(6, 40), st.booleans())
def test_a_ball_is_found_from_its_cap(x, y, radius, hollow):
    cap = np.sqrt(np.maximum(radius**2 - (X - x) ** 2 - (Y - y) ** 2, 0.0)) - radius
    sign = -1.0 if hollow else 1.0
    data = seen(3.0 + sign * cap)
    given_ = StepContext(data, EllipseZone(x=x, y=y, width=8, height=8))
    dome = DomeKind().evaluate(given_).value
    assert dome.radius == pytest.approx(radius, abs=2e-3)
    assert (dome.x, dome.y, dome.z) == pytest.approx((x, y, 3.0 - sign * radius), abs=3e-3)
    assert RadiusKind().evaluate(StepContext(data, None, {"of": (dome,)})).value.value == dome.radius


@settings(deadline=None, max_examples=examples(20))
@given(st.floats(-1, 1), st.floats(-85, 85), st.floats(-0.05, 0.05), st.floats(4, 30))
def test_a_lying_cylinder_is_found_with_its_direction_and_climb(across, turn, climb, radius):
    u, v = local(0, 0, turn)
    # a plane through the axis climbs by `climb`; square to it the surface is a circle of the radius
    stretch = math.sqrt(1 + climb * climb)
    z = np.sqrt(np.maximum(radius**2 - (v - across) ** 2, 0.0)) * stretch + climb * u
    zone = RectangleZone(x=0, y=0, width=10, height=4, rotation=turn)
    found = DomeKind(shape="cylinder").evaluate(StepContext(seen(z), zone)).value
    assert found.radius == pytest.approx(radius, abs=3e-3)
    assert abs((found.direction - turn + 90) % 180 - 90) < 0.02
    direction = 1.0 if abs(found.direction - turn) < 90 else -1.0
    assert found.climb * direction == pytest.approx(climb, abs=3e-4)
    assert DiameterKind().evaluate(StepContext(seen(z), None, {"of": (found,)})).value.value == 2 * found.radius


def test_dirt_on_a_dome_is_left_out():
    cap = np.sqrt(np.maximum(100 - X**2 - Y**2, 0.0))
    z = cap + np.where((np.abs(X - 1.5) < 0.5) & (np.abs(Y) < 1.0), 0.4, 0.0)
    dome = DomeKind().evaluate(StepContext(seen(z, 0.002), EllipseZone(x=0, y=0, width=9, height=9))).value
    assert dome.radius == pytest.approx(10.0, abs=0.02)


@pytest.mark.parametrize("kind", [DomeKind(), DomeKind(shape="cylinder")])
def test_what_is_flat_or_empty_has_no_radius(kind):
    zone = EllipseZone(x=0, y=0, width=8, height=8)
    with pytest.raises(NotMeasured, match="flat"):
        kind.evaluate(StepContext(seen(0 * X + 0 * Y), zone))
    with pytest.raises(NotMeasured, match="data"):
        kind.evaluate(StepContext(seen(X + Y + np.nan), zone))


@pytest.mark.parametrize(
    "kind", [EllipseKind(change="rises"), SlotKind(change="rises"), CircleKind(change="rises")]
)
def test_a_rim_that_is_missing_or_half_seen_is_not_measured(kind):
    zone = EllipseZone(x=0, y=0, width=14, height=14)
    with pytest.raises(NotMeasured, match="0 of"):
        kind.evaluate(StepContext(seen(0 * X + 0 * Y), zone))
    half = np.where(X < -0.8, pit(rounded(0, 0, 10, 7, 5, 1)), -2.0)
    with pytest.raises(NotMeasured, match="radial lines"):
        kind.evaluate(StepContext(seen(half), zone))


def test_residuals_are_shown_all_round():
    u, v = local(0, 0, 0)
    three_lobes = 4.0 + 0.05 * np.cos(3 * np.arctan2(v, u)) - np.hypot(u, v)
    kind, given_ = CircleKind(change="rises", least_step=1), None
    given_ = StepContext(seen(pit(three_lobes)), EllipseZone(x=0, y=0, width=11, height=11))
    curve = kind.explain(given_, kind.evaluate(given_)).picture
    assert (curve.along, curve.unit) == ("°", "µm")
    expected = 50.0 * np.cos(3 * np.radians(curve.x))
    assert np.sqrt(np.mean((curve.y - expected) ** 2)) < 6.0
