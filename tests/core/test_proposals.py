"""Proposals that set no traps: what is clicked is what is measured, tried before it is offered."""

from __future__ import annotations

import math

import numpy as np
import pytest
from test_anchors import X, Y, relief

from hemtra import HeightMap, Plan
from hemtra.core.errors import HemtraError, PlanError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.features.plane import FittedPlane
from hemtra.core.plan.document import ByProfile, Characteristic, Step
from hemtra.core.plan.requirements import bound, parse_requirements, with_requirements
from hemtra.core.proposals import quantities as q
from hemtra.core.proposals import surfaces as s
from hemtra.core.proposals.cutting import with_feature_cut
from hemtra.core.proposals.pick_detection import seen_at
from hemtra.core.proposals.profiles import OnProfile, propose_groove_depth
from hemtra.core.proposals.proposing import datum_plane
from hemtra.core.proposals.trial import KnownPart, tried
from hemtra.core.zones.zone import RectangleZone

NOISE = 0.005


def plate(*things, belt=-6.0):
    """A plate of 30 x 20 mm on a belt, with things of a height in rectangles x, y, width, height, rise."""
    z = np.where((np.abs(X) < 15) & (np.abs(Y) < 10), 0.0, belt)
    for x, y, width, height, rise in things:
        z = np.where((np.abs(X - x) < width / 2) & (np.abs(Y - y) < height / 2), rise, z)
    return z


def evaluated(made, engine):
    """The new row and what becomes of it."""
    plan = engine.taught(made.plan)
    return made.plan.characteristic(made.balloon), next(
        c for c in engine.run(plan).characteristics if c.balloon == made.balloon
    )


def test_a_few_stray_points_do_not_make_the_belt_the_datum():
    z = plate()
    z.ravel()[np.random.default_rng(0).integers(0, z.size, 20)] = -40.0
    engine = Engine(relief(z, noise=NOISE))
    plan, plane = datum_plane(Plan(), engine)
    found = engine.run(plan).steps[plane].value
    assert isinstance(found, FittedPlane)
    assert found.z0 == pytest.approx(0.0, abs=0.01)


def test_a_part_that_fills_the_scan_is_its_own_datum():
    engine = Engine(relief(np.where(np.hypot(X, Y) < 4, 3.0, 0.0), noise=NOISE))
    plan, plane = datum_plane(Plan(), engine)
    assert engine.run(plan).steps[plane].value.z0 == pytest.approx(0.0, abs=0.01)


@pytest.mark.parametrize("y", [-6.0, -3.0, 0.0, 2.5, 5.0])
@pytest.mark.parametrize("missing", [0.0, 0.01])
def test_a_gap_that_is_seen_is_proposed_wherever_points_are_missing(y, missing):
    z = np.where(np.abs(X) < 0.75, -2.0, plate())
    engine = Engine(relief(z, missing=missing, noise=NOISE, seed=int(y + 9)))
    _, found = evaluated(q.propose_gap(Plan(), engine, (-3.0, y), (3.0, y)), engine)
    assert found.value == pytest.approx(1.5, abs=0.15)
    assert found.verdict == "PASS"


def test_the_sides_of_a_stepped_slot_are_not_crossed():
    z = np.where(np.abs(X) < 1.5, -1.0, np.where((X >= 1.5) & (X < 2.5), -0.4, plate()))
    engine = Engine(relief(z, noise=NOISE))
    made = q.propose_gap(Plan(), engine, (-4.0, 0.0), (5.0, 0.0))
    sides = engine.run(made.plan).steps
    left, right = (step.id for step in made.plan.steps if step.kind == "profile-edge")
    assert sides[left].value.x < sides[right].value.x
    assert sides[left].value.x == pytest.approx(-1.5, abs=0.1)
    with pytest.raises(HemtraError, match="No gap was found"):
        q.propose_gap(Plan(), Engine(relief(plate(), noise=NOISE)), (-4.0, 0.0), (4.0, 0.0))


