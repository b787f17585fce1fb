"""Edits of the sheet, patterns, connections, and verdicts with an uncertainty."""

import math
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hemtra import PlanError
from hemtra.core.edits.pattern import circular, grid, repeated
from hemtra.core.edits.sheet import (
    counted_from_master,
    found_rows,
    in_groups,
    moved_row,
    renumbered,
    with_balloon,
    with_nominal,
)
from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.plan.document import Characteristic, Correction, Plan
from hemtra.core.plan.inputs import connected, fitting, with_own_preparation
from hemtra.core.plan.limits import CharacteristicResult, Verdict, evaluate, part_verdict
from hemtra.core.plan.master_part import read_on
from hemtra.core.plan.tolerance import parse_tolerance
from hemtra.virtual.demo import REFERENCE, demo_plan
from makers import step_plan


@pytest.fixture(scope="module")
def engine():
    return Engine(REFERENCE.scan().data)


def row(balloon: int, **fields) -> Characteristic:
    return Characteristic(
        **{"balloon": balloon, "name": f"row {balloon}", "lower": 0.0, "upper": 1.0, **fields}
    )


def test_rows_are_moved_numbered_and_found():
    plan = Plan(sheet=(row(4), row(9, group="Hub"), row(2, name="Boss NE")))
    assert [r.balloon for r in moved_row(plan, 2, -1).sheet] == [4, 2, 9]
    assert [r.balloon for r in moved_row(plan, 4, -5).sheet] == [4, 9, 2]
    assert [(r.balloon, r.name) for r in renumbered(plan).sheet] == [(1, "row 4"), (2, "row 9"), (3, "Boss NE")]
    assert [r.balloon for r in with_balloon(plan, 9, 10).sheet] == [4, 10, 2]
    with pytest.raises(PlanError, match="Balloon 2 is taken"):
        with_balloon(plan, 9, 2)
    assert [(name, [r.balloon for r in rows]) for name, rows in in_groups(plan)] == [("", [4, 2]), ("Hub", [9])]
    assert found_rows(plan, "boss") == {2}
    assert found_rows(plan, "HUB 9") == {9}
    assert found_rows(plan, "") == {2, 4, 9}


@given(st.floats(-5, 5), st.floats(0.001, 0.5), st.floats(0.001, 0.5))
def test_nothing_passes_or_fails_nearer_to_a_limit_than_its_uncertainty(value, reach, u):
    verdict, reason = evaluate(value, -reach, reach, 3, u)
    inside = min(value + reach, reach - value)
    expected = Verdict.PASS if inside >= u else (Verdict.FAIL if inside < -u else Verdict.NOT_PROVEN)
    if abs(abs(inside) - u) > 1e-9:
        assert verdict is expected
    assert (reason == "") == (verdict is Verdict.PASS)


def test_what_is_not_proven_counts_as_the_plan_says(engine):
    verdicts = [Verdict.PASS, Verdict.NOT_PROVEN]
    assert part_verdict(verdicts) is Verdict.NOT_MEASURED
    assert part_verdict(verdicts, Verdict.PASS) is Verdict.PASS
    assert part_verdict([*verdicts, Verdict.FAIL], Verdict.PASS) is Verdict.FAIL
    plan = demo_plan()
    near = plan.with_characteristic(plan.characteristic(1).edited(uncertainty=0.095))
    result = engine.run(near)
    assert result.characteristics[0].verdict is Verdict.NOT_PROVEN
    assert "within ±0.095 of the limit" in result.characteristics[0].reason
    assert result.verdict is Verdict.NOT_MEASURED
    assert engine.run(near.edited(not_proven="fail")).verdict is Verdict.FAIL
    assert engine.run(near.edited(not_proven="pass")).verdict is Verdict.PASS


def test_a_row_switched_off_is_not_evaluated(engine):
    plan = demo_plan()
    tight = plan.characteristic(1).edited(lower=5.0, upper=6.0)
    assert engine.run(plan.with_characteristic(tight)).verdict is Verdict.FAIL
    off = engine.run(plan.with_characteristic(tight.edited(off=True)))
    assert off.verdict is Verdict.PASS
    assert 1 not in {c.balloon for c in off.characteristics}


