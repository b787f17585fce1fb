"""Zones of every shape, with pieces: what is inside, how large, moved, mirrored, reshaped."""

import itertools
import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hemtra import PlanError, Step
from hemtra.core.plan.document import Plan
from hemtra.core.zones.edits import (
    SHAPES,
    mirrored,
    moved_node,
    reshaped,
    with_cut,
    with_node,
    without_pieces,
)
from hemtra.core.zones.kernels import near_line
from hemtra.core.zones.window import window
from hemtra.core.zones.zone import EllipseZone, PolygonZone, RectangleZone, RingZone
from makers import box, sloped

L_SHAPE = np.array([(0, 0), (6, 0), (6, 2), (2, 2), (2, 5), (0, 5)], float)
sizes, places, angles = st.floats(0.5, 30), st.floats(-20, 20), st.floats(-180, 180)
zones = st.one_of(
    st.builds(RectangleZone, x=places, y=places, width=sizes, height=sizes, rotation=angles),
    st.builds(EllipseZone, x=places, y=places, width=sizes, height=sizes, rotation=angles),
    st.builds(
        RingZone, x=places, y=places, width=sizes, height=sizes, rotation=angles, inner=st.floats(0.1, 0.9)
    ),
    st.builds(
        lambda x, y, turn: PolygonZone.through(L_SHAPE).model_copy(update={"x": x, "y": y, "rotation": turn}),
        places,
        places,
        angles,
    ),
)


def counted(zone, n=1200):
    """Area in mm² by counting points of a fine grid over its box."""
    wx, wy = zone.half_extent()
    x = zone.x + wx * (2 * (np.arange(n) + 0.5) / n - 1)
    y = zone.y + wy * (2 * (np.arange(n) + 0.5) / n - 1)
    return 4 * wx * wy * np.count_nonzero(zone.contains(x[None, :], y[:, None])) / n**2


@given(zones)
def test_area_and_box_are_those_of_what_is_inside(zone):
    assert zone.area == pytest.approx(counted(zone, 700), rel=0.06)
    wx, wy = zone.half_extent()
    rng = np.random.default_rng(1)
    x, y = zone.x + rng.uniform(-2, 2, 4000) * wx, zone.y + rng.uniform(-2, 2, 4000) * wy
    inside = zone.contains(x, y)
    assert (np.abs(x - zone.x)[inside] <= wx * (1 + 1e-9)).all()
    assert (np.abs(y - zone.y)[inside] <= wy * (1 + 1e-9)).all()


@given(zones, places, places, angles)
def test_pieces_move_and_turn_with_their_zone(zone, dx, dy, turn):
    cut = with_cut(zone)
    moved = cut.model_copy(update={"x": cut.x + dx, "y": cut.y + dy, "rotation": cut.rotation + turn})
    rng = np.random.default_rng(2)
    u, v = rng.uniform(-1, 1, (2, 500)) * max(zone.width, zone.height)
    there, here = moved.outward(u, v), cut.outward(u, v)
    # away from the borders, where rounding decides
    assert np.mean(moved.contains(*there.T) == cut.contains(*here.T)) > 0.995
    assert without_pieces(cut) == zone


def test_cut_outs_and_additions_count():
    hole = EllipseZone(x=2, y=0, width=4, height=4)
    lug = RectangleZone(x=0, y=6, width=2, height=4)
    zone = RectangleZone(x=10, y=0, width=10, height=10, cut=(hole,), add=(lug,))
    assert zone.area == pytest.approx(100 - math.pi * 4 + 2 * 3, rel=0.01)
    assert zone.half_extent() == (5.0, 8.0)
    inside = zone.contains(np.array([12.0, 8.0, 10.0, 10.0]), np.array([0.0, 0.0, 7.5, 8.5]))
    assert inside.tolist() == [False, True, True, False]
    assert len(zone.inner_outlines()) == 2
    data = sloped(rows=200, cols=400)
    found = window(zone, data)
    assert np.count_nonzero(found.inside) * 0.1 * 0.2 == pytest.approx(zone.area, rel=0.02)
    assert found.covered == 1.0


