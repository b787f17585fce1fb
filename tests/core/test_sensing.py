"""What lies under a click, and the characteristics proposed from it, on the demo part."""

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from test_anchors import X, Y, local, relief

from examples import examples
from hemtra import HeightMap, NotMeasured
from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.features.circle import CircleKind
from hemtra.core.features.edge import EdgeKind
from hemtra.core.geometry.frames import Frame
from hemtra.core.plan.document import Plan
from hemtra.core.plan.kind import StepContext
from hemtra.core.proposals import quantities as q
from hemtra.core.proposals import surfaces as s
from hemtra.core.proposals.pick_detection import seen_at
from hemtra.virtual.demo import PARTS, REFERENCE, STATION, demo_plan
from hemtra.virtual.sensor import scan_part


@pytest.fixture(scope="module")
def engine():
    return Engine(REFERENCE.scan().data)


@pytest.fixture(scope="module")
def first():
    """On the first part of the tray."""
    return Engine(PARTS[0].scan().data)


@settings(deadline=None, max_examples=examples(25))
@given(
    st.floats(-6, 6),
    st.floats(-4, 4),
    st.floats(2.0, 5.0),
    st.booleans(),
    st.floats(0.0, 0.6),
    st.floats(0, 6.2),
)
def test_round_things_are_seen_from_anywhere_inside(x, y, radius, hole, off, turn):
    inside = np.hypot(X - x, Y - y) < radius
    data = relief(np.where(inside != hole, 2.0, 0.0))
    seen = seen_at(data, x + off * radius * math.cos(turn), y + off * radius * math.sin(turn))
    assert seen.what == ("hole" if hole else "boss")
    circle = CircleKind(**seen.params).evaluate(StepContext(data, seen.zone)).value
    assert (circle.x, circle.y, circle.radius) == tuple(pytest.approx(v, abs=0.05) for v in (x, y, radius))


@settings(deadline=None, max_examples=examples(25))
@given(st.floats(-180, 180), st.floats(-1.5, 1.5))
def test_an_edge_is_seen_from_either_side(turn, off):
    u, _ = local(0, 0, turn)
    data = relief(np.where(u < 0, 2.0, 0.0))
    c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    seen = seen_at(data, off * c, off * s)
    assert seen.what == "edge"
    edge = EdgeKind(**seen.params).evaluate(StepContext(data, seen.zone)).value
    assert abs(edge.x * c + edge.y * s) < 0.06
    # the direction of a line is known up to half a turn
    assert abs((edge.direction - turn + 90 + 90) % 180 - 90) < 3.0


def test_level_ground_is_a_level_and_nothing_is_nothing():
    assert seen_at(relief(0.0 * X), 1.0, 2.0).what == "level"
    with pytest.raises(NotMeasured, match="no data where you clicked"):
        seen_at(relief(np.where(X > 5, 0.0, np.nan)), -10.0, 0.0)


def last(made: q.Proposal, engine: Engine):
    row = made.plan.characteristic(made.balloon)
    return row, next(
        c for c in engine.run(engine.taught(made.plan)).characteristics if c.balloon == made.balloon
    )


@pytest.mark.parametrize(
    ("propose", "places", "value", "bound"),
    [
        (q.propose_diameter, [(0, 2)], 20.0, 0.1),
        (q.propose_roundness, [(42, 19)], 0.1, 0.1),
        (q.propose_distance, [(42, 20), (-42, -20)], 94.8, 0.15),
        (q.propose_width, [(59, 4), (-59, 4)], 120.0, 0.2),
        (q.propose_angle, [(59, 5), (5, 39)], 90.0, 0.6),
        (q.propose_straightness, [(59, 5)], 0.05, 0.06),
        (q.propose_flatness, [(0, 14)], 0.01, 0.01),
        (q.propose_tilt, [(0, 14)], 0.1, 0.15),
        (q.propose_gap, [(-29.5, 0), (-26, 0)], 0.5, 0.1),
        (q.propose_flush, [(-35, 0), (-35, 7)], 0.2, 0.06),
        (q.propose_area, [(0, 14)], math.pi * (19**2 - 10**2), 15),
        (q.propose_true_position, [(42, 20)], 0.0, 0.1),
    ],
)
def test_a_click_proposes_a_row_that_this_part_passes(engine, propose, places, value, bound):
    row, evaluated = last(propose(demo_plan(), engine, *places), engine)
    assert evaluated.value == pytest.approx(value, abs=bound)
    assert evaluated.verdict == "PASS"
    assert row.upper >= evaluated.value


def test_features_there_already_are_used_again(engine):
    plan = demo_plan()
    made = q.propose_diameter(plan, engine, (1.0, 1.0))
    assert made.plan.step(made.plan.characteristic(made.balloon).step).inputs["of"] == ("bore",)
    assert len(made.plan.steps) == len(plan.steps) + 1
    assert made.plan.characteristic(made.balloon).name == "Diameter, Bore rim"
    other = q.propose_flatness(plan, engine, (0.0, 14.0))
    assert "plane-a" not in other.plan.steps[-1].inputs["surfaces"], "a large plane elsewhere is another one"