def test_where_only_brightness_changes_the_printed_edge_is_meant():
    grey = np.where(np.abs(X) < 4.0, 40, 200).astype(np.uint8)
    z = plate(belt=0.0) + np.random.default_rng(1).normal(0, NOISE, X.shape)
    data = HeightMap(z, grey, 0.1, 0.1, -20, -15)
    engine = Engine(data)
    _, found = evaluated(q.propose_distance(Plan(), engine, (-4.3, 0.0), (4.4, 1.0)), engine)
    assert found.value == pytest.approx(7.9, abs=0.06)
    # beside a step of height the printed edge comes first only where intensity is looked at
    both = HeightMap(np.where(X > -3.0, 0.0, -2.0) + 0 * z, grey, 0.1, 0.1, -20, -15)
    assert "on" not in seen_at(both, -3.3, 0.0).params
    assert seen_at(both, -3.7, 0.0, printed=True).params["on"] == "brightness"


def test_a_count_takes_what_is_like_the_clicked_and_whole_numbers():
    studs = [(x, 5.0, 2.0, 2.0, 1.5) for x in (-10.0, -3.0, 4.0)]
    others = [(0.0, -4.0, 20.0, 1.5, 1.5), (10.0, 3.0, 2.0, 2.0, 4.0), (-12.0, 0.0, 5.0, 4.0, 1.5)]
    engine = Engine(relief(plate(*studs, *others), noise=NOISE))
    row, found = evaluated(s.propose_count(Plan(), engine, (-3.0, 5.0)), engine)
    assert (row.lower, row.nominal, row.upper) == (3.0, 3.0, 3.0)
    assert (found.value, found.verdict) == (3.0, "PASS")
    _, found = evaluated(s.propose_count(Plan(), engine, (10.0, 3.0)), engine)
    assert found.value == 1.0, "the clicked one is always among them"


def test_area_and_volume_are_those_of_all_of_an_island():
    dome = np.maximum(3.0 * (1.0 - (X**2 + Y**2) / 25.0), 0.0) + plate()
    engine = Engine(relief(dome, noise=NOISE))
    _, area = evaluated(q.propose_area(Plan(), engine, (0.0, 0.0)), engine)
    _, volume = evaluated(q.propose_volume(Plan(), engine, (0.0, 0.0)), engine)
    assert area.value == pytest.approx(math.pi * 25.0, rel=0.02)
    assert volume.value == pytest.approx(math.pi * 25.0 * 3.0 / 2.0, rel=0.01)


def test_a_proposal_of_profiles_passes_all_of_them_or_says_so():
    """A groove that gets deeper along travel: limits come from all profiles, not from the one looked at."""
    x = -10.0 + 0.1 * np.arange(200)
    depth = np.linspace(1.0, 1.6, 60)[:, None]
    z = -depth * np.clip(3.0 - np.abs(x), 0.0, 1.0) + np.random.default_rng(0).normal(0, NOISE, (60, 200))
    engine, plan = Engine(HeightMap(z, None, 0.1, 0.5, -10.0, 0.0)), Plan(by_profile=ByProfile(at=0.0))
    made = tried(propose_groove_depth(OnProfile(plan, engine, 0), (0.0, -1.0)), engine, ())
    row, found = evaluated(made, engine)
    assert found.verdict == "PASS"
    assert made.doubts == ()
    assert row.lower <= 1.0
    assert row.upper >= 1.6


def test_what_does_not_hold_of_a_proposal_is_said():
    engine = Engine(relief(plate((5.0, 0.0, 4.0, 4.0, 2.0)), noise=NOISE))
    made = q.propose_area(Plan(), engine, (5.0, 0.0))
    without = Engine(relief(plate(), noise=NOISE))
    parts = [
        KnownPart("twin", engine, True),
        KnownPart("bare", without, True),
        KnownPart("scrap", without, False),
    ]
    (doubt,) = tried(made, engine, parts).doubts
    assert "1 of 1 good parts; bare is NOT MEASURED" in doubt
    assert tried(made, engine, parts[:1]).doubts == ()


