"""Runs of profiles: what is measured on each, and what verdict many values make."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hemtra import Characteristic, HeightMap, Plan, Step, Verdict, inspect, teach
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.profile_runs import single
from hemtra.core.evaluation.profiles import Profiles
from hemtra.core.geometry.middle import middle_of
from hemtra.core.geometry.profile_fits import robust_arc, robust_line
from hemtra.core.plan.document import ByProfile, Follow
from hemtra.core.plan.series import Demand, Series, combined, stretches
from hemtra.core.zones.zone import RectangleZone
from hemtra.virtual.runner_demo import RUNNERS, drawn_runner_plan, runner_plan, runner_truth

PITCH = 0.05


def stairs(edges, step=2.0, points=400) -> HeightMap:
    """A profile a row, `step` mm higher right of its edge in mm; NaN edges leave a row empty."""
    x = (np.arange(points) - points / 2) * PITCH
    z = np.where(x[None, :] >= np.asarray(edges)[:, None], step, 0.0)
    z[np.isnan(edges)] = np.nan
    return HeightMap(z, dx=PITCH, dy=0.5, x0=float(x[0]))


def edge_plan(over="each", lower=-1.0, upper=1.0, **run) -> Plan:
    zone = RectangleZone(x=0, y=1, width=12, height=6)
    steps = (
        Step(id="profile", name="Profile", kind="profile"),
        Step(id="edge", name="Edge", kind="profile-edge", inputs={"section": ("profile",)}, zone=zone),
        Step(id="place", name="Place", kind="position", inputs={"point": ("edge",)}),
    )
    row = Characteristic(balloon=1, name="Place", step="place", lower=lower, upper=upper, over=over)
    return Plan(name="edges", steps=steps, sheet=(row,), by_profile=ByProfile(**run))


def test_each_profile_has_its_own_value():
    edges = np.linspace(-3, 3, 40)
    found = inspect(edge_plan(), stairs(edges)).series[1]
    assert np.abs(found.values - edges).max() <= PITCH / 2 + 1e-9
    assert found.at == pytest.approx(0.5 * np.arange(40))


def test_a_run_and_its_profiles_one_by_one_give_the_same_numbers():
    plan, data = runner_plan(), RUNNERS[5].scan().data
    engine = Engine(data)
    run = engine.run(plan)
    for index in (0, 137, 300, 499):
        alone = engine.at_profile(plan, index).run(single(plan))
        assert alone.characteristics[0].at.y == pytest.approx(data.y[index])
        for evaluated in alone.characteristics:
            assert run.series[evaluated.balloon].values[index] == pytest.approx(evaluated.value, abs=1e-12)


def odd_profiles() -> HeightMap:
    """A groove, two bars and a step on 40 profiles; on some nothing, half of it, no groove, or none apart."""
    x, k = np.broadcast_arrays(-10.0 + PITCH * np.arange(400), np.arange(40)[:, None])
    z = 0.1 * x - 0.8 * np.exp(-(((x + 6.0) / 0.4) ** 2)) * (k % 4 > 0)
    apart = np.where(k % 3 == 0, 0.9, 1.6)
    for middle in (2.0, 2.0 + apart):
        z = np.maximum(z, 1.0 + np.sqrt(np.maximum(0.36 - (x - middle) ** 2, 0.0)) * (np.abs(x - middle) < 0.6))
    z = z + np.where(x > 7.0, 2.0 + 0.01 * k, 0.0)
    z[k % 7 == 5] = np.nan
    z[(k % 7 == 3) & (x < 0.0)] = np.nan
    z += np.random.default_rng(8).normal(0.0, 2e-4, z.shape)
    return HeightMap(z, dx=PITCH, dy=0.3, x0=-10.0)


def many_kinds() -> Plan:
    """Every kind that is measured on all profiles at once, and some that go one by one."""

    def on(name, kind, x, width, **params) -> Step:
        zone = RectangleZone(x=x, y=1.0, width=width, height=8.0)
        return Step(id=name, name=name, kind=kind, inputs={"section": ("profile",)}, zone=zone, params=params)

    def of(kind, params=None, **inputs) -> Step:
        wired = {name: (used,) for name, used in inputs.items()}
        return Step(id=f"c{len(measured)}", name=kind, kind=kind, inputs=wired, params=params or {})

    features = [
        Step(id="profile", name="Profile", kind="profile"),
        on("groove", "groove", -6.0, 4.0),
        on("edge", "profile-edge", 7.0, 3.0),
        on("level", "profile-level", -2.0, 2.0),
        on("ramp", "profile-line", -1.0, 3.0),
        on("top", "extreme", 2.5, 4.0),
        on("left", "arc", 1.9, 0.9, least_span=20),
        on("right", "arc", 3.4, 1.2, least_span=20),
        on("corner", "corner", -3.9, 6.0),
    ]
    measured: list[Step] = []
    for step in (
        ("groove-size", {"what": "depth"}, {"of": "groove"}),
        ("groove-size", {"what": "width"}, {"of": "groove"}),
        ("distance", {}, {"start": "groove", "end": "edge"}),
        (
            "distance",
            {"along": "direction", "direction": 30.0, "signed": True},
            {"start": "edge", "end": "level"},
        ),
        ("distance", {"along": "z"}, {"start": "level", "end": "ramp"}),
        ("angle", {"take": "complement"}, {"line": "ramp"}),
        ("radius", {}, {"of": "left"}),
        ("diameter", {}, {"of": "right"}),
        *(
            ("gap", {"take": take}, {"left": "left", "right": "right"})
            for take in ("least", "lateral", "flush")
        ),
        ("gap", {"take": "depth", "depth": 0.1}, {"left": "left", "right": "right", "line": "ramp"}),
        ("gap", {}, {"left": "level", "right": "edge"}),
        ("position", {"axis": "r"}, {"point": "corner"}),
        ("position", {"axis": "z"}, {"point": "top"}),
    ):
        measured.append(of(step[0], step[1], **step[2]))
    rows = [Characteristic(balloon=k + 1, name=s.id, step=s.id, upper=1e6) for k, s in enumerate(measured)]
    return Plan(name="many", steps=(*features, *measured), sheet=tuple(rows), by_profile=ByProfile())


def test_whatever_a_profile_shows_it_reads_the_same_among_many_as_alone():
    plan, data = many_kinds(), odd_profiles()
    engine = Engine(data)
    run, none = engine.run(plan), 0
    for index in range(40):
        alone = engine.at_profile(plan, index).run(single(plan))
        for row in alone.characteristics:
            series = run.series[row.balloon]
            if row.value is None:
                none += 1
                assert np.isnan(series.values[index])
                assert series.reasons[index] == row.reason or "holds no data at all" in row.reason
            else:
                assert series.values[index] == row.value, (index, row.balloon)
                assert series.places[index] == pytest.approx((row.at.x, row.at.y, row.at.z), abs=0.0)
                assert index not in series.reasons
    assert 60 < none < 0.6 * 40 * len(plan.sheet), "there is some of either"
    depths = run.series[1].values[[4, 8, 16]]
    assert (np.abs(depths) < 0.1).all(), "where there is no groove, that it is none"


@pytest.mark.parametrize("part", RUNNERS, ids=lambda part: "-".join(part.defects) or f"good-{part.seed}")
def test_every_runner_fails_exactly_what_its_truth_says(part):
    result = inspect(runner_plan(), part.scan())
    failing = [c.balloon for c in result.characteristics if c.verdict is not Verdict.PASS]
    assert failing == runner_truth((part,))[part.file]["fails"]
    assert (result.verdict is Verdict.PASS) == (part.tag == "good")


def test_the_values_along_a_runner_follow_its_truth():
    part = RUNNERS[9]
    series = inspect(runner_plan(), part.scan()).series
    bounds = {1: 0.01, 2: 0.08, 3: 0.03, 4: 0.01, 6: 0.01, 8: 0.05, 9: 0.08, 10: 0.03}
    for balloon, bound in bounds.items():
        truth = part.runner.truth(series[balloon].at)[balloon]
        assert np.abs(series[balloon].values - truth).max() < bound, balloon


def test_a_dent_shows_where_it_is():
    part = RUNNERS[5]
    series = inspect(runner_plan(), part.scan()).series[4]
    (first, last), *others = stretches(series.values < 0.85)
    assert not others
    assert series.at[[first, last]] == pytest.approx(part.runner.dent[:2], abs=0.2)


def test_a_zone_follows_its_anchor_on_every_profile():
    """A step of 1 mm stands 4 mm right of an edge that wanders over 6 mm; its zone is 1.5 mm wide."""
    edges = np.linspace(-5, 1, 30)
    x = (np.arange(400) - 200) * PITCH
    z = np.where(x >= edges[:, None], 2.0, 0.0) + np.where(x >= edges[:, None] + 4.0, 1.0, 0.0)
    data = HeightMap(z, dx=PITCH, dy=1.0, x0=float(x[0]))
    plan = edge_plan(at=0.0)
    first = plan.step("edge").edited(zone=RectangleZone(x=-2, y=1, width=9, height=3), params={"pick": "first"})
    second = Step(
        id="second",
        name="Second",
        kind="profile-edge",
        inputs={"section": ("profile",)},
        zone=RectangleZone(x=-1, y=2.5, width=1.5, height=3),
        follow=Follow(x="edge"),
    )
    apart = Step(
        id="apart",
        name="Apart",
        kind="distance",
        params={"along": "x"},
        inputs={"start": ("edge",), "end": ("second",)},
    )
    row = plan.sheet[0].edited(step="apart", lower=3.9, upper=4.1)
    plan = plan.with_step(first).edited(steps=(plan.step("profile"), first, second, apart), sheet=(row,))
    result = inspect(teach(plan, data), data)
    assert result.series[1].measured.all()
    assert result.series[1].values == pytest.approx(np.full(30, 4.0), abs=PITCH)


def test_other_kinds_look_in_their_zone_on_profiles_too():
    """The highest point of a ridge that wanders, beside a step that is higher."""
    peaks, x = np.linspace(-6, -2, 20), (np.arange(400) - 200) * PITCH
    z = np.maximum(1.0 - np.abs(x - peaks[:, None]), 0.0) + np.where(x > 2.0, 3.0, 0.0)
    data = HeightMap(z, dx=PITCH, dy=1.0, x0=float(x[0]))
    plan = edge_plan(lower=-7.0, upper=-1.0)
    zone = RectangleZone(x=-4, y=1, width=10, height=4)
    top = Step(id="edge", name="Top", kind="extreme", inputs={"section": ("profile",)}, zone=zone)
    found = inspect(plan.with_step(top), data).series[1]
    assert np.abs(found.values - peaks).max() < 2 * PITCH
    # a step that stays where it is carries the zone nowhere
    step = plan.step("edge").edited(id="step", zone=RectangleZone(x=2, y=1, width=4, height=9))
    steps = (plan.step("profile"), step, top.edited(follow=Follow(x="step")), plan.step("place"))
    following = teach(plan.edited(steps=steps), data)
    assert inspect(following, data).series[1].values == pytest.approx(found.values)


def test_what_is_missing_decides_unless_enough_is_measured():
    edges = np.zeros(40)
    edges[7] = np.nan
    each = inspect(edge_plan("each"), stairs(edges)).characteristics[0]
    assert each.verdict is Verdict.NOT_MEASURED
    assert "39 of 40 profiles" in each.reason
    assert "only 0 % of the section has data" in each.reason
    for over in ("mean", "worst", "share"):
        assert inspect(edge_plan(over), stairs(edges)).verdict is Verdict.PASS
        strict = edge_plan(over, least_measured=99.0)
        assert inspect(strict, stairs(edges)).verdict is Verdict.NOT_MEASURED


def test_a_failing_profile_outweighs_a_missing_one():
    edges = np.zeros(40)
    edges[3], edges[9] = np.nan, 2.5
    assert inspect(edge_plan("each"), stairs(edges)).verdict is Verdict.FAIL


def test_features_of_height_maps_say_that_they_do_not_belong_here():
    zone = RectangleZone(x=0, y=0, width=2, height=2)
    plan = edge_plan()
    spot = Step(id="spot", name="Spot", kind="spot", zone=zone)
    where = Step(id="where", name="Where", kind="position", inputs={"point": ("spot",)})
    plan = plan.edited(steps=(*plan.steps, spot, where), sheet=(plan.sheet[0].edited(step="where"),))
    evaluated = inspect(plan, stairs(np.zeros(5))).characteristics[0]
    assert evaluated.verdict is Verdict.NOT_MEASURED
    assert "profile by profile" in evaluated.reason


def test_a_plan_of_whole_parts_says_so_of_a_profile():
    plan = edge_plan().model_copy(update={"by_profile": None})
    evaluated = inspect(plan, stairs(np.zeros(5))).characteristics[0]
    assert "as a whole" in evaluated.reason


def test_neighbours_are_averaged_where_they_hold_data():
    z = np.array([[0.0], [3.0], [np.nan], [9.0]]) * np.ones(3)
    z[1, 2] = np.nan
    mean = Profiles(HeightMap(z, dx=1, dy=1), 3).data.z
    # neighbours stand in for a point that is missing, not for a profile that was lost
    assert mean[:, 0] == pytest.approx([1.5, 1.5, np.nan, 9.0], nan_ok=True)
    assert mean[:, 2] == pytest.approx([np.nan, np.nan, np.nan, 9.0], nan_ok=True)


def test_editing_one_zone_measures_only_what_hangs_on_it():
    engine, plan = Engine(RUNNERS[1].scan().data), runner_plan()
    assert engine.run(plan).computed == len(plan.steps)
    lip = plan.step("lip")
    moved = plan.with_step(lip.edited(zone=lip.zone.model_copy(update={"height": 2.5})))
    assert engine.run(moved).computed == 2


def test_a_plan_that_goes_by_profiles_is_taught_on_the_one_drawn_on():
    data = RUNNERS[0].scan().data
    taught = teach(drawn_runner_plan(), data)
    assert taught.by_profile == drawn_runner_plan().by_profile
    assert taught.step("left-hem").home.x == pytest.approx(-20.0, abs=0.05)
    assert teach(taught, data) is taught


# -- several instances ------------------------------------------------------------------------------


def test_a_characteristic_may_be_taken_at_every_instance_of_an_outline():
    """Three plates 2.0, 2.3 and 2.1 mm high; the outline is taught on the first."""
    x, y = np.arange(300) * 0.1 - 15.0, np.arange(200)[:, None] * 0.1 - 10.0

    def plate(px, py, high):
        return np.where((np.abs(x - px) < 3) & (np.abs(y - py) < 1.5) & (x - px + y - py < 3), high, 0.0)

    def relief(*plates):
        return HeightMap(sum(plate(*p) for p in plates), dx=0.1, dy=0.1, x0=-15.0, y0=-10.0)

    outline = Step(
        id="outline",
        name="Plate",
        kind="outline",
        params={"count": 5, "order": "x", "turn_from": -30, "turn_to": 30},
        zone=RectangleZone(x=-9, y=4, width=9, height=6),
    )
    follow = Follow(x="outline", y="outline", rotation="outline")
    top = Step(
        id="top", name="Top", kind="spot", zone=RectangleZone(x=-10, y=4, width=2, height=1.5), follow=follow
    )
    high = Step(id="high", name="High", kind="position", params={"axis": "z"}, inputs={"point": ("top",)})
    row = Characteristic(balloon=1, name="High", step="high", lower=1.9, upper=2.2, over="each")
    plan = Plan(name="plates", steps=(outline, top, high), sheet=(row,))
    plan = teach(plan, relief((-9, 4, 2.0)))
    data = relief((-9, 4, 2.0), (1, -6, 2.3), (10, 5, 2.1))
    result = inspect(plan, data)
    assert result.series[1].values == pytest.approx([2.0, 2.3, 2.1], abs=1e-6)
    assert result.verdict is Verdict.FAIL
    assert "at instance 2, 1 of 3 outside" in result.characteristics[0].reason
    mean = plan.edited(sheet=(row.edited(over="mean"),))
    assert inspect(mean, data).characteristics[0].value == pytest.approx(6.4 / 3)
    first = plan.edited(sheet=(row.edited(over=None),))
    assert inspect(first, data).verdict is Verdict.PASS


# -- many values, one verdict ---------------------------------------------------------------------


def series(values) -> Series:
    values = np.asarray(values, np.float64)
    return Series(values, np.arange(values.size), np.zeros((values.size, 3)), {})


@given(st.lists(st.floats(-5, 5), min_size=1, max_size=30), st.floats(-3, 0), st.floats(0, 3))
def test_verdicts_of_many(values, lower, upper):
    inside = [lower <= v <= upper for v in values]
    verdict = {
        over: combined(series(values), Demand(over, lower, upper, 3)).verdict is Verdict.PASS
        for over in ("each", "worst", "mean", "share")
    }
    assert verdict["each"] == verdict["worst"] == all(inside)
    assert verdict["mean"] == (lower <= np.mean(values) <= upper)
    assert verdict["share"] == (np.mean(inside) >= 0.95)


def test_the_worst_is_the_one_farthest_out_on_either_side():
    found = combined(series([0.0, 1.2, -1.5, 1.4]), Demand("worst", -1.0, 1.0, 2))
    assert (found.value, found.at) == (-1.5, 2)
    assert found.share == 0.25


def test_with_an_uncertainty_the_worst_may_be_not_proven():
    assert combined(series([0.0, 0.95]), Demand("each", -1, 1, 2, 0.1)).verdict is Verdict.NOT_PROVEN


def test_stretches_of_what_is_outside():
    assert stretches(np.array([1, 1, 0, 0, 1, 0, 1], bool)) == [(0, 1), (4, 4), (6, 6)]


# -- the fits that run on all profiles -------------------------------------------------------------


@given(st.lists(st.floats(-100, 100), min_size=1, max_size=60))
def test_the_median_is_numpys(values):
    assert middle_of(np.array(values), len(values)) == pytest.approx(np.median(values), abs=1e-12)


@given(st.floats(-2, 2), st.floats(-20, 20), st.integers(0, 2**31), st.floats(0, 0.45))
def test_a_line_is_found_among_outliers(slope, height, seed, wrong):
    rng = np.random.default_rng(seed)
    x = np.sort(rng.uniform(-5, 5, 80))
    z = height + slope * x
    bad = rng.permutation(80)[: int(wrong * 80)]
    z[bad] += rng.uniform(0.5, 3, bad.size)
    a, b, weight = robust_line(x, z, 0.003)
    assert (a, b) == pytest.approx((height, slope), abs=1e-7)
    assert not (weight[bad] > 0).any()


@given(st.floats(0.5, 20), st.floats(20, 300), st.floats(0, 360))
def test_an_arc_without_noise_is_found_exactly(radius, span, start):
    turn = np.radians(start + np.linspace(0, span, 60))
    x, z, r, _ = robust_arc(3.0 + radius * np.cos(turn), -7.0 + radius * np.sin(turn), 0.003)
    assert (x, z, r) == pytest.approx((3.0, -7.0, radius), abs=1e-8 * radius)


def test_a_share_counts_only_what_surely_lies_within():
    """Of ten values two lie nearer to a limit than the uncertainty."""
    values = np.array([0.5] * 8 + [0.97, 0.03])
    series = Series(values, np.arange(10.0), np.zeros((10, 3)), {})
    cases = ((0.0, 1.0, Verdict.PASS), (0.05, 0.8, Verdict.FAIL), (0.02, 1.0, Verdict.PASS))
    for uncertainty, share, verdict in cases:
        found = combined(series, Demand("share", 0.0, 1.0, 2, uncertainty, share=90.0))
        assert (found.share, found.verdict) == (pytest.approx(share), verdict)


def test_many_values_say_how_many_there_are_and_where_the_longest_stretch_is_missing():
    values = np.ones(100)
    values[[20, 21, 22, 60]] = np.nan
    at = 0.5 * np.arange(100.0)
    series = Series(values, at, np.zeros((100, 3)), {})
    assert (series.coverage.seen, series.coverage.points) == (0.96, 100)
    assert series.coverage.gap == pytest.approx(1.5)
    # round a closed path the end continues at the start: two and three of them
    values[[0, 1, 97, 98, 99]] = np.nan
    closed = Series(values, at, np.zeros((100, 3)), {}, by="section", around=50.0)
    assert closed.coverage.gap == pytest.approx(2.5)
    assert Series(values, np.arange(100.0), np.zeros((100, 3)), {}, by="instance").coverage.gap == 0.0
    nothing = Series(np.full(4, np.nan), at[:4], np.zeros((4, 3)), {})
    assert (nothing.coverage.seen, nothing.coverage.gap) == (0.0, 2.0)


def test_a_row_of_many_carries_what_it_rests_on(plan, perfect):
    row = next(c for c in inspect(plan, perfect).characteristics if c.balloon == 18)
    assert row.coverage.points > 800
    assert row.coverage.seen > 0.99