def test_polygons():
    zone = PolygonZone.through(L_SHAPE)
    assert zone.area == pytest.approx(12 + 6)
    assert zone.outline() == pytest.approx(L_SHAPE)
    inside = zone.contains(np.array([1.0, 5.0, 4.0]), np.array([4.0, 1.0, 4.0]))
    assert inside.tolist() == [True, True, False]
    with pytest.raises(ValueError, match="must not cross itself"):
        PolygonZone.through(L_SHAPE[[0, 2, 1, 3, 4, 5]])
    more = with_node(zone)
    assert len(more.nodes) == 7
    assert more.area == pytest.approx(zone.area)
    out = moved_node(zone, 2, 1.0, 1.0)
    assert out.outline()[2] == pytest.approx((7, 3), abs=1e-3)
    assert out.outline()[4] == pytest.approx((2, 5), abs=1e-3)
    assert moved_node(zone, 0, 4.0, 6.0) == zone, "it would cross itself, and stays"


def test_cut_outs_stay_where_they_are_when_a_node_moves():
    zone = PolygonZone.through(L_SHAPE).model_copy(
        update={"cut": (EllipseZone(x=-2, y=-1.5, width=1, height=1),), "rotation": 30.0}
    )
    before, after = zone.inner_outlines()[0], moved_node(zone, 1, 3.0, 0.5).inner_outlines()[0]
    assert after == pytest.approx(before, abs=2e-3)


@given(zones, st.sampled_from(["x", "y"]))
def test_mirror_images(zone, axis):
    zone = with_cut(zone)
    image = mirrored(zone, axis)
    back = mirrored(image, axis)
    rng = np.random.default_rng(3)
    x, y = zone.x + rng.uniform(-1, 1, 400) * 15, zone.y + rng.uniform(-1, 1, 400) * 15
    flipped = (-x, y) if axis == "x" else (x, -y)
    assert np.mean(image.contains(*flipped) == zone.contains(x, y)) > 0.995
    assert back.area == pytest.approx(zone.area, rel=1e-6)


@given(zones, st.sampled_from(sorted(SHAPES)))
def test_other_shapes_keep_place_and_size(zone, shape):
    other = reshaped(zone, shape)
    assert other.shape == shape
    assert (other.x, other.y, other.rotation) == (zone.x, zone.y, zone.rotation)
    assert (other.width, other.height) == (zone.width, zone.height)


def test_zones_in_files_are_checked():
    def plan_with(zone):
        return Plan.model_validate({"steps": [{"id": "a", "name": "A", "kind": "spot", "zone": zone}]})

    for zone in (RingZone(x=0, y=0, width=4, height=4), with_cut(box(0, 0)), PolygonZone.through(L_SHAPE)):
        step = Step(id="a", name="A", kind="spot", zone=zone)
        assert plan_with(step.zone.model_dump(mode="json")).step("a").zone == zone
    with pytest.raises(ValueError, match="of its own"):
        plan_with(box(0, 0).model_copy(update={"cut": (with_cut(box(0, 0)),)}).model_dump())
    with pytest.raises(ValueError, match="less than 1"):
        plan_with({"shape": "ring", "x": 0, "y": 0, "width": 1, "height": 1, "inner": 1.0})
    with pytest.raises(PlanError):
        Step(id="a", name="A", kind="spot").edited(zone={"shape": "star"})


@pytest.mark.parametrize("shape", [(1, 1), (1, 37), (40, 33)])
def test_near_a_line_is_what_its_distance_says(shape):
    rng = np.random.default_rng(0)
    for turn in (0.0, 0.4, 2.0):
        x, y = np.meshgrid(0.3 * np.arange(shape[1]), 0.2 * np.arange(shape[0]))
        place = np.stack([np.cos(turn) * x - np.sin(turn) * y, np.sin(turn) * x + np.cos(turn) * y])
        line = np.cumsum(rng.normal(0.0, 2.0, (6, 2)), axis=0)
        near = np.zeros(shape, bool)
        for a, b in itertools.pairwise(line):
            off, along = place - a[:, None, None], b - a
            share = np.clip(np.tensordot(along, off, 1) / (along @ along), 0.0, 1.0)
            near |= np.hypot(*(off - along[:, None, None] * share)) <= 1.1
        assert np.array_equal(near_line(*map(np.ascontiguousarray, place), line, 1.1), near)