def test_a_click_on_a_feature_cuts_it_out_with_a_margin():
    engine = Engine(relief(plate((5.0, 2.0, 4.0, 3.0, 2.0), (-6.0, 0.0, 3.0, 3.0, -1.0)), noise=NOISE))
    zone = RectangleZone(x=0, y=0, width=28, height=18)
    plane = Step(id="a", name="A", kind="plane", zone=zone)
    flat = Step(id="flat", name="Flat", kind="flatness", inputs={"surfaces": ("a",)})
    row = Characteristic(balloon=1, name="Flat", step="flat", upper=0.1)
    plan = Plan(steps=(plane, flat), sheet=(row,))
    assert engine.run(plan).verdict == "FAIL"
    for place in ((5.0, 2.0), (-6.0, 0.0)):
        plan = with_feature_cut(plan, engine, "a", place)
    assert len(plan.step("a").zone.cut) == 2
    assert engine.run(plan).verdict == "PASS"
    with pytest.raises(HemtraError, match="no raised region"):
        with_feature_cut(plan, engine, "a", (0.0, -6.0))


# -- units -----------------------------------------------------------------------------------------

LIST = """balloon,name,nominal,lower,upper,unit
7,Seat flatness,,,50,µm
8,Length,1.1811,-0.01,+0.01,in
9,Draft,3,,4,°
"""


def test_a_row_keeps_the_unit_of_its_drawing_and_values_are_converted():
    bowed = relief(0.976 * (X / 14.0) ** 2 + plate(belt=0.0))
    zone = RectangleZone(x=0, y=0, width=28, height=18)
    steps = (
        Step(id="a", name="A", kind="plane", zone=zone),
        Step(id="flat", name="Flat", kind="flatness", inputs={"surfaces": ("a",)}),
    )
    made = Characteristic(balloon=1, name="Flat", step="flat", upper=0.1)
    plan = with_requirements(Plan(steps=steps, sheet=(made,)), parse_requirements(LIST))
    tied = bound(plan, 7, 1)
    found = next(c for c in Engine(bowed).run(tied).characteristics if c.balloon == 7)
    assert (found.verdict, found.unit, found.upper) == ("FAIL", "µm", 50.0)
    assert found.value > 900.0
    with pytest.raises(PlanError, match="limits in °"):
        bound(plan, 9, 1)
    inch = plan.characteristic(8)
    assert (inch.lower, inch.upper) == (1.1711, 1.1911), "sums of decimals are decimals"


def test_an_inch_row_passes_a_part_that_is_right():
    block = relief(np.where(np.abs(X) < 15.0, 2.0, 0.0))
    steps = tuple(
        Step(id=i, name=i, kind="edge", zone=RectangleZone(x=x, y=0, width=5, height=20))
        for i, x in (("l", -15), ("r", 15))
    )
    wide = Step(id="w", name="W", kind="width", inputs={"one": ("l",), "other": ("r",)})
    limits = {"nominal": 1.1811, "lower": 1.1711, "upper": 1.1911}
    row = Characteristic(balloon=1, name="W", step="w", unit="in", **limits)
    found = Engine(block).run(Plan(steps=(*steps, wide), sheet=(row,))).characteristics[0]
    assert found.value == pytest.approx(29.9 / 25.4, abs=0.003)
    assert (found.verdict, found.unit) == ("PASS", "in")
    wrong = row.edited(unit="°")
    refused = Engine(block).run(Plan(steps=(*steps, wide), sheet=(wrong,))).characteristics[0]
    assert refused.verdict == "NOT MEASURED"
    assert "limits are in °" in refused.reason
