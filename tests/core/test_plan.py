"""Documents, limits, graph and engine: what a verdict may rest on."""

import math
import threading

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hemtra import Characteristic, HeightMap, HemtraError, Plan, PlanError, Step, Verdict, inspect
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.unchanged import Unchanged
from hemtra.core.features.spot import SpotKind
from hemtra.core.plan.document import ByProfile, Correction
from hemtra.core.plan.general_tolerances import permissible
from hemtra.core.plan.graph import ancestry, dependants, ordered
from hemtra.core.plan.limits import Thresholds, decimals_for, evaluate, part_verdict, thresholds
from hemtra.core.plan.tolerance import Tolerance, parse_tolerance
from hemtra.core.proposals.proposing import propose_height, propose_spot, propose_step, region_name
from makers import box, edited, sloped, step_plan

finite = st.floats(-1e3, 1e3)


@given(st.lists(st.sampled_from(list(Verdict))))
def test_a_part_passes_only_when_everything_does(verdicts):
    passed = part_verdict(verdicts) is Verdict.PASS
    assert passed == (bool(verdicts) and all(v is Verdict.PASS for v in verdicts))
    assert (part_verdict(verdicts) is Verdict.FAIL) == (Verdict.FAIL in verdicts)


@given(finite, finite, finite)
def test_evaluate_against_the_definition(value, a, b):
    lower, upper = min(a, b), max(a, b)
    verdict, reason = evaluate(value, lower, upper, 2)
    assert (verdict is Verdict.PASS) == (lower <= value <= upper)
    assert bool(reason) == (verdict is not Verdict.PASS)
    assert evaluate(value, lower, None, 2)[0] is (Verdict.PASS if value >= lower else Verdict.FAIL)
    assert evaluate(value, None, upper, 2)[0] is (Verdict.PASS if value <= upper else Verdict.FAIL)


@pytest.mark.parametrize("value", [math.nan, math.inf, -math.inf])
def test_what_is_no_number_is_never_a_pass(value):
    assert evaluate(value, 0.0, 1.0, 2)[0] is Verdict.NOT_MEASURED
    assert evaluate(0.5, None, None, 2)[0] is Verdict.NOT_MEASURED


def test_a_reason_shows_the_digits_that_make_the_difference():
    assert evaluate(4.1004, None, 4.1, 2)[1] == "4.1004, above 4.1000"
    assert evaluate(3.71, 3.9, 4.1, 2)[1] == "3.71, below 3.90"


@pytest.mark.parametrize(
    ("text", "nominal", "expected"),
    [
        ("4.00 ±0.10", None, (4.0, 3.9, 4.1)),
        ("4,00 +/- 0,1", None, (4.0, 3.9, 4.1)),
        ("±0.1", 4.0, (4.0, 3.9, 4.1)),
        ("2.5 +0.15 -0.05", None, (2.5, 2.45, 2.65)),
        ("+0.15/−0.05", 2.5, (2.5, 2.45, 2.65)),
        ("-0.05 +0.15", 2.5, (2.5, 2.45, 2.65)),
        ("≤ 0.15", None, (None, None, 0.15)),
        ("<=.15", 0.1, (0.1, None, 0.15)),
        ("min 3", None, (None, 3.0, None)),
        ("3.9 … 4.1", 4.0, (4.0, 3.9, 4.1)),
        ("-0.2 to 0.2", None, (None, -0.2, 0.2)),
    ],
)
def test_tolerances_as_people_write_them(text, nominal, expected):
    assert parse_tolerance(text, nominal) == Tolerance(*expected)


@pytest.mark.parametrize("text", ["", "four", "±0.1", "4.1 … 3.9", "1 2 3", "4 ±", "nan", "≤ inf"])
def test_what_is_no_tolerance_is_refused(text):
    with pytest.raises(HemtraError):
        parse_tolerance(text)


@given(finite, st.floats(0.02, 50), st.floats(0.02, 50))
def test_a_tolerance_reads_back_as_shown(nominal, plus, minus):
    row = Characteristic(
        balloon=1, name="a", step="s", nominal=nominal, lower=nominal - minus, upper=nominal + plus
    )
    again = parse_tolerance(row.tolerance)
    shown = 10.0**-row.decimals
    assert again.lower == pytest.approx(row.lower, abs=1.1 * shown)
    assert again.upper == pytest.approx(row.upper, abs=1.1 * shown)


def test_a_tolerance_is_symmetric_as_far_as_its_digits_show():
    row = Characteristic(balloon=1, name="a", step="s", nominal=1.0, lower=0.9, upper=1.1)
    assert row.edited(upper=1.10009).written(2) == "1.00 ±0.10"
    assert row.edited(upper=1.1002).written(2) == "1.00 +0.10 −0.10"


