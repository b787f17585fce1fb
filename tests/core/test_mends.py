"""What is offered where nothing was measured: it fits the cause, and done, it gives a value or leads to one."""

import numpy as np
import pytest
from test_anchors import X, Y, relief

from hemtra import Characteristic, Engine, HeightMap, Plan, Step
from hemtra.core.plan.document import ByProfile, Follow
from hemtra.core.proposals.mends import MOST, mends
from hemtra.core.zones.zone import Band
from makers import box


def plate(hole=0.0) -> HeightMap:
    """A plate 1 mm high of 20 x 12 mm on a belt, of which a share of a zone in its middle was not seen."""
    z = np.where((np.abs(X) < 10) & (np.abs(Y) < 6), 1.0, 0.0)
    return relief(np.where((np.abs(X) < 2) & (np.abs(Y) < 2 * hole), np.nan, z))


def plan(zone, over=None, **params) -> Plan:
    """The height of a spot above the belt as balloon 1."""
    steps = (
        Step(id="belt", name="Belt", kind="plane", zone=box(0, 11, 30, 4)),
        Step(id="spot", name="Spot", kind="spot", zone=zone, params=params),
        Step(id="height", name="Height", kind="height", inputs={"point": ("spot",), "plane": ("belt",)}),
    )
    row = Characteristic(balloon=1, name="Height", step="height", lower=0.9, upper=1.1, **(over or {}))
    return Plan(steps=steps, sheet=(row,))


def offered(made: Plan, engine: Engine):
    result = engine.run(made)
    found = mends(made, engine, result, result.characteristics[0])
    assert len(found) <= MOST
    return found


def verdict(made: Plan, engine: Engine) -> str:
    return engine.run(made).characteristics[0].verdict


def test_a_value_needs_no_mending():
    assert offered(plan(box(0, 0, 4, 4)), Engine(plate())) == ()


def test_a_row_without_a_feature_asks_for_a_click():
    waiting = Plan(sheet=(Characteristic(balloon=1, name="Height", lower=0.0),))
    (only,) = offered(waiting, Engine(plate()))
    assert only.ask == "click"


def test_too_little_data_is_accepted_or_filled():
    engine = Engine(plate(hole=0.4))
    made = plan(box(0, 0, 4, 4), over={"least_coverage": 0.0}, least_data=80.0)
    accept, fill = offered(made, engine)
    assert 55 <= float(accept.words.split()[1]) <= 65
    assert accept.plan.step("spot").params["least_data"] == float(accept.words.split()[1])
    assert verdict(made, engine) == "NOT MEASURED"
    assert verdict(accept.plan, engine) == "PASS"
    assert fill.plan.prepared == "fill"


def test_an_empty_height_band_is_taken_off():
    engine = Engine(plate())
    made = plan(box(0, 0, 4, 4).model_copy(update={"band": Band(low=5.0)}))
    band, look = offered(made, engine)
    assert band.words == "Take its height band off"
    assert verdict(band.plan, engine) == "PASS"
    assert look.step == "spot"
    assert "no data in the height band" in look.why


@pytest.mark.parametrize("zone", [box(300, 0, 4, 4), box(0, 0, 3.8, 3.8)])
def test_a_zone_off_the_part_follows_what_finds_the_part(zone):
    engine = Engine(plate(hole=1.3))
    outline, look = offered(plan(zone), engine)
    assert (outline.ask, look.step) == ("outline", "spot")
    framed = plan(zone)
    steps = (
        Step(id="up", name="Up", kind="spot", zone=box(-8, 0, 1, 1)),
        Step(id="right", name="Right", kind="spot", zone=box(8, 0, 1, 1)),
        Step(id="frame", name="Frame B", kind="frame", inputs={"origin": ("up",), "towards": ("right",)}),
    )
    framed = framed.edited(steps=(*framed.steps, *steps))
    follow, _ = offered(framed, engine)
    assert follow.words == "Let its zone follow “Frame B”"
    assert follow.plan.step("spot").follow == Follow(x="frame", y="frame", rotation="frame")


def test_a_value_that_rests_on_too_little_is_accepted_only_as_far_as_it_was_seen():
    engine = Engine(plate(hole=0.3))
    steps = (Step(id="top", name="Top", kind="plane", zone=box(0, 0, 4, 4)),)
    flat = Step(id="flat", name="Flatness", kind="flatness", inputs={"surfaces": ("top",)})
    row = Characteristic(balloon=1, name="Flatness", step="flat", upper=0.1, least_coverage=95.0)
    made = Plan(steps=(*steps, flat), sheet=(row,))
    accept, look = offered(made, engine)
    assert accept.words.startswith("Accept ")
    assert "may be out of limits and pass" in accept.why
    assert accept.plan.sheet[0].least_coverage < 95.0
    assert look.step == "top"
    assert engine.run(accept.plan).characteristics[0].reason != engine.run(made).characteristics[0].reason


def test_a_height_of_an_extreme_is_accepted_as_far_as_its_zone_was_seen():
    engine, made = Engine(plate(hole=0.3)), plan(box(0, 0, 6, 6), take="highest")
    accept, look = offered(made, engine)
    assert accept.words.startswith("Accept ")
    assert "95 % is asked for now" in accept.why
    assert look.step == "spot"
    assert (verdict(made, engine), verdict(accept.plan, engine)) == ("NOT MEASURED", "PASS")


def test_the_cause_is_what_failed_first():
    engine = Engine(plate())
    made = plan(box(0, 0, 4, 4))
    lost = made.with_step(made.step("belt").edited(zone=box(0, 300, 4, 4)))
    found = offered(lost, engine)
    assert found[-1].step == "belt"
    by_profile = lost.edited(by_profile=ByProfile())
    result = engine.run(lost)
    assert mends(by_profile, engine, result, result.characteristics[0]) == ()
