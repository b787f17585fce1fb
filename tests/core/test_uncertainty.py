"""The uncertainty of values: what is stated holds what is true, and no part is evaluated with less."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.special import erf

from hemtra import HeightMap, load_plan, save_plan
from hemtra.core.characteristics.along import AlongKind
from hemtra.core.characteristics.continuity import ContinuityKind
from hemtra.core.characteristics.relations import WidthKind
from hemtra.core.characteristics.sizes import AreaKind, DiameterKind
from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.known_to import seen_whole, without_old_budgets
from hemtra.core.evaluation.rows import NO_BUDGET
from hemtra.core.evaluation.trial_values import THINNED, Look, Tried
from hemtra.core.evaluation.uncertainty import Scales, budgets, with_budgets
from hemtra.core.maps.assemble import resample_rows
from hemtra.core.maps.noise import noise_of, typical_noise
from hemtra.core.plan.budget import Budget, lengthened
from hemtra.core.plan.document import ByProfile, Characteristic, Plan, Step
from hemtra.core.plan.limits import Verdict
from hemtra.core.plan.proof import hardly_known
from hemtra.core.plan.tolerance import parse_tolerance
from hemtra.core.zones.zone import RectangleZone
from hemtra.virtual.demo import STATION
from makers import box, edited, levels, sloped

NOISE, DX, DY = 0.006, 0.1, 0.14


def bar(seed, turn=0.0, shift=0.0, noise=NOISE, soft=0.0):
    """A bar 5.94 mm wide and 2 mm high with sheer sides, or with soft ones, anywhere on the grid."""
    x, y = np.meshgrid(-8.0 + DX * np.arange(161), -7.0 + DY * np.arange(101))
    c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    inside = 2.97 - np.abs(c * (x - shift) + s * y)
    z = 1.0 + erf(inside / soft) if soft else np.where(inside > 0.0, 2.0, 0.0)
    return HeightMap(z + np.random.default_rng(seed).normal(0, noise, z.shape), None, DX, DY, -8.0, -7.0)


def width_plan(turn=0.0, shift=0.0, **row):
    """The width of that bar."""
    c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    sides = [
        Step(
            id=name,
            name=name,
            kind="edge",
            zone=RectangleZone(x=shift + k * 3 * c, y=k * 3 * s, width=3, height=7, rotation=turn),
        )
        for name, k in (("left", -1), ("right", 1))
    ]
    width = Step(id="width", name="Width", kind="width", inputs={"one": ("left",), "other": ("right",)})
    limits = {"nominal": 5.94, "lower": 5.74, "upper": 6.14, **row}
    return Plan(steps=(*sides, width), sheet=(Characteristic(balloon=1, name="Width", step="width", **limits),))


@pytest.mark.parametrize("level", [0.002, 0.02])
def test_the_noise_of_a_scan_is_told_whatever_lies_on_it(level):
    rng = np.random.default_rng(1)
    x, y = np.meshgrid(np.arange(400) * 0.1, np.arange(300) * 0.16)
    # a slope, a wall, a bend and a hole
    z = 0.05 * x + np.where(x > 20, 3.0, 0.0) - 0.02 * (y - 24.0) ** 2 + rng.normal(0, level, x.shape)
    z[100:140, 50:90] = np.nan
    data = HeightMap(z, None, 0.1, 0.16, 0.0, 0.0)
    assert typical_noise(data) == pytest.approx(level, rel=0.1)
    assert noise_of(data).typical == pytest.approx(level, rel=0.1)


def test_noise_that_neighbours_share_counts_as_means_feel_it():
    """Points interpolated between columns scatter less, and means over them as much as ever."""
    rng = np.random.default_rng(2)
    place = np.tile(0.103 * np.arange(300) + 0.02, (200, 1))
    z, grey = np.empty((200, 290), np.float32), np.empty((200, 290), np.uint8)
    raw = rng.normal(0, 0.01, place.shape).astype(np.float32)
    resample_rows(place, raw, np.full(raw.shape, 9, np.uint8), 0.1, 0.1, 0, z, grey)
    assert z.std() < 0.009
    means = z[:, :280].reshape(200, 7, 40).mean(axis=2)
    told = typical_noise(HeightMap(z, None, 0.1, 0.1, 0.0, 0.0)) / math.sqrt(40)
    assert told == pytest.approx(means.std(), rel=0.2)


def test_point_noise_is_what_values_scatter_by_from_scan_to_scan():
    plan = levels()
    scans = [sloped(noise=0.01, seed=k) for k in range(60)]
    values = [Engine(scan).run(plan).characteristics[0].value for scan in scans]
    budget = budgets(plan, scans[:1])[1]
    assert budget.noise == pytest.approx(np.std(values), rel=0.4)
    assert budget.sampling + budget.phase < budget.noise


def test_what_the_grid_cannot_tell_of_sheer_edges_is_stated():
    """On bars in many places and directions the error stays within U, and U is not much more than it takes."""
    errors, stated = [], []
    for k in range(12):
        turn, shift = 30.0 * (k % 3), 0.0137 * k
        plan = width_plan(turn, shift)
        found = budgets(plan, [bar(k, turn, shift)], copies=8)[1]
        row = Engine(bar(k, turn, shift)).run(plan).characteristics[0]
        errors.append(abs(row.value - 5.94))
        stated.append(2.0 * found.u)
    held = np.array(errors) <= np.array(stated)
    assert held.mean() >= 0.9
    assert np.median(stated) < 4.0 * np.percentile(errors, 95)
    along = budgets(width_plan(), [bar(0)], copies=8)[1]
    askew = budgets(width_plan(33.0), [bar(0, 33.0)], copies=8)[1]
    assert along.edges > 4.0 * askew.edges, "along its columns the grid tells an edge least"


def test_edges_that_the_points_see_whole_are_known_far_better_than_sheer_ones():
    poses = [(12.0 + 7.0 * k, 0.0137 * k) for k in range(8)]
    errors, stated, sheer = [], [], []
    for k, (turn, shift) in enumerate(poses):
        plan = width_plan(turn, shift)
        data = bar(k, turn, shift, soft=0.2)
        stated.append(2.0 * budgets(plan, [data], copies=8)[1].u)
        errors.append(abs(Engine(data).run(plan).characteristics[0].value - 5.94))
        sheer.append(2.0 * budgets(plan, [bar(k, turn, shift)], copies=8)[1].u)
    assert np.mean(np.array(errors) <= stated) >= 0.85
    assert np.median(stated) < 3.0 * max(errors)
    assert np.median(stated) < 0.3 * np.median(sheer)


def test_what_the_noise_adds_to_form_is_that_of_the_part_that_shows_it_most():
    """On a perfect part all of its flatness is an error, and U holds it however the part lies to the grid."""
    flatness = Step(id="f", name="Flatness", kind="flatness", inputs={"surfaces": ("p",)})
    row = Characteristic(balloon=1, name="Flatness", step="f", upper=0.05)
    scans = [bar(k, noise=0.02) for k in range(6)]
    plans = []
    for k in range(6):
        zone = RectangleZone(x=0.0, y=0.0, width=3.6, height=6.0, rotation=3.0 * k)
        plans.append(Plan(steps=(Step(id="p", name="Top", kind="plane", zone=zone), flatness), sheet=(row,)))
    found = budgets(plans[0], scans, copies=8)[1]
    assert found.outward
    for plan, scan in zip(plans, scans, strict=True):
        read = Engine(scan).run(with_budgets(plan, {1: found.model_copy(update={"method": ""})}))
        assert 0.0 < read.characteristics[0].value <= 2.0 * found.u


def test_scales_of_the_station_count_by_what_they_do_to_the_value():
    plan = width_plan()
    found = budgets(plan, [bar(0)], Scales(x=2e-3), copies=8)[1]
    assert found.calibration == pytest.approx(5.94 * 2e-3, rel=0.2)
    assert budgets(plan, [bar(0)], Scales(z=2e-3), copies=8)[1].calibration < 1e-4


def test_a_station_states_its_scales_in_its_snapshot_or_states_none():
    stated = STATION.with_part("scales", y=0.02)
    assert Scales.of(stated.snapshot()) == Scales(y=2e-4)
    for held in ({}, {"scales": None}, {"scales": {"y": -1.0}}, {"scales": {"y": "much"}}, {"scales": 7}):
        assert Scales.of(held) == Scales(), held


def test_each_part_is_evaluated_with_its_own_uncertainty():
    data = sloped(noise=0.01)
    asked = levels()
    row = asked.sheet[0].edited(covers=2.0)
    unknown = Engine(data).run(asked.with_characteristic(row)).characteristics[0]
    assert (unknown.verdict, unknown.reason) == (Verdict.NOT_MEASURED, NO_BUDGET)
    plan = with_budgets(asked.with_characteristic(row), budgets(asked, [data]))
    result = Engine(data).run(plan).characteristics[0]
    assert result.verdict is Verdict.PASS
    assert result.u == pytest.approx(result.budget.u)
    # a limit so near that it is beyond by less than U
    near = plan.sheet[0].edited(lower=result.value + result.u, upper=1.0)
    assert Engine(data).run(plan.with_characteristic(near)).characteristics[0].verdict is Verdict.NOT_PROVEN
    rough = Engine(sloped(noise=0.05)).run(plan).characteristics[0]
    assert rough.u > 3.0 * result.u, "a part that scatters more is known less well"


def test_a_row_that_is_measured_otherwise_since_has_no_budget_any_more(tmp_path):
    data = sloped(noise=0.01)
    engine, plan = Engine(data), levels()
    known = with_budgets(plan, budgets(plan, [data], copies=8))
    assert engine.taught(known).sheet[0].budget == known.sheet[0].budget
    renamed = known.with_step(known.steps[0].edited(name="Another name"))
    limits = renamed.with_characteristic(renamed.sheet[0].edited(upper=0.2))
    assert engine.taught(limits).sheet[0].budget == known.sheet[0].budget
    moved = known.with_step(known.steps[0].edited(zone=box(1.5, 0.0)))
    assert engine.taught(moved).sheet[0].budget is None
    # a file whose zone was changed by hand is read without it, and one that was not with it
    save_plan(known, tmp_path / "known.hplan")
    save_plan(moved, tmp_path / "moved.hplan")
    assert load_plan(tmp_path / "known.hplan").sheet[0].budget == known.sheet[0].budget
    assert load_plan(tmp_path / "moved.hplan").sheet[0].budget is None


def test_what_unseen_data_leaves_room_for_is_part_of_the_budget():
    def humped(z, x, y):
        z -= 0.02 * x**2
        z[28:33, 6:16] = np.nan

    data = edited(sloped(noise=0.002), humped)
    plan = Plan(
        steps=(
            Step(id="p", name="P", kind="plane", zone=box(0, 0, 6, 6)),
            Step(id="f", name="F", kind="flatness", inputs={"surfaces": ("p",)}),
        ),
        sheet=(Characteristic(balloon=1, name="F", step="f", upper=1.0, least_coverage=0.0),),
    )
    row = Engine(data).run(with_budgets(plan, budgets(plan, [data], copies=8))).characteristics[0]
    assert row.high > row.low
    assert row.budget.unseen == pytest.approx((row.high - row.low) / math.sqrt(12))


def test_runs_of_profiles_know_their_values_too():
    x = -3.0 + 0.1 * np.arange(61)
    z = np.where(np.abs(x) < 1.0, -1.0, 0.0) + np.random.default_rng(3).normal(0, 0.004, (30, 61))
    data = HeightMap(z, None, 0.1, 0.5, -3.0, 0.0)
    steps = (
        Step(id="profile", name="Profile", kind="profile"),
        Step(
            id="level",
            name="Level",
            kind="profile-level",
            inputs={"section": ("profile",)},
            zone=box(0, -1, 1.6, 1),
        ),
        Step(id="h", name="H", kind="position", params={"axis": "z"}, inputs={"point": ("level",)}),
    )
    rows = (Characteristic(balloon=1, name="H", step="h", lower=-1.2, upper=-0.8),)
    plan = Plan(steps=steps, sheet=rows, by_profile=ByProfile())
    result = Engine(data).run(with_budgets(plan, budgets(plan, [data], copies=12))).characteristics[0]
    error = max(abs(result.least + 1.0), abs(result.greatest + 1.0))
    assert error / 3.0 < 2.0 * result.u < 3.0 * error
    smooth = plan.edited(by_profile=ByProfile(average=9))
    known = with_budgets(smooth, budgets(smooth, [data], copies=12))
    assert known.sheet[0].budget.noise < 0.6 * budgets(plan, [data], copies=12)[1].noise
    assert without_old_budgets(known) == known
    single = known.edited(by_profile=ByProfile())
    assert without_old_budgets(single).sheet[0].budget is None, (
        "one profile is known less well than the mean of nine"
    )


def test_edges_on_profiles_are_known_no_better_than_their_points_lie_apart():
    """A slot with sheer walls, in the same place on all profiles, so that each errs alike."""
    x, wide, zone = -3.0 + 0.1 * np.arange(61), 1.97, box(0, -0.5, 6, 3)

    def slot(seed):
        rng = np.random.default_rng(seed)
        z = np.where(np.abs(x - rng.uniform(-0.5, 0.5)) < wide / 2, -1.0, 0.0)
        return HeightMap(z + rng.normal(0, 0.004, (6, 61)), None, 0.1, 0.5, -3.0, 0.0)

    def feature(name, kind, **params):
        return Step(id=name, name=name, kind=kind, params=params, inputs={"section": ("p",)}, zone=zone)

    def number(name, kind, params, **inputs):
        return Step(id=name, name=name, kind=kind, params=params, inputs={k: (v,) for k, v in inputs.items()})

    steps = (
        Step(id="p", name="Profile", kind="profile"),
        feature("left", "profile-edge", change="falls"),
        feature("right", "profile-edge", change="rises", by="level", level=-0.5),
        feature("groove", "groove"),
        number("apart", "distance", {"along": "x"}, start="left", end="right"),
        number("wide", "groove-size", {"what": "width"}, of="groove"),
    )
    limits = {"nominal": wide, "lower": 1.5, "upper": 2.5, "over": "share"}
    rows = [Characteristic(balloon=k, name=i, step=i, **limits) for k, i in ((1, "apart"), (2, "wide"))]
    plan = Plan(steps=steps, sheet=tuple(rows), by_profile=ByProfile())
    known = with_budgets(plan, budgets(plan, [slot(0)], copies=8))
    found = [Engine(slot(seed)).run(known).characteristics for seed in range(1, 61)]
    errors = np.array([[max(abs(r.least - wide), abs(r.greatest - wide)) for r in both] for both in found])
    stated = 2.0 * np.array([[row.u for row in both] for both in found])
    assert (np.mean(errors <= stated, axis=0) >= 0.93).all()
    assert (stated[0] <= 2.0 * np.percentile(errors, 95, axis=0)).all()


def test_stopping_and_having_nothing_leave_nothing():
    plan, data = levels(), sloped(noise=0.01)
    assert budgets(plan, [data], progress=lambda done, of, what: done < 3) == {}
    with pytest.raises(HemtraError, match="add that of a good part"):
        budgets(plan, [])
    empty = edited(data, lambda z, x, y: z.fill(np.nan))
    assert budgets(plan, [empty], copies=8) == {}
    flat = HeightMap(np.zeros((2, 80), np.float32), None, 0.1, 0.2, -4.0, -6.0)
    assert budgets(plan, [flat], copies=8) == {}


def test_what_is_hardly_known_is_warned_of():
    plan = width_plan()
    coarse = with_budgets(plan, {1: Budget(noise=0.001, phase=0.03, unit="mm")})
    ((row, why),) = hardly_known(coarse)
    assert row.balloon == 1
    assert why == "its uncertainty, U = 0.06 mm, is 15 % of the tolerance; most of it is grid phase."
    assert not list(hardly_known(with_budgets(plan, {1: Budget(noise=0.001)})))


def test_a_length_near_zero_scatters_by_more_on_a_rough_part():
    budget = Budget(noise=0.01, level=0.002, magnitude=True)
    nothing = math.hypot(1.0, math.sqrt(math.pi / 2.0))
    assert budget.on(1.0, 0.002, 0.0).u == pytest.approx(0.01)
    assert budget.on(0.01, 0.002, 0.0).u == pytest.approx(0.01 * nothing)
    # so far off is still nothing on a part that scatters three times as much
    assert budget.on(0.08, 0.006, 0.0).u == pytest.approx(0.03 * nothing)
    assert 0.01 < budget.on(0.035, 0.002, 0.0).u < 0.01 * nothing


@pytest.mark.parametrize("true", [0.0, 0.5, 1.0, 1.5, 2.0, 3.0, 6.0])
def test_a_length_is_within_its_uncertainty_however_short_it_is(true):
    """Both of its coordinates scatter by 1."""
    along, across = np.random.default_rng(3).normal(0.0, 1.0, (2, 4000))
    found = np.hypot(true + along, across)
    stated = np.hypot(1.0, [lengthened(value, 1.0) for value in found])
    assert np.mean(np.abs(found - true) <= 2.0 * stated) >= 0.95
    assert np.mean((found - true) ** 2) <= 1.05 * np.mean(stated**2)


def test_copies_of_a_length_near_zero_tell_the_scatter_of_its_coordinates():
    """As of a place on the spot where it should be, or far away from it."""
    rng = np.random.default_rng(4)
    for away in (0.0, 0.02, 1.0):
        along, across = rng.normal(0.0, 0.01, (2, 400))
        length = np.hypot(away + along, across)
        known = of_one_scan(np.full(1 + len(THINNED), away), length, None)
        assert known.budget(0, outward=False, length=True).noise == pytest.approx(0.01, rel=0.1)


SHARE = st.floats(0.0, 10.0)


@given(SHARE, SHARE, SHARE)
def test_what_pushes_the_furthest_of_many_one_way_is_added_as_it_is(noise, form, spacing):
    shares = {"noise": noise, "form": form, "sampling": spacing}
    one, outward = Budget(**shares), Budget(**shares, outward=True)
    assert outward.u == pytest.approx(math.hypot(noise, form + spacing))
    assert one.u <= outward.u * (1.0 + 1e-12)
    if outward.u > 1e-6:
        assert sum(outward.shares.values()) == pytest.approx(1.0)
        assert outward.shares.get("form", 0.0) * spacing == pytest.approx(
            outward.shares.get("sampling", 0.0) * form, abs=1e-9
        )


@given(SHARE, SHARE, SHARE, st.floats(0.1, 5.0), st.floats(0.1, 5.0))
def test_shares_make_the_whole_and_each_source_grows_by_its_own_cause(noise, phase, spacing, rougher, wider):
    budget = Budget(noise=noise, phase=phase, sampling=spacing, level=0.01, edges=0.02)
    assert budget.u == pytest.approx(math.sqrt(noise**2 + phase**2 + spacing**2))
    if budget.u > 1e-6:
        assert sum(budget.shares.values()) == pytest.approx(1.0)
    there = budget.on(1.0, 0.01 * rougher, 0.02 * wider)
    assert (there.noise, there.phase, there.sampling) == pytest.approx(
        (noise * max(rougher, 1.0), phase * wider, spacing)
    )


def test_form_never_counts_for_more_than_what_a_perfect_part_would_read():
    budget = Budget(noise=0.001, form=2.0, level=0.01, floor=0.9)
    assert budget.on(5.0, 0.01, 0.0).form == pytest.approx(0.9 / math.sqrt(3.0))
    assert budget.on(5.0, 0.03, 0.0).form == pytest.approx(2.7 / math.sqrt(3.0)), "more on a rougher part"
    rough = budget.model_copy(update={"form": 0.0}).on(5.0, 0.01, 0.0)
    assert rough.form == pytest.approx(0.9 * 0.36 / math.sqrt(3.0)), "less, the more form there is"


def test_an_own_uncertainty_is_typed_and_written_alike():
    found = parse_tolerance("4.00 ±0.10 U 2u")
    assert (found.uncertainty, found.covers, found.upper) == (None, 2.0, 4.1)
    row = Characteristic(balloon=1, name="H", nominal=4.0, lower=3.9, upper=4.1, covers=2.0)
    assert row.tolerance == "4.00 ±0.10 U 2u"
    assert parse_tolerance(row.tolerance).covers == 2.0
    with pytest.raises(HemtraError, match="at most 10"):
        parse_tolerance("4.00 ±0.10 U 20 u")


def tried(kind, order=1.0, off=0.0, power=1.0, apart=0.0, noise=0.0, whole=False):
    """Copies of a scan whose values lie off with a power of the spacing, and apart with another."""
    values = [1.0]
    for i, j, down, right in THINNED:
        every, places = max(down, right), np.arange(down * right)
        place = (i * right + j - places.mean()) / places.std(ddof=1)
        # to leading order, what is thinner both ways lies off by what either way does, together
        lies = off * (every**order - 1.0) * (1.0 if down == right else 0.5)
        values.append(1.0 + lies + apart * place * every**power)
    still = 1.0 + noise * (-1.0) ** np.arange(16)
    return of_one_scan(np.array(values), still, kind, whole)


def of_one_scan(values, copies, kind, whole=False):
    """A row that reads some values on a scan and thinner maps of it, and others on copies with noise."""
    ends, noisy = (np.repeat(found, 2).reshape(-1, 1, 2) for found in (values, copies))
    look = Look(ends, noisy, noisy, np.zeros(1), np.full(1, whole), np.zeros(1))
    return Tried([look], [], noisy[:0], [kind], np.full(1, np.nan), np.zeros(1, bool))


@given(st.floats(2.0, 4.0))
def test_the_spacing_of_a_smooth_surface_counts_with_the_order_that_its_values_show(order):
    budget = tried(AlongKind(what="width"), order, off=0.02).budget(0, outward=False)
    assert budget.sampling * math.sqrt(3.0) == pytest.approx(0.02, rel=1e-3)


def test_the_spacing_of_a_sum_over_many_places_counts_in_full():
    """It is the same on every part; what few places decide lies anywhere up to there."""
    budget = tried(ContinuityKind(take="volume"), 2.0, off=0.02).budget(0, outward=False)
    assert budget.sampling == pytest.approx(0.02, rel=1e-3)


def test_the_spacing_of_a_sharp_edge_counts_in_proportion_unless_the_points_see_it_whole():
    sharp, whole = (tried(DiameterKind(), order, off=0.02).budget(0, outward=False) for order in (2.0, 4.0))
    assert sharp.sampling * math.sqrt(3.0) == pytest.approx(0.06, rel=1e-3)
    assert whole.sampling * math.sqrt(3.0) == pytest.approx(0.02, rel=1e-3)


def test_an_order_that_scatter_may_feign_is_none():
    budget = tried(DiameterKind(), 4.0, off=0.0002, apart=0.02).budget(0, outward=False)
    assert budget.phase == pytest.approx(0.02, rel=0.05)


@pytest.mark.parametrize("power", [1.0, 1.25, 1.5])
def test_a_rim_across_the_grid_in_all_directions_is_known_better_than_one_along_it(power):
    budget = tried(AreaKind(), power=power, apart=0.02, noise=0.004).budget(0, outward=False)
    assert budget.phase == pytest.approx(0.02, rel=0.05)


def test_edges_that_the_points_see_whole_misplace_less_than_thinner_maps_make_it_seem():
    seen, unseen = (
        tried(WidthKind(), power=3.0, apart=0.02, whole=whole).budget(0, outward=False)
        for whole in (True, False)
    )
    assert seen.phase == pytest.approx(0.04, rel=0.01), "twice what it is, since it may fall more slowly"
    assert unseen.phase > 2.0 * seen.phase
    turn, shift = 1.0, 0.05
    plan = width_plan(turn, shift)
    for soft, whole in ((0.2, True), (0.0, False)):
        result = Engine(bar(1, turn, shift, soft=soft)).run(plan)
        assert seen_whole(plan, plan.sheet[0].step, result.steps) is whole


def test_noise_counts_as_it_scatters_values_on_all_scans():
    """Values of three scans lie far apart, and scatter by 0.01, 0.02 and 0.03 about their own mean."""
    looks = []
    for level, turn in ((1.0, 0.01), (5.0, 0.02), (-3.0, 0.03)):
        here = of_one_scan(np.full(1 + len(THINNED), level), level + turn * (-1.0) ** np.arange(16), None)
        looks += here.looks
    tried = Tried(looks, [], looks[0].free[:0], [None], np.full(1, np.nan), np.zeros(1, bool))
    found = tried.budget(0, outward=False)
    scatter = math.sqrt((0.01**2 + 0.02**2 + 0.03**2) / 3 * 16 / 15)
    assert found.noise == pytest.approx(scatter * (1.0 + 1.0 / math.sqrt(2 * 45))), "a standard error more"
    assert (found.form, found.phase) == (0.0, 0.0)


@pytest.mark.parametrize(("step", "tilt"), [(0.02, 0.0), (0.02, 0.004), (0.001, 0.004)])
def test_heights_in_coarse_steps_are_known_no_better_than_those(step, tilt):
    """However many points there are: where noise does not blur the steps all points are rounded alike."""
    rng = np.random.default_rng(7)

    def boss(rise):
        x, y = np.meshgrid(0.1 * np.arange(300), 0.1 * np.arange(200))
        z = 7.1 + step * rng.random() + tilt * (x + y) + rise * (np.hypot(x - 15, y - 10) < 4) + 0.2 * (x > 22)
        z += 0.05 * (x > 24) + 0.3 * (x > 26) + rng.normal(0.0, 0.002, x.shape)
        return HeightMap((np.rint(z / step) * step).astype(np.float32), dx=0.1, dy=0.1)

    datum = Step(id="a", name="A", kind="plane", zone=RectangleZone(x=4, y=10, width=6, height=16))
    top = Step(id="t", name="T", kind="spot", zone=RectangleZone(x=15, y=10, width=4, height=4))
    height = Step(id="h", name="H", kind="height", inputs={"point": ("t",), "plane": ("a",)})
    sheet = (Characteristic(balloon=1, name="H", step="h", lower=1.9, upper=2.1),)
    plan = Plan(steps=(datum, top, height), sheet=sheet)
    u = budgets(plan, [boss(2.0 + step * rng.random()) for _ in range(4)], copies=32)[1].u
    rises = 2.0 + step * rng.random(30)
    size = math.sqrt(1.0 + 2.0 * tilt**2)
    errors = [Engine(boss(rise)).run(plan).characteristics[0].value - rise / size for rise in rises]
    assert np.mean(np.abs(errors) <= 2.0 * u) >= 0.93
    assert u < 0.6 * step if step > 0.01 else u < 0.001