def test_without_an_uncertainty_limits_are_their_own_thresholds():
    assert thresholds(0.1, 0.3) == Thresholds(0.1, 0.1, 0.3, 0.3)
    assert thresholds(0.1, 0.3, 0.02) == Thresholds(0.08, 0.12, 0.28, 0.32)


def test_two_known_sizes_correct_all_between_and_beyond():
    correction = Correction(measured=(1.0, 11.0), known=(2.0, 22.0))
    assert [correction.applied(value) for value in (1.0, 6.0, 11.0, 16.0)] == [2.0, 12.0, 22.0, 32.0]
    with pytest.raises(ValueError, match="two sizes that differ"):
        Correction(measured=(1.0, 1.0), known=(2.0, 22.0))


def test_precision_follows_the_tolerance():
    assert [decimals_for(4 - t, 4 + t, 4) for t in (0.5, 0.1, 0.02, 1e-9)] == [2, 2, 3, 4]
    # with one limit the distance from the nominal, which is 0 where there is none
    assert [decimals_for(None, edge, None) for edge in (5.0, 0.05, 0.01)] == [2, 3, 4]
    assert decimals_for(3.95, None, 4.0) == decimals_for(None, 0.0, None) == 3


@pytest.mark.parametrize(
    "limits",
    [
        {},
        {"lower": 2.0, "upper": 1.0},
        {"upper": math.nan},
        {"lower": -math.inf},
        {"nominal": math.inf, "upper": 1},
    ],
)
def test_limits_that_make_no_sense_are_refused(limits):
    with pytest.raises(ValueError, match=r"limit|finite"):
        Characteristic(balloon=1, name="a", step="s", **limits)


def test_edits_that_do_not_hold_leave_the_plan_alone():
    plan = step_plan()
    with pytest.raises(PlanError, match="lower limit"):
        plan.sheet[0].edited(lower=5.0)
    with pytest.raises(PlanError, match="used twice"):
        plan.edited(sheet=plan.sheet * 2)
    assert plan == step_plan()


def test_deleting_a_characteristic_takes_only_what_served_it_alone(plan):
    without = plan.without_characteristic(1)
    gone = {s.id for s in plan.steps} - {s.id for s in without.steps}
    assert gone == {"boss-ne"}, "its top serves the coplanarity too"
    pitch = {s.id for s in plan.steps} - {s.id for s in plan.without_characteristic(10).steps}
    assert pitch == {"boss-pitch"}, "the rims it goes between serve the datum frame"
    place = {s.id for s in plan.steps} - {s.id for s in plan.without_characteristic(11).steps}
    assert place == {"pocket-depth", "pocket-rim", "pocket-floor"}, "the outline they follow serves others"
    ordered(without)
    everything = plan
    for row in plan.sheet:
        everything = everything.without_characteristic(row.balloon)
    assert [s.id for s in everything.steps] == ["glare"], "the preparation is that of the whole plan"


def test_places_are_named_by_where_they_lie(perfect):
    named = [region_name(perfect.data, x, y) for x, y in ((42, 22), (-42, 22), (0, -30), (-50, 0), (3, 4))]
    assert named == ["far right", "far left", "near", "left", "middle"]


def test_free_ids_and_balloons_are_free(plan):
    assert plan.free_id("Boss NE") == "boss-ne-2"
    assert plan.free_id("§§") not in {s.id for s in plan.steps}
    assert plan.free_balloon() == 25


def broken(**change) -> Plan:
    plan = step_plan()
    return plan.with_step(plan.step("rise").edited(**change))


@pytest.mark.parametrize(
    ("plan", "message"),
    [
        (broken(kind="stp"), "“stp” is not a kind"),
        (broken(params={"colour": 1}), "parameter “colour”"),
        (broken(inputs={"upper": ("up",)}), "“lower” is not connected"),
        (broken(inputs={"upper": ("up",), "lower": ("ghost",)}), "“ghost”, which does not exist"),
        (broken(inputs={"upper": ("up",), "lower": ("rise",)}), "circle: “Rise” → “Rise”"),
        (broken(kind="tilt", inputs={"plane": ("up",)}), "cannot use “up”, a spot"),
        (broken(inputs={"upper": ("up", "down"), "lower": ("down",)}), "takes one step, not 2"),
        (broken(inputs={"upper": ("up",), "lower": ("down",), "side": ("up",)}), "no input “side”"),
        (step_plan().edited(steps=step_plan().steps[:2]), "there is no step “rise”"),
        (step_plan().edited(sheet=(step_plan().sheet[0].edited(step="up"),)), "no number"),
        (step_plan().with_step(Step(id="up", name="Up", kind="spot")), "needs a zone"),
        (
            step_plan().with_step(Step(id="up", name="Up", kind="plane", zone=box(), params={"trim": -1})),
            "“trim”",
        ),
        (
            step_plan().with_step(Step(id="up", name="U", kind="plane", zone=box(), params={"band_to": 0})),
            "band",
        ),
    ],
)
def test_plans_that_do_not_hold_name_the_place(plan, message):
    with pytest.raises(PlanError, match=message):
        ordered(plan)


