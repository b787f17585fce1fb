"""What is made of other features, clicked on data whose truth is known by hand."""

import math

import numpy as np
import pytest
from test_anchors import X, Y, relief

from hemtra import Plan
from hemtra.core.errors import HemtraError, NotMeasured
from hemtra.core.evaluation.engine import Engine
from hemtra.core.plan.document import Step
from hemtra.core.proposals.constructions import CONSTRUCTIONS, feature_under, fitting_features
from hemtra.core.proposals.option import options
from hemtra.core.zones.zone import RectangleZone

MAKE = {made.id: made.propose for made in CONSTRUCTIONS}
SLOPE = 0.05
"""mm per mm along x by which the whole part rises."""
BLOCK = 2.0
"""mm square to the part by which the block stands out of it."""
TURN = 8.0
"""Degrees by which the ramp is steeper than the part, along y."""


def part() -> Engine:
    """A tilted plate with a block of 16 x 12 mm about (-6, 0), parallel to it, and a ramp beyond x = 8."""
    plate = SLOPE * X
    block = plate + BLOCK * math.hypot(1.0, SLOPE)
    z = np.where((np.abs(X + 6) < 8) & (np.abs(Y) < 6), block, plate)
    z = np.where(X > 8, plate + math.tan(math.radians(TURN)) * Y, z)
    return Engine(relief(z))


def value(engine, made):
    """What was made, on the part."""
    return engine.run(made.plan.edited(sheet=())).steps[made.step].value


def test_distance_and_angle_of_two_planes():
    engine = part()
    made = MAKE["from-planes"](Plan(), engine, (-6.0, 0.0), (-6.0, 9.0))
    assert value(engine, made).value == pytest.approx(BLOCK, abs=1e-6)
    assert made.plan.characteristic(made.balloon).name.startswith("Distance, ")
    steps = engine.run(made.plan).steps
    facts = dict(steps[made.step].outcome.facts)
    assert float(facts["angle"].rstrip("°")) == pytest.approx(0.0, abs=1e-3)
    # the ramp against the plate: the angle of the two normals
    made = MAKE["from-tilt"](Plan(), engine, (11.0, 0.0), (-6.0, 9.0))
    a, b = (-SLOPE, -math.tan(math.radians(TURN)), 1.0), (-SLOPE, 0.0, 1.0)
    truth = math.degrees(math.acos(np.dot(a, b) / np.linalg.norm(a) / np.linalg.norm(b)))
    assert value(engine, made).value == pytest.approx(truth, abs=1e-4)


def test_ends_of_planes_that_are_not_parallel():
    """Over a zone of 4 mm along y the ramp rises by 4 tan(8°) against the plate, seen square to it."""
    engine = part()
    zone = {"width": 2.0, "height": 4.0}
    steps = (
        Step(id="ramp", name="Ramp", kind="plane", zone=RectangleZone(x=11.0, y=2.0, **zone)),
        Step(id="plate", name="Plate", kind="plane", zone=RectangleZone(x=-6.0, y=9.0, **zone)),
        *(
            Step(
                id=at,
                name=at,
                kind="plane-distance",
                inputs={"plane": ("ramp",), "datum": ("plate",)},
                params={"at": at},
            )
            for at in ("middle", "least", "greatest")
        ),
    )
    found = engine.run(Plan(steps=steps)).steps
    rise = math.tan(math.radians(TURN)) / math.hypot(1.0, SLOPE)
    for at, y in (("middle", 2.0), ("least", 0.0), ("greatest", 4.0)):
        assert found[at].value.value == pytest.approx(y * rise, abs=2e-3)


def test_a_plane_through_three_clicked_spots_is_the_plate():
    engine = part()
    made = MAKE["from-plane"](Plan(), engine, (-10.0, 9.0), (5.0, -9.0), (-10.0, -9.0))
    plane = value(engine, made)
    assert made.balloon is None
    assert (plane.slope_x, plane.slope_y) == (pytest.approx(SLOPE, abs=1e-6), pytest.approx(0.0, abs=1e-6))
    # another is measured from it, by its id and by a click on the block
    again = MAKE["from-planes"](made.plan, engine, (-6.0, 0.0), made.step)
    assert value(engine, again).value == pytest.approx(BLOCK, abs=1e-6)
    assert len([s for s in again.plan.steps if s.kind == "spot"]) == 3


