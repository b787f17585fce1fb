"""Courses and paths: lengths, directions, and what makes none."""

import math

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from examples import examples
from hemtra import HeightMap, NotMeasured
from hemtra.core.errors import HemtraError, OffScan
from hemtra.core.features.path import PathKind
from hemtra.core.maps.path_sampling import sections_across
from hemtra.core.maps.section import sample
from hemtra.core.paths.curve import curve_through
from hemtra.core.plan.kind import StepContext
from hemtra.core.zones import path_edits
from hemtra.core.zones.edits import mirrored
from hemtra.core.zones.zone import PathZone


def curve(nodes, turns=None, corners=None, closed=False):
    nodes = np.array(nodes, float)
    return curve_through(nodes, turns or ["corner"] * len(nodes), corners or [0.0] * len(nodes), closed=closed)


@given(st.floats(3, 50), st.floats(3, 50), st.floats(0.1, 1.4), st.floats(-180, 180))
def test_a_rounded_rectangle_is_as_long_as_it_should_be(width, height, corner, turn):
    c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    corners = np.array([(0, 0), (width, 0), (width, height), (0, height)]) @ np.array([[c, s], [-s, c]])
    found = curve(corners, corners=[corner] * 4, closed=True)
    assert found.length == pytest.approx(2 * (width + height) - (8 - 2 * math.pi) * corner, abs=2e-3)
    at = np.linspace(0, found.length, 2000, endpoint=False)
    # at even steps, each as far on as the one before, and no direction jumps
    steps = np.hypot(*np.diff(found.at(np.append(at, found.length)), axis=0).T)
    assert (steps <= found.length / 2000 + 1e-9).all()
    assert found.curvature(at).min() >= -1e-6
    assert (found.curvature(at) * found.length / 2000).sum() == pytest.approx(2 * math.pi, rel=0.05)


@given(st.floats(1, 30), st.floats(1.0, 5.5), st.booleans())
def test_an_arc_goes_through_its_three_points(radius, span, left):
    way = 1.0 if left else -1.0
    turn = np.array([0.0, 0.4, 1.0]) * span * way
    nodes = radius * np.column_stack([np.cos(turn), np.sin(turn)])
    found = curve(nodes, ["corner", "arc", "corner"])
    assert found.length == pytest.approx(radius * span, rel=1e-3)
    assert np.hypot(*found.places.T) == pytest.approx(radius, abs=1e-9)
    assert found.node_at[1] == pytest.approx(0.4 * radius * span, rel=1e-3)
    middle = found.curvature(np.array([found.length / 2]))[0]
    assert middle == pytest.approx(way / radius, rel=0.02)


def test_curves_are_smooth_and_pass_through_their_nodes():
    turn = np.linspace(0, 2 * np.pi, 24, endpoint=False)
    ring = curve(10 * np.column_stack([np.cos(turn), np.sin(turn)]), ["curve"] * 24, closed=True)
    assert ring.length == pytest.approx(20 * math.pi, rel=1e-4)
    assert np.hypot(*ring.at(np.linspace(0, ring.length, 500)).T) == pytest.approx(10, abs=2e-3)
    nodes = [(0, 0), (10, 4), (20, -3), (30, 0)]
    wave = curve(nodes, ["corner", "curve", "curve", "corner"])
    assert wave.at(wave.node_at) == pytest.approx(np.array(nodes, float), abs=1e-3)
    assert wave.length > math.dist(*nodes[:2])


@given(st.floats(0, 60), st.floats(-4, 4))
def test_the_nearest_place_is_told_with_its_side(s, right):
    line = curve([(0, 0), (60, 0)])
    assert line.nearest(s, -right) == (pytest.approx(s, abs=1e-9), pytest.approx(right, abs=1e-9))


def test_a_closed_course_begins_at_its_first_node():
    square = [(5, 0), (10, 0), (10, 10), (0, 10), (0, 0)]
    found = curve(square, corners=[0, 2, 2, 2, 2], closed=True)
    assert found.at(np.zeros(1))[0] == pytest.approx((5, 0))
    assert found.node_at[0] == 0.0
    assert found.directions(np.zeros(1))[0] == pytest.approx((1, 0), abs=1e-6)
    # it continues round
    assert found.at(np.array([found.length + 1.0]))[0] == pytest.approx((6, 0))