def test_directions_are_those_of_the_part(engine):
    """The part lies turned by 90°, so that its x is the scan's y."""
    made = q.propose_distance(demo_plan(), engine, (42.0, 20.0), (-42.0, -20.0))
    step = made.plan.step(made.plan.characteristic(made.balloon).step)
    along = step.edited(params={**step.params, "along": "x"})
    turned = replace(REFERENCE.cover, pose=Frame(rotation=90.0))
    scan = scan_part(turned, STATION, 1)
    row = Engine(scan.data).run(made.plan.with_step(along)).steps[step.id]
    assert row.value.value == pytest.approx(84.0, abs=0.05)


def test_what_is_new_moves_with_the_part(engine):
    made = q.propose_width(demo_plan(), engine, (59.0, 4.0), (-59.0, 4.0))
    turned = PARTS[3]
    evaluated = Engine(turned.scan().data).run(engine.taught(made.plan)).characteristics[-1]
    assert evaluated.value == pytest.approx(turned.cover.truth()[16], abs=0.15)


def test_codes_and_formulas_are_proposed_from_what_is_there(engine):
    row, evaluated = last(q.propose_code(demo_plan(), engine, (-27.0, -18.0)), engine)
    assert (evaluated.text, row.lower) == (REFERENCE.cover.marking, 1.0)
    made = q.propose_formula(demo_plan(), engine)
    values = {c.balloon: c.value for c in engine.run(made.plan).characteristics}
    assert values[made.balloon] == pytest.approx(values[1] - values[2])


@pytest.mark.parametrize(
    ("propose", "places", "message"),
    [
        (q.propose_diameter, [(24, -16)], "click inside a hole"),
        (q.propose_width, [(24, -16), (59, 0)], "click next to an edge"),
        (q.propose_gap, [(5, 5), (5, 5)], "not the same place"),
        (q.propose_area, [(22, 10)], "no raised region"),
        (q.propose_code, [(22, 10)], "no code"),
    ],
)
def test_clicks_on_something_else_say_what_to_click(engine, propose, places, message):
    with pytest.raises(HemtraError, match=message):
        propose(demo_plan(), engine, *places)
    with pytest.raises(HemtraError, match="add one first"):
        q.propose_formula(Plan(), engine)
    with pytest.raises(HemtraError, match="by its outline first"):
        q.propose_true_position(Plan(), engine, (42.0, 20.0))


@pytest.mark.parametrize(
    ("propose", "place", "value", "room"),
    [
        (s.propose_depth, (35.0, 0.5), -2.5, 0.1),
        (s.propose_slot_length, (35.0, 0.5), 24.0, 0.3),
        (s.propose_slot_width, (35.0, 0.5), 14.0, 0.3),
        (s.propose_position, (0.0, 0.0), 0.0, 0.15),
        (s.propose_count, (42.0, 26.0), 4.0, 0.0),
        (s.propose_data_share, (20.0, 24.0), 100.0, 5.0),
        (s.propose_deviation, (20.0, 20.0), 0.0, 0.05),
        # of 10 × 10 mm on the hub, 2.2 mm² lie beyond its rim; the 5.9 mm² in its bore have no data
        (s.propose_fill, (0.0, 14.0), 97.7, 1.0),
    ],
)
def test_what_is_asked_for_less_often_is_proposed_too(propose, place, value, room, first):
    """On the demo's reference: its pocket is 24 × 14 mm, and four like bosses stand out of the flange."""
    proposal = propose(demo_plan(), first, place)
    evaluated = first.run(first.taught(proposal.plan)).characteristics
    found = next(c for c in evaluated if c.balloon == proposal.balloon)
    assert found.verdict == "PASS"
    assert found.value == pytest.approx(value, abs=room)


def test_several_spots_and_edges_are_evaluated_against_each_other(engine):
    """The demo's four bosses are coplanar within 0.08 mm; two sides of its flange are square."""
    bosses = [(x, y + 4.3) for x in (-42.0, 42.0) for y in (-22.0, 22.0)]
    _, found = last(s.propose_coplanarity(demo_plan(), engine, *bosses), engine)
    assert 0.0 <= found.value < 0.08
    with pytest.raises(HemtraError, match="needs 4 spots"):
        s.propose_coplanarity(demo_plan(), engine, *bosses[:3])
    with pytest.raises(HemtraError, match="same one"):
        s.propose_coplanarity(demo_plan(), engine, *bosses[:1] * 4)
    _, square = last(s.propose_perpendicularity(demo_plan(), engine, (59.3, 8.0), (20.0, 39.3)), engine)
    assert 0.0 <= square.value < 0.1
    with pytest.raises(HemtraError, match="same edge"):
        s.propose_perpendicularity(demo_plan(), engine, (59.3, 8.0), (59.3, 8.0))


def test_a_dome_is_proposed_where_it_lies_and_no_opening_where_there_is_none(first):
    x = np.arange(300) * 0.1 - 15.0
    ball = np.sqrt(np.maximum(400.0 - x**2 - x[:, None] ** 2, 0.0))
    engine = Engine(HeightMap(ball, dx=0.1, dy=0.1, x0=-15.0, y0=-15.0))
    row = s.propose_dome_radius(Plan(), engine, (3.0, -2.0)).plan.sheet[-1]
    assert row.nominal == 20.0
    with pytest.raises(NotMeasured, match="no opening"):
        s.propose_slot_width(Plan(), engine, (0.0, 0.0))
    with pytest.raises(HemtraError, match="find the part by its outline"):
        s.propose_match(Plan(), engine)
    assert s.propose_match(demo_plan(), first).plan.sheet[-1].lower == 90.0