def test_lines_points_and_what_is_made_of_them():
    engine = part()
    # the far and the right edge of the block meet in its corner
    made = MAKE["from-lines"](Plan(), engine, (-6.0, 6.4), (2.4, 0.0))
    corner = value(engine, made)
    assert (corner.x, corner.y) == (pytest.approx(2.0, abs=0.06), pytest.approx(6.0, abs=0.06))
    plan = made.plan
    edges = [s.id for s in plan.steps if s.kind == "edge"]
    # a click on what is there takes it, and makes nothing new
    result = engine.run(plan)
    assert feature_under(plan, result, (corner.x + 0.3, corner.y), object) == made.step
    foot = MAKE["from-foot-line"](plan, engine, (-10.0, 9.0), (-6.0, 6.0))
    assert [s.kind for s in foot.plan.steps].count("edge") == 2
    landed = value(engine, foot)
    # the edge climbs along x and runs above the spot, so that the nearest place lies lower down
    lower = SLOPE * BLOCK / math.hypot(1.0, SLOPE)
    assert (landed.x, landed.y) == (pytest.approx(-10.0 - lower, abs=2e-3), pytest.approx(6.0, abs=0.06))
    square = MAKE["from-square"](plan, engine, edges[0], made.step)
    line = value(engine, square)
    assert abs(line.direction) % 180.0 == pytest.approx(90.0, abs=0.5)
    # distance from the corner to the near-left spot, straight through space
    far = MAKE["from-distance"](plan, engine, made.step, (-10.0, -9.0))
    spot = next(s for s in far.plan.steps if s.kind == "spot")
    at = engine.run(far.plan).steps[spot.id].value
    assert value(engine, far).value == pytest.approx(math.dist(corner.place, at.place), abs=1e-9)


def test_offset_and_level_planes_are_made_without_data():
    engine = part()
    level = MAKE["from-height"](Plan(), engine)
    assert value(engine, level).z0 == 0.0
    lifted = MAKE["from-offset-plane"](Plan(), engine, (-6.0, 9.0))
    plane = value(engine, lifted)
    assert plane.slope_x == pytest.approx(SLOPE, abs=1e-6)
    assert plane.z0 - plane.height_at(0, 0) == pytest.approx(SLOPE * plane.x0, abs=1e-6)


@pytest.mark.parametrize(
    ("which", "picks", "words"),
    [
        ("from-plane", ((-10.0, 9.0), (-4.0, 9.0), (2.0, 9.0)), "the points lie on one line"),
        ("from-circle", ((-10.0, 9.0), (-4.0, 9.0), (2.0, 9.0)), "no circle goes through them"),
        ("from-mean-point", ((-10.0, 9.0), (-10.0, 9.0)), "was clicked twice"),
        ("from-lines", ((-6.0, 6.4), (-6.0, -6.4)), "parallel"),
        ("from-planes", ((-6.0, 0.0), (-6.0, 0.5)), "was clicked twice"),
        ("from-lines", ((-6.0, 0.0), (2.4, 0.0)), "click next to an edge"),
        ("from-mean-point", ((200.0, 0.0), (0.0, 0.0)), "outside"),
    ],
)
def test_what_cannot_be_made_is_refused_in_words(which, picks, words):
    plan = Plan()
    with pytest.raises(HemtraError, match=words):
        MAKE[which](plan, part(), *picks)


def test_what_cannot_be_made_of_named_features_is_not_measured():
    engine = part()
    made = MAKE["from-lines"](Plan(), engine, (-6.0, 6.4), (2.4, 0.0))
    edge = next(s.id for s in made.plan.steps if s.kind == "edge")
    twin = Step(id="twin", name="Twin", kind="mean-point", inputs={"points": (edge, edge)})
    plan = made.plan.edited(steps=(*made.plan.steps, twin))
    with pytest.raises(NotMeasured, match="was not added: the points coincide"):
        MAKE["from-line"](plan, engine, edge, "twin")


def test_each_says_what_to_click_and_lists_only_what_fits():
    offered = options("features")
    assert len({o.key for o in offered}) == len(offered) == len(CONSTRUCTIONS)
    engine = part()
    made = MAKE["from-lines"](Plan(), engine, (-6.0, 6.4), (2.4, 0.0))
    for wanted in offered:
        assert len(wanted.clicks) == len(wanted.wants)
        for kind in wanted.wants:
            fits = fitting_features(made.plan, kind)
            assert all(isinstance(engine.run(made.plan).steps[s.id].value, kind) for s in fits)