def test_where_it_crosses_itself_is_told():
    found = curve([(0, 0), (10, 10), (10, 0), (0, 10)])
    assert found.crossings == (pytest.approx(math.hypot(5, 5), abs=0.1),)
    assert curve([(0, 0), (10, 0), (10, 10)]).crossings == ()


@pytest.mark.parametrize(
    ("nodes", "turns", "corners", "closed", "message"),
    [
        ([(1, 1), (1, 1)], None, None, False, "nodes 1 and 2 of the path lie in the same place"),
        ([(0, 0), (5, 0), (5, 0), (9, 0)], None, None, False, "nodes 2 and 3"),
        ([(0, 0), (5, 0)], None, None, True, "three nodes"),
        ([(0, 0)], None, None, False, "two nodes"),
        ([(0, 0), (5, 0), (5, 5)], None, [0, 6, 0], False, "rounded more than their sides"),
        ([(0, 0), (5, 0), (1, 0)], None, [0, 1, 0], False, "turns back at node 2"),
        ([(0, 0), (5, 3)], ["arc", "corner"], None, False, "before and behind"),
        ([(0, 0), (3, 2), (5, 0), (9, 0)], ["corner", "arc", "curve", "corner"], None, False, "node 2"),
        (
            [(0, 0), (3, 2), (6, 0), (6, 5)],
            ["corner", "arc", "corner", "corner"],
            [0, 0, 1, 0],
            False,
            "straight",
        ),
    ],
)
def test_what_makes_no_path_says_why(nodes, turns, corners, closed, message):
    with pytest.raises(NotMeasured, match=message):
        curve(nodes, turns, corners, closed)


def test_a_path_zone_keeps_its_form_wherever_it_lies():
    plain = PathZone.through(np.array([(0, 0), (20, 0), (20, 8.0)]), closed=False)
    bent = plain.model_copy(
        update={"nodes": (plain.nodes[0], plain.nodes[1].model_copy(update={"corner": 3.0}), plain.nodes[2])}
    )
    assert bent.curve().length == pytest.approx(28 - (2 - math.pi / 2) * 3, abs=1e-3)
    turned = bent.model_copy(update={"x": 3.0, "rotation": 77.0})
    assert turned.curve().length == pytest.approx(bent.curve().length, abs=1e-6)
    image = mirrored(bent, "x")
    assert image.curve().length == pytest.approx(bent.curve().length, abs=1e-6)
    assert image.node_places()[0] == pytest.approx((0, 0), abs=1e-9)
    assert image.node_places()[2] == pytest.approx((-20, 8), abs=1e-9)
    assert turned.contains(*turned.node_places()[1])
    assert not turned.contains(*(turned.node_places()[1] + 30.0))
    again = PathZone.model_validate(turned.model_dump(mode="json"))
    assert again == turned


def test_a_path_beside_the_scan_is_told_apart_from_one_that_leaves_it():
    data = HeightMap(np.zeros((100, 100), np.float32), dx=0.1, dy=0.1)
    with pytest.raises(OffScan, match="outside the scan"):
        PathKind().evaluate(StepContext(data, PathZone.through(np.array([(50, 50), (70, 50.0)]))))
    half = PathKind().evaluate(StepContext(data, PathZone.through(np.array([(5, 5), (25, 5.0)]))))
    assert half.value.curve.length == pytest.approx(20)
    eight = PathZone.through(np.array([(1, 1), (8, 8), (8, 1), (1.0, 8)]))
    assert "crosses itself at" in PathKind().evaluate(StepContext(data, eight)).note