def test_values_can_count_from_the_reference_part(engine):
    plan = demo_plan()
    measured = engine.run(plan).characteristics[0].value
    from_master = engine.taught(counted_from_master(plan, 1, wanted=True))
    found = engine.run(from_master).characteristics[0]
    assert (found.value, found.lower, found.upper) == (
        pytest.approx(0.0),
        pytest.approx(-0.1),
        pytest.approx(0.1),
    )
    back = counted_from_master(from_master, 1, wanted=False).characteristic(1)
    assert back.nominal == pytest.approx(measured, abs=0.006)
    assert back.upper - back.lower == pytest.approx(0.2)
    untaught = engine.run(counted_from_master(plan, 1, wanted=True)).characteristics[0]
    assert untaught.verdict is Verdict.NOT_MEASURED
    assert "reference part" in untaught.reason
    moved = with_nominal(plan, 1, 4.0123).characteristic(1)
    assert (moved.nominal, moved.lower, moved.upper) == (4.01, pytest.approx(3.91), pytest.approx(4.11))


@given(st.floats(-10, 10), st.floats(0.5, 2.0), st.floats(-1.0, 1.0))
def test_two_known_sizes_undo_any_linear_error(true, gain, offset):
    correction = Correction(measured=(4 * gain + offset, 8 * gain + offset), known=(4.0, 8.0))
    assert correction.applied(true * gain + offset) == pytest.approx(true, abs=1e-9)
    with pytest.raises(ValueError, match="two sizes that differ"):
        Correction(measured=(4.0, 4.0), known=(4.0, 8.0))


@pytest.mark.parametrize(
    ("text", "nominal", "lower", "upper", "uncertainty"),
    [
        ("84 ±2 %", 84.0, 82.32, 85.68, None),
        ("4.00 ±0.10 U 0.01", 4.0, 3.9, 4.1, 0.01),
        ("≤ 0,15 U=0,005", None, None, 0.15, 0.005),
    ],
)
def test_percent_and_uncertainty_are_typed_as_written(text, nominal, lower, upper, uncertainty):
    found = parse_tolerance(text)
    assert (found.nominal, found.uncertainty) == (nominal, uncertainty)
    assert (found.lower, found.upper) == (
        None if lower is None else pytest.approx(lower),
        None if upper is None else pytest.approx(upper),
    )
    again = parse_tolerance(
        row(1, nominal=nominal, lower=lower, upper=upper, uncertainty=uncertainty).tolerance
    )
    assert again.uncertainty == uncertainty
    with pytest.raises(HemtraError, match="above zero"):
        parse_tolerance("4 ±0.1 U 0")


def test_four_bosses_come_from_one(engine):
    plan = demo_plan()
    for balloon in (2, 3, 4, 5, 10):
        plan = plan.without_characteristic(balloon)
    steps = len(plan.steps)
    made = repeated(plan, "boss-ne-top", grid(2, 2, -84.0, -44.0))
    assert len(made.steps) == steps + 6, "a spot and a height each; the datum stays shared"
    places = {(s.zone.x, s.zone.y) for s in made.steps if s.kind == "spot" and s.id.startswith("boss")}
    assert places == {(42, 22), (-42, 22), (42, -22), (-42, -22)}
    values = [c.value for c in engine.run(engine.taught(made)).characteristics if "Boss NE" in c.name]
    assert values == [pytest.approx(h, abs=0.01) for h in [REFERENCE.cover.truth()[b] for b in (1, 2, 4, 3)]]
    turned = repeated(plan, "boss-ne-top", circular(2, 0.0, 0.0))
    (zone,) = [s.zone for s in turned.steps if s.id == "boss-ne-top-2"]
    assert (zone.x, zone.y) == (pytest.approx(-42), pytest.approx(-22))
    assert abs(zone.rotation) == pytest.approx(180)
    spread = [m(zone) for m in circular(3, 0.0, 0.0, 90.0)]
    assert math.degrees(math.atan2(spread[-1].y, spread[-1].x)) == pytest.approx(
        math.degrees(math.atan2(zone.y, zone.x)) + 90
    )
    for wrong in (lambda: circular(1, 0, 0), lambda: grid(0, 7, 1, 1), lambda: grid(100, 100, 1, 1)):
        with pytest.raises(PlanError, match="2 to 500 places"):
            wrong()
    with pytest.raises(PlanError, match="has a zone"):
        repeated(plan, "boss-ne", grid(2, 1, 1, 1))