def test_a_circle_is_told_by_name():
    plan = step_plan()
    a = Step(id="a", name="First", kind="step", inputs={"upper": ("b",), "lower": ("up",)})
    b = Step(id="b", name="Second", kind="step", inputs={"upper": ("a",), "lower": ("up",)})
    with pytest.raises(PlanError, match=r"circle: “(First|Second)” → “(First|Second)” → "):
        ordered(plan.edited(steps=(*plan.steps, a, b)))


def test_order_and_columns(plan):
    places = {step.id: k for k, (step, _) in enumerate(ordered(plan))}
    assert all(places[i] < places[s.id] for s in plan.steps for i in s.needs)
    columns = [[s.id for s in column] for column in ancestry(plan, "hub-tilt")]
    assert columns == [["glare"], ["outline"], ["plane-a", "hub-plane"], ["hub-tilt"]]
    assert {s.id for s in dependants(plan, "hub-top")} == {"hub-height"}


def stepped() -> HeightMap:
    return edited(sloped(), lambda z, x, y: z.__setitem__(x > 0, 0.5))


def test_the_engine_computes_only_what_changed():
    engine, plan = Engine(stepped()), step_plan()
    first = engine.run(plan)
    assert first.computed == 3
    assert first.characteristics[0].value == pytest.approx(0.5)
    assert engine.run(plan).computed == 0
    limits = plan.with_characteristic(plan.sheet[0].edited(upper=0.4))
    again = engine.run(limits)
    assert again.computed == 0
    assert again.verdict is Verdict.FAIL
    moved = plan.with_step(plan.step("up").edited(zone=box(1.2, 0, 1, 1)))
    assert engine.run(moved).computed == 2, "the moved spot and the step, not the other spot"
    renamed = plan.with_step(plan.step("up").edited(name="Top"))
    result = engine.run(renamed)
    assert result.computed == 0
    assert result.steps["up"].step.name == "Top"


@pytest.mark.parametrize("seed", range(3))
def test_edited_again_and_again_a_plan_measures_what_it_does_on_a_fresh_map(seed, perfect, plan):
    """Whatever stands from the run before: zones, anchors, limits and lessons change, and come back."""
    rng, engine, plans = np.random.default_rng(seed), Engine(perfect.data), [Engine(perfect.data).taught(plan)]
    zoned = [step.id for step in plan.steps if step.zone is not None]
    for _ in range(6):
        now = plans[rng.integers(len(plans))]
        step, row = now.step(str(rng.choice(zoned))), now.sheet[rng.integers(len(now.sheet))]
        moved = step.zone.model_copy(update={"x": step.zone.x + rng.normal(0.0, 0.5)})
        now = (
            now.with_step(step.edited(zone=moved)),
            now.with_step(step.edited(follow=step.follow.without(str(step.follow.x)))),
            now.with_characteristic(row.edited(correction=Correction(measured=(0.0, 1.0), known=(0.1, 1.2)))),
            now,
        )[rng.integers(4)]
        plans.append(engine.taught(now))
        assert plans[-1] == Engine(perfect.data).taught(now)
        found, fresh = engine.run(plans[-1]), Engine(perfect.data).run(plans[-1])
        assert found.characteristics == fresh.characteristics
        assert {i: s.fingerprint for i, s in found.steps.items()} == {
            i: s.fingerprint for i, s in fresh.steps.items()
        }


def test_results_of_steps_that_a_plan_has_no_more_are_let_go():
    """They may hold whole maps, and a plan is edited all day."""
    engine, plan, last = Engine(stepped()), step_plan(), Unchanged()
    found = engine.run(plan)
    row = plan.sheet[0], (found.characteristics[0], None)
    last.keep_step(plan.step("up"), {}, found.steps)
    last.keep_row(row[0], ("up",), found.steps, row[1])
    assert last.step(plan.step("up"), {}, found.steps) is found.steps["up"]
    assert last.row(row[0], found.steps) is row[1]
    last.forget_others({"down"}, {2})
    assert last.step(plan.step("up"), {}, found.steps) is None
    assert last.row(row[0], found.steps) is None


