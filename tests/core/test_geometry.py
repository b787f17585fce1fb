"""Planes and frames against what can be derived by hand."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hemtra.core.geometry.elements import LEVEL, Plane, Point
from hemtra.core.geometry.frames import Frame
from hemtra.core.geometry.solving import solved

length = st.floats(-500, 500)
slope = st.floats(-2, 2)
angle = st.floats(-180, 180)
point = st.builds(Point, length, length, length)
plane = st.builds(Plane, length, length, length, slope, slope)


def test_distance_is_perpendicular():
    # a 3-4-5 slope: one millimetre straight up is four fifths away
    inclined = Plane(0, 0, 0, 0.75, 0)
    assert inclined.distance(Point(0, 0, 1)) == pytest.approx(0.8)
    assert inclined.tilt == pytest.approx(math.degrees(math.atan(0.75)))


@given(plane, point)
def test_foot_lies_on_the_plane_and_straight_below(of, at):
    foot = of.foot(at)
    assert foot.z == pytest.approx(of.height_at(foot.x, foot.y), abs=1e-8)
    gap = np.array([at.x - foot.x, at.y - foot.y, at.z - foot.z])
    assert np.linalg.norm(gap) == pytest.approx(abs(of.distance(at)), abs=1e-8)


@given(plane, plane)
def test_angle_is_symmetric_and_zero_to_itself(a, b):
    assert a.angle_to(b) == pytest.approx(b.angle_to(a), abs=1e-9)
    assert a.angle_to(a) == 0.0
    assert 0.0 <= a.angle_to(b) <= 90.0


def test_small_angles_keep_their_digits():
    tiny = 1e-9
    assert Plane(0, 0, 0, tiny, 0).angle_to(LEVEL) == pytest.approx(math.degrees(tiny), rel=1e-6)


@given(st.builds(Frame, length, length, length, angle, st.floats(-80, 80), st.floats(-80, 80)), point)
def test_frame_goes_out_and_back(frame, at):
    there = np.array([[at.x, at.y, at.z]])
    assert frame.inward(frame.outward(there)) == pytest.approx(there, abs=1e-9)
    assert frame.matrix @ frame.matrix.T == pytest.approx(np.eye(3), abs=1e-12)


def test_rotation_is_counter_clockwise_seen_from_above():
    turned = Frame(rotation=90).outward(np.array([[1.0, 0.0, 0.0]]))
    assert turned == pytest.approx(np.array([[0.0, 1.0, 0.0]]), abs=1e-12)
    # tilt about x lifts +y
    assert Frame(tilt_x=10).outward(np.array([[0.0, 1.0, 0.0]]))[0, 2] > 0


@given(st.integers(1, 6), st.integers(0, 2**31))
def test_small_systems_are_solved_and_those_without_a_solution_are_not(n, seed):
    rng = np.random.default_rng(seed)
    # any order of sizes, and zeros on the diagonal
    a = rng.normal(size=(n, n))[:, rng.permutation(n)] * 10.0 ** rng.integers(-3, 4, (n, 1))
    np.fill_diagonal(a, np.where(rng.random(n) < 0.3, 0.0, np.diag(a)) if n > 1 else 1.0)
    x = rng.normal(size=n)
    if np.linalg.cond(a) < 1e8:
        assert solved(a, a @ x) == pytest.approx(x, abs=1e-6)
    a[:, 0] = 0.0
    assert np.isnan(solved(a, x)).all()