def test_inputs_are_connected_to_what_fits(engine):
    plan = demo_plan()
    assert {"boss-nw-top", "hub-top"} <= {s.id for s in fitting(plan, "boss-ne", "point")}
    assert "boss-ne" not in {s.id for s in fitting(plan, "boss-ne", "point")}
    assert "glare" not in {s.id for s in fitting(plan, "boss-ne", "point")}
    assert {s.id for s in fitting(plan, "boss-ne", "plane")} >= {"plane-a", "hub-plane"}
    other = connected(plan, "boss-ne", "point", ("hub-top",))
    values = {c.balloon: c.value for c in engine.run(other).characteristics}
    assert values[1] == values[6]
    # an outline cannot follow what is made of it
    assert {s.id for s in fitting(plan, "outline", "data")} == {"glare"}


def test_a_feature_is_prepared_alone(engine):
    plan = with_own_preparation(demo_plan(), "boss-ne-top", "smooth")
    result = engine.run(plan)
    spread = {i: dict(r.outcome.facts)["spread"] for i, r in result.steps.items() if r.step.kind == "spot"}
    before = dict(engine.run(demo_plan()).steps["boss-ne-top"].outcome.facts)["spread"]
    assert float(spread["boss-ne-top"].split()[0]) < 0.8 * float(before.split()[0])
    with pytest.raises(PlanError, match="more than a map"):
        with_own_preparation(demo_plan(), "hub-top", "level")
    with pytest.raises(PlanError, match="no preparation"):
        with_own_preparation(demo_plan(), "hub-top", "spot")


def test_a_duplicate_has_features_of_its_own_but_shares_what_others_use():
    plan = step_plan()
    again = plan.duplicated(1)
    row = again.characteristic(2)
    made = again.step(row.step).inputs
    assert made["upper"] != ("up",)
    assert made["lower"] != ("down",)
    assert len(again.steps) == 6
    # the lower spot serves two steps now, so that another duplicate follows it as well
    shared = again.with_step(again.step(row.step).model_copy(update={"inputs": {**made, "lower": ("down",)}}))
    third = shared.duplicated(1)
    inputs = third.step(third.characteristic(3).step).inputs
    assert (inputs["lower"], inputs["upper"] == ("up",)) == (("down",), False)
    assert third.characteristic(3).tolerance == plan.characteristic(1).tolerance


def test_a_master_part_passes_by_what_was_really_measured():
    row = CharacteristicResult(1, "Rise", "up", 0.2, "mm", None, 0.1, 0.3, 2, Verdict.PASS, "", None)
    unseen = replace(row, verdict=Verdict.NOT_MEASURED, reason="only 12 % of it was seen")
    master = read_on("M1", (row,), hours=8.0, share=10.0)
    assert master.wrong((row,)) == ()
    assert master.wrong((unseen,)) == ("1 Rise is not measured: only 12 % of it was seen",)
    assert master.wrong(()) == ("1 is not measured",)
    # with one limit the room is twice the way from the master to it, without any there is none
    above, free = replace(row, lower=None), replace(row, lower=None, upper=None)
    assert master.wrong((replace(above, value=0.219),)) == ()
    assert len(master.wrong((replace(above, value=0.221),))) == 1
    assert master.wrong((free,)) == ()
    assert len(master.wrong((replace(free, value=0.2001),))) == 1
    assert master.wrong((replace(row, value=0.2201),)) == ("1 Rise reads 0.2201; 0.1800 … 0.2200 is wanted",)
    with pytest.raises(HemtraError, match="Nothing is measured"):
        read_on("M1", (unseen,), hours=8.0, share=10.0)