def test_what_two_threads_want_at_once_is_measured_once(monkeypatch):
    """The window asks for the part on screen while the tray comes to it."""
    engine, plan, measured, again = Engine(stepped()), step_plan(), [], threading.Event()
    other = threading.Thread(target=lambda: engine.run(plan))
    evaluate = SpotKind.evaluate

    def slowly(kind, given):
        measured.append(given)
        if len(measured) > 1:
            again.set()
        elif not other.is_alive():
            other.start()
            again.wait(0.2)
        return evaluate(kind, given)

    monkeypatch.setattr(SpotKind, "evaluate", slowly)
    assert engine.run(plan).characteristics[0].value == pytest.approx(0.5)
    other.join()
    assert len(measured) == 2, "two spots, once each"


@pytest.mark.parametrize("by_profile", [None, ByProfile()])
def test_of_a_plan_of_any_length_nothing_is_computed_twice(by_profile):
    spots = [
        Step(id=f"s{k}", name=f"S{k}", kind="spot", zone=box(0.01 * k - 2.0, 0.0, 0.5, 0.5)) for k in range(400)
    ]
    plan = Plan(steps=tuple(spots), by_profile=by_profile)
    engine = Engine(sloped())
    assert engine.run(plan).computed == 400
    assert engine.run(plan).computed == 0
    moved = plan.with_step(spots[7].edited(zone=box(1.0, 0.5, 0.5, 0.5)))
    assert engine.run(moved).computed == 1
    assert engine.run(plan).computed == 0, "what was before an edit is still known"


def test_what_cannot_be_measured_says_because_of_what():
    data = edited(stepped(), lambda z, x, y: z.__setitem__(x > 0, np.nan))
    result = inspect(step_plan(), data)
    (row,) = result.characteristics
    assert result.verdict is row.verdict is Verdict.NOT_MEASURED
    assert row.value is None
    assert row.reason == "because of “Up”: there is no data in the zone"
    assert result.steps["rise"].because_of == "up"
    assert result.faults == ()


@pytest.mark.parametrize(
    ("data", "fault"),
    [
        (HeightMap(np.full((9, 9), np.nan)), "holds no data at all"),
        (HeightMap(np.zeros((9, 9)), x0=500), "outside the scan"),
    ],
)
def test_a_scan_that_cannot_answer_is_a_fault_beyond_not_measured(data, fault):
    result = inspect(step_plan(), data)
    assert result.verdict is Verdict.NOT_MEASURED
    assert any(fault in sentence for sentence in result.faults)


def test_explaining_what_was_not_measured_gives_nothing():
    engine = Engine(HeightMap(np.full((9, 9), np.nan)))
    result = engine.run(step_plan())
    assert engine.explain(result, "up").marks == ()


def test_a_spot_is_proposed_as_large_as_its_level():
    disc = edited(
        sloped(rows=200, cols=300, dx=0.1, dy=0.1), lambda z, x, y: z.__setitem__(x**2 + y**2 < 9.0, 4.0)
    )
    zone = propose_spot(disc, 0.0, 0.0)
    assert zone.width == 6.0
    # a click on the rim means the level it hit, and finds room on it
    for x, level in ((2.9, 4.0), (3.1, 0.0)):
        near = propose_spot(disc, x, 0.0)
        assert near.width >= 2.0
        assert disc.height_at(near.x, near.y) == level
    with pytest.raises(HemtraError):
        propose_spot(disc, 500.0, 0.0)


def test_a_proposed_step_puts_the_higher_place_on_top():
    data = stepped()
    for places in (((2, 0), (-2, 0)), ((-2, 0), (2, 0))):
        made = propose_step(Plan(), Engine(data), *places)
        row = made.plan.characteristic(made.balloon)
        assert (row.nominal, row.lower, row.upper) == (0.5, 0.4, 0.6)
        assert inspect(made.plan, data).verdict is Verdict.PASS


def test_a_proposed_height_finds_its_own_plane(perfect):
    made = propose_height(Plan(), Engine(perfect.data), (42.0, 26.4))
    result = inspect(made.plan, perfect)
    assert result.characteristics[0].value == pytest.approx(4.0, abs=0.002)
    again = propose_height(made.plan, Engine(perfect.data), (-42.0, -26.4))
    assert sum(s.kind == "plane" for s in again.plan.steps) == 1, "the plane there is gets used"


def test_general_tolerances():
    assert [permissible(n) for n in (0.5, 3.0, 3.1, -8.0, 84.0, 120.0, 401.0)] == [
        0.1,
        0.1,
        0.1,
        0.2,
        0.3,
        0.3,
        0.8,
    ]