@settings(max_examples=examples(30))
@given(st.floats(-3, 9), st.floats(-3, 9), st.floats(0, 360), st.sampled_from([0.0, 0.04, 0.3]))
def test_sections_sample_as_single_samples_do(x, y, turn, missing):
    """Against the plain sampling, point by point, with holes and beyond the edges of the map."""
    rng = np.random.default_rng(int(1000 * missing) + int(10 * turn))
    z = rng.normal(0, 1, (60, 70)).astype(np.float32)
    z[rng.random(z.shape) < missing] = np.nan
    # a little beside round numbers: exactly on a grid line rounding decides what counts
    data = HeightMap(z, dx=0.1, dy=0.12, x0=0.0, y0=0.0)
    x, y = x + 0.01234, y + 0.01234
    t = np.array([[math.cos(math.radians(turn)), math.sin(math.radians(turn))]])
    steps = np.array([0.0, 0.0, 0.1, 0.12])
    behind = np.array([-0.13, 0.0, 0.17])
    found = sections_across(data.z, steps, np.array([[x, y]]), t, 2.0, 41, behind)[0]
    u = np.linspace(-2.0, 2.0, 41)
    lines = np.array(
        [sample(data, x + u * t[0, 1] + v * t[0, 0], y - u * t[0, 0] + v * t[0, 1]) for v in behind]
    )
    seen = ~np.isnan(lines).all(axis=0)
    assert (np.isnan(found) == ~seen).all()
    if seen.any():
        assert found[seen] == pytest.approx(np.nanmean(lines[:, seen], axis=0), abs=1e-5)


ROUND = PathZone.through(
    np.array([(0.0, -10.0), (20.0, -10.0), (20.0, 10.0), (-20.0, 10.0), (-20.0, -10.0)]), closed=True
)


@given(st.integers(0, 4), st.floats(-180, 180), st.floats(-5, 5))
def test_turning_round_and_beginning_elsewhere_keep_the_course(node, turn, shift):
    zone = ROUND.model_copy(update={"rotation": turn, "x": shift})
    back = path_edits.reversed_path(zone)
    assert path_edits.reversed_path(back) == zone
    s = np.linspace(0.0, zone.curve().length, 40)
    assert back.curve().at(zone.curve().length - s) == pytest.approx(zone.curve().at(s), abs=1e-6)
    begun = path_edits.begun_at(zone, node)
    assert begun.node_places()[0] == pytest.approx(zone.node_places()[node])
    assert begun.curve().length == pytest.approx(zone.curve().length)


@given(st.floats(1.0, 119.0), st.floats(-180, 180))
@example(1.5, 180.0)
def test_a_node_more_changes_nothing_until_it_is_moved_and_one_less_takes_it_out(s, turn):
    zone = ROUND.model_copy(update={"rotation": turn, "y": 3.0})
    x, y = zone.curve().at(np.array([s]))[0]
    if np.hypot(*(zone.node_places() - (x, y)).T).min() < 0.01:
        return
    more, number = path_edits.with_node_at(zone, float(x), float(y))
    assert more.node_places()[number] == pytest.approx((x, y), abs=1e-3)
    assert more.curve().length == pytest.approx(zone.curve().length, abs=1e-3)
    if np.hypot(*(zone.node_places() - (x + 1.5, y)).T).min() < 0.01:
        with pytest.raises(NotMeasured, match="same place"):
            path_edits.placed_node(more, number, x=float(x) + 1.5)
        return
    moved = path_edits.placed_node(more, number, x=float(x) + 1.5)
    assert moved.node_places()[number] == pytest.approx((x + 1.5, y), abs=1e-3)
    others = np.delete(moved.node_places(), number, axis=0)
    assert others == pytest.approx(zone.node_places(), abs=1e-3)
    assert path_edits.without_node(moved, number).node_places() == pytest.approx(zone.node_places(), abs=1e-3)


def test_edits_that_make_no_path_are_refused():
    corner = path_edits.closed_or_open(PathZone.through(np.array([(0.0, 0.0), (5.0, 0.0), (5.0, 5.0)])))
    assert corner.closed
    with pytest.raises(HemtraError, match="needs 3 nodes"):
        path_edits.without_node(corner, 0)
    with pytest.raises(HemtraError, match="begins at its end"):
        path_edits.begun_at(path_edits.closed_or_open(corner), 1)
    with pytest.raises(HemtraError, match="rounded more than"):
        path_edits.changed_node(corner, 1, corner=20.0)
    with pytest.raises(HemtraError, match="cannot be like that"):
        path_edits.changed_node(corner, 1, nominal=float("nan"))
    with pytest.raises(HemtraError, match="same place"):
        path_edits.placed_node(corner, 1, x=0.0, y=0.0)
    arc = path_edits.changed_node(path_edits.closed_or_open(corner), 1, turn="arc")
    assert path_edits.closed_or_open(arc).closed
