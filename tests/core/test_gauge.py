"""Gauge studies: published tables, hand-worked ones, and components that were put in."""

import dataclasses
import datetime
import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hemtra import HemtraError, Verdict
from hemtra.core.gauge.agreement import between, with_tags
from hemtra.core.gauge.chart import chart_of
from hemtra.core.gauge.linearity import linearity
from hemtra.core.gauge.marks import doubtful, grades, with_marks
from hemtra.core.gauge.ranges import bias_factor, range_factors
from hemtra.core.gauge.readings import Reading, Readings
from hemtra.core.gauge.repeatability import repeatability
from hemtra.core.gauge.stability import stability
from hemtra.core.gauge.study import RULES, Asked, Presented, studied
from hemtra.core.gauge.type_one import Rule, type_one
from hemtra.core.plan.gauge_mark import GaugeMark
from hemtra.core.plan.limits import CharacteristicResult
from makers import step_plan

PUBLISHED = np.array(
    [
        [
            [0.29, -0.56, 1.34, 0.47, -0.80, 0.02, 0.59, -0.31, 2.26, -1.36],
            [0.41, -0.68, 1.17, 0.50, -0.92, -0.11, 0.75, -0.20, 1.99, -1.25],
            [0.64, -0.58, 1.27, 0.64, -0.84, -0.21, 0.66, -0.17, 2.01, -1.31],
        ],
        [
            [0.08, -0.47, 1.19, 0.01, -0.56, -0.20, 0.47, -0.63, 1.80, -1.68],
            [0.25, -1.22, 0.94, 1.03, -1.20, 0.22, 0.55, 0.08, 2.12, -1.62],
            [0.07, -0.68, 1.34, 0.20, -1.28, 0.06, 0.83, -0.34, 2.19, -1.50],
        ],
        [
            [0.04, -1.38, 0.88, 0.14, -1.46, -0.29, 0.02, -0.46, 1.77, -1.49],
            [-0.11, -1.13, 1.09, 0.20, -1.07, -0.67, 0.01, -0.56, 1.45, -1.77],
            [-0.15, -0.96, 0.67, 0.11, -1.45, -0.49, 0.21, -0.49, 1.87, -2.16],
        ],
    ]
).transpose(2, 0, 1)
"""The example of the AIAG's manual, chapter III B: 10 parts, 3 appraisers, 3 trials."""
EXAMPLE = Readings(tuple("0123456789"), ("A", "B", "C"), PUBLISHED)


def test_average_and_range_give_the_published_table():
    """The manual rounds what it continues with, so that its fifth digits are a few off."""
    found = repeatability(EXAMPLE, "ranges")
    shown = (found.repeatability, found.reproducibility, found.gauge, found.parts)
    assert [one.deviation for one in shown] == pytest.approx([0.20188, 0.22963, 0.30575, 1.10456], abs=1.1e-4)
    assert found.total == pytest.approx(1.14610, abs=1.1e-4)
    assert [found.of_total(one) for one in shown] == pytest.approx([17.62, 20.04, 26.68, 96.38], abs=0.011)
    assert found.categories == 5


def test_analysis_of_variance_gives_the_published_table():
    found = repeatability(EXAMPLE)
    squares = {one.name: one for one in found.sources}
    assert {name: one.freedom for name, one in squares.items()} == {
        "operators": 2,
        "parts": 9,
        "interaction": 18,
        "repeatability": 60,
    }
    assert [round(squares[n].squares, 4) for n in ("operators", "parts", "interaction", "repeatability")] == [
        3.1673,
        88.3619,
        0.3590,
        2.7589,
    ]
    assert [round(squares[n].f, 3) for n in ("operators", "parts", "interaction")] == [34.440, 213.517, 0.434]
    shown = (found.repeatability, found.reproducibility, found.interaction, found.gauge, found.parts)
    # the manual has 0.302373 and 1.042327
    assert [round(one.deviation, 5) for one in shown] == [0.19993, 0.22684, 0.0, 0.30237, 1.04233]
    assert [round(found.of_total(one), 1) for one in (shown[0], shown[1], shown[3], shown[4])] == [
        18.4,
        20.9,
        27.9,
        96.0,
    ]


@pytest.mark.parametrize(
    ("count", "mean", "spread", "alone"),
    [
        (2, 1.128, 0.8525, 1.41421),
        (3, 1.693, 0.888, 1.91155),
        (5, 2.326, 0.864, 2.48124),
        (10, 3.078, 0.797, 3.17905),
    ],
)
def test_factors_of_ranges_are_those_of_the_tables(count, mean, spread, alone):
    assert range_factors(count) == pytest.approx((mean, spread), abs=5e-4)
    assert bias_factor(count, 1.0) == pytest.approx(alone, abs=2e-5)


def made(ev, av, both, pv, seed, shape=(10, 3, 3)):
    rng = np.random.default_rng(seed)
    p, o, _ = shape
    values = pv * rng.standard_normal((p, 1, 1)) + av * rng.standard_normal((1, o, 1))
    values = values + both * rng.standard_normal((p, o, 1)) + ev * rng.standard_normal(shape)
    return Readings(tuple(map(str, range(p))), tuple(map(str, range(o))), values)


def test_components_put_in_are_found_and_lie_within_their_limits():
    """Of 300 studies nearly 95 % hold the truth; those of few operators are the wide ones."""
    truth = {"repeatability": 0.5, "gauge": math.sqrt(0.5**2 + 0.4**2 + 0.3**2), "parts": 2.0}
    held, means = dict.fromkeys(truth, 0), dict.fromkeys(truth, 0.0)
    for seed in range(300):
        found = repeatability(made(0.5, 0.4, 0.3, 2.0, seed, (20, 6, 3)))
        for name, value in truth.items():
            one = getattr(found, name)
            held[name] += one.low <= value <= one.high
            means[name] += one.deviation**2 / 300
    for name, value in truth.items():
        assert held[name] >= 0.92 * 300, name
        assert math.sqrt(means[name]) == pytest.approx(value, rel=0.05), name


@pytest.mark.parametrize("straight", [1.0, 0.2], ids=["as much in each pose", "more in one pose"])
def test_limits_hold_for_a_gauge_that_scatters_more_in_one_pose_than_in_others(straight):
    """Of 300 studies of ten parts; counted as one scatter, less than three in four would hold it."""
    scatter, held = np.array([straight, straight, 1.0])[:, None], 0
    for seed in range(300):
        rng = np.random.default_rng(seed)
        values = 2.0 * rng.standard_normal((10, 1, 1)) + scatter * rng.standard_normal((10, 3, 3))
        found = repeatability(Readings(tuple("ABCDEFGHIJ"), tuple("123"), values)).repeatability
        held += found.low <= math.sqrt(np.mean(scatter**2)) <= found.high
    assert 0.9 * 300 <= held < 0.99 * 300


@given(
    st.floats(-100.0, 100.0),
    st.floats(0.01, 100.0),
    st.permutations(range(3)),
    st.sampled_from(["ranges", "anova"]),
)
def test_what_is_added_or_in_another_unit_changes_nothing_else(more, factor, order, method):
    one = repeatability(EXAMPLE, method)
    values = EXAMPLE.values[:, order, ::-1] * factor + more
    other = repeatability(Readings(EXAMPLE.parts, EXAMPLE.operators, values), method)
    for name in ("repeatability", "reproducibility", "gauge", "parts"):
        assert getattr(other, name).deviation == pytest.approx(
            factor * getattr(one, name).deviation, rel=1e-6, abs=1e-9 * (abs(more) + factor)
        )


def test_one_operator_differs_from_nobody_and_equal_readings_have_no_spread():
    alone = repeatability(Readings(EXAMPLE.parts, ("A",), PUBLISHED[:, :1]))
    assert (alone.reproducibility.deviation, alone.interaction.deviation) == (0.0, 0.0)
    assert alone.gauge.deviation == alone.repeatability.deviation > 0.0
    same = repeatability(Readings(("1", "2"), ("A", "B"), np.ones((2, 2, 2)) * [[[1.0]], [[2.0]]]))
    assert (same.gauge.deviation, same.of_total(same.gauge)) == (0.0, 0.0)
    nothing = repeatability(Readings(("1", "2"), ("A", "B"), np.ones((2, 2, 2))), "ranges")
    assert (nothing.total, nothing.of_total(nothing.gauge), nothing.categories) == (0.0, 0.0, 1)


@pytest.mark.parametrize(
    ("readings", "words"),
    [
        ([], "no readings"),
        ([Reading("1", "A", 1, 1.0), Reading("1", "A", 1, 1.0)], "Part 1, A, trial 1 comes twice"),
        ([Reading("1", "A", 1, 1.0), Reading("2", "A", 2, 1.0)], "Part 1, A, trial 2 is missing"),
        (
            [Reading("1", "A", 1, None, "no data in the zone")],
            "was not measured: no data in the zone. Repeat it",
        ),
        ([Reading("1", "", 0, 1.0)], "Part 1, trial 0 is no trial"),
    ],
)
def test_a_study_with_holes_names_them(readings, words):
    with pytest.raises(HemtraError, match=words):
        Readings.of(readings)


@pytest.mark.parametrize(("shape", "words"), [((1, 3, 3), "two parts"), ((4, 2, 1), "two trials")])
def test_too_small_a_study_is_refused(shape, words):
    with pytest.raises(HemtraError, match=words):
        repeatability(made(1, 1, 1, 1, 0, shape))


def test_bias_and_capability_of_one_part():
    """By hand: 5 pairs of 10.001 and 10.003 have a mean of 10.002 and a deviation of 1 µm times √(10/9)."""
    values = np.tile([10.001, 10.003], 5)
    found = type_one(values, 10.0, 0.1, resolution=0.001)
    s = 0.001 * math.sqrt(10 / 9)
    assert (found.bias, found.deviation) == pytest.approx((0.002, s))
    assert found.t == pytest.approx(0.002 / (s / math.sqrt(10)))
    assert found.is_biased
    assert found.bias_low < 0.002 < found.bias_high
    assert (found.cg, found.cgk) == pytest.approx((0.02 / (6 * s), (0.01 - 0.002) / (3 * s)))
    assert found.capable(Rule()) is True
    assert found.capable(Rule(resolution=0.5)) is False
    assert type_one(values, 10.002, None).cg is None
    assert type_one(values, 10.002, None).chance == pytest.approx(1.0)
    still = type_one(np.full(25, 10.0), 10.0, 0.1)
    assert (still.is_biased, still.cg > 1e6) == (False, True)
    assert type_one(np.full(25, 10.5), 10.0, 0.1).is_biased
    with pytest.raises(HemtraError, match="9 readings are too few"):
        type_one(values[:9], 10.0, 0.1)
    with pytest.raises(HemtraError, match="1 of the readings were not measured"):
        type_one(np.array([*values, np.nan]), 10.0, 0.1)


def test_agreement_beyond_chance():
    """Cohen's table of 1960 with 100 cases: 70 % agree, 50 % by chance would, so kappa is 0.4."""
    one = ["a"] * 60 + ["b"] * 40
    other = ["a"] * 40 + ["b"] * 20 + ["a"] * 10 + ["b"] * 30
    found = between([one, other])
    assert (found.share, found.kappa) == pytest.approx((0.7, 0.4))
    assert between([["a", "a"], ["a", "a"]]).kappa is None
    three = between([["a", "b"], ["a", "b"], ["a", "b"]])
    assert (three.share, three.kappa) == (1.0, 1.0)
    tagged = with_tags(["PASS", "FAIL", "PASS", "NOT MEASURED"], [True, True, False, False])
    assert (tagged.missed, tagged.refused) == (0.5, 0.5)
    with pytest.raises(HemtraError, match="needs two"):
        between([["a"]])


def shown_to_the_gauge(values, unit="mm"):
    """Readings (parts, operators, trials) as what a plan with one row found on scans."""
    for (i, j, k), value in np.ndenumerate(values):
        row = CharacteristicResult(
            1, "Rise", "up", float(value), unit, None, 0.7, 1.3, 2, Verdict.PASS, "", None
        )
        yield Presented(str(i), "ABC"[j], k + 1, "PASS", (row,), tag=True)


def test_a_study_of_a_whole_plan():
    plan = step_plan()
    row = plan.characteristic(1)
    width = row.upper - row.lower
    values = (row.upper + row.lower) / 2 + PUBLISHED * width / 20
    (found,) = studied(plan, list(shown_to_the_gauge(values))).rows
    assert found.share == pytest.approx(100 * 6 * 0.302373 / 20, rel=1e-4)
    assert found.grade == "good"
    study = studied(plan, list(shown_to_the_gauge(values * 5)))
    assert study.rows[0].grade == "not capable"
    assert (study.parts, study.operators, study.trials) == (10, 3, 3)
    assert (study.verdicts.share, study.tags.refused) == (1.0, 0.0)
    lone = list(shown_to_the_gauge(values[:1, :, :].repeat(2, axis=2)))
    assert "give its reference" in studied(plan, lone).rows[0].reason
    biased = studied(plan, lone, Asked(references={("", 1): 1.0})).rows[0]
    assert biased.size.count == 18
    # hardly any spread, and off by a quarter of the tolerance
    still = values[:1, :, :].repeat(4, axis=2) * 0.0 + (row.upper + row.lower) / 2 + width / 4
    middle = Asked(references={("", 1): (row.upper + row.lower) / 2})
    found = studied(plan, list(shown_to_the_gauge(still)), middle).rows[0]
    assert (found.share, found.grade) == (0.0, "not capable")
    # one limit: three deviations of the way to it
    one_sided = plan.with_characteristic(row.edited(lower=None, nominal=None))
    found = studied(one_sided, list(shown_to_the_gauge(values))).rows[0]
    gauge = 0.302373 * width / 20
    assert found.share == pytest.approx(100 * 3 * gauge / (row.upper - values.mean()), rel=1e-4)
    lost = [*shown_to_the_gauge(values)]
    lost[4] = Presented(lost[4].part, lost[4].operator, lost[4].trial, error="scan.x3p is damaged.")
    assert "Part 0, B, trial 2 was not measured: scan.x3p is damaged" in studied(plan, lost).rows[0].reason
    with pytest.raises(HemtraError, match="no scans"):
        studied(plan, [])


# five parts of known size, twelve readings each, and the line that AIAG MSA prints for their bias
SIZES = (2.0, 4.0, 6.0, 8.0, 10.0)
READ = """2.7 2.5 2.4 2.5 2.7 2.3 2.5 2.5 2.4 2.4 2.6 2.4
5.1 3.9 4.2 5.0 3.8 3.9 3.9 3.9 3.9 4.0 4.1 3.8
5.8 5.7 5.9 5.9 6.0 6.1 6.0 6.1 6.4 6.3 6.0 6.1
7.6 7.7 7.8 7.7 7.8 7.8 7.8 7.7 7.8 7.5 7.6 7.7
9.1 9.3 9.5 9.3 9.4 9.5 9.5 9.5 9.6 9.2 9.3 9.4"""
READ = np.array([line.split() for line in READ.splitlines()], np.float64)


def test_the_published_linearity_example():
    found = linearity(np.repeat(SIZES, 12), READ.ravel())
    assert (found.slope, found.intercept) == pytest.approx((-0.131667, 0.736667), abs=5e-7)
    assert (found.explained, found.deviation) == pytest.approx((0.714, 0.23954), abs=5e-4)
    assert not found.holds
    assert max(found.slope_chance, found.intercept_chance) < 1e-6
    biases = [at.bias for at in found.sizes]
    assert biases == pytest.approx([0.491667, 0.125, 0.025, -0.291667, -0.616667], abs=5e-7)


def test_a_true_gauge_is_rarely_called_crooked():
    rng = np.random.default_rng(1)
    sizes = np.repeat(SIZES, 12)
    found = [linearity(sizes, sizes + rng.normal(0.0, 0.1, 60)) for _ in range(400)]
    assert 0.02 < np.mean([one.slope_chance < 0.05 for one in found]) < 0.08
    assert np.mean([one.holds for one in found]) > 0.85
    assert np.std([one.slope for one in found]) == pytest.approx(0.1 / math.sqrt(60 * 8), rel=0.1)


def test_a_line_of_too_little_is_none():
    with pytest.raises(HemtraError, match="2 known sizes"):
        linearity(np.array([1.0, 2.0] * 5), np.ones(10))
    with pytest.raises(HemtraError, match="not measured"):
        linearity(np.repeat(SIZES, 2), np.full(10, np.nan))
    exact = linearity(np.repeat(SIZES, 2), np.repeat(SIZES, 2))
    assert (exact.slope, exact.holds, exact.slope_chance) == (0.0, True, 1.0)


def occasions(count, each, seed=1):
    return 5.0 + np.random.default_rng(seed).normal(0, 0.01, (count, each))


def test_a_chart_over_time_by_hand():
    """Limits with the tabulated A2 = 0.577 and D4 = 2.114 of five readings (ISO 7870-2)."""
    values = occasions(20, 5)
    found = stability(values)
    mean_range = np.ptp(values, axis=1).mean()
    assert found.high - found.centre == pytest.approx(0.577 * mean_range, rel=2e-3)
    assert found.most_range == pytest.approx(2.114 * mean_range, rel=2e-3)
    assert found.is_stable
    jump = values.copy()
    jump[12] += 0.05
    assert next((s.occasion, s.why) for s in stability(jump).signals) == (12, "beyond its limits")
    torn = values.copy()
    torn[7, 0] += 0.08
    assert (7, "readings too far apart") in [(s.occasion, s.why) for s in stability(torn).signals]


def test_slow_changes_are_seen_before_they_pass_a_limit():
    level = np.concatenate([np.zeros(10), np.full(10, 0.004)])[:, None]
    shifted = stability(
        occasions(20, 5, seed=4) * 0.0 + 5.0 + level + np.tile([-0.01, 0.0, 0.01, 0.0, 0.0], (20, 1))
    )
    assert [s.why for s in shifted.signals] == ["9 in a row on one side"] * 2
    drift = 5.0 + 0.001 * np.arange(8)[:, None] + np.tile([-0.02, 0.02], (8, 1))
    assert [(s.occasion, s.why) for s in stability(drift).signals] == [(5, "6 in a row in one direction")]
    single = stability(5.0 + np.array([[0.0], [0.01]] * 8 + [[0.2]]))
    assert single.signals[-1].occasion == 16
    with pytest.raises(HemtraError, match="4 occasions are too few"):
        stability(occasions(4, 3))


def test_a_strict_rule_may_ask_for_less_than_a_percent():
    size = {"categories": 5, "parts": 10, "operators": 3, "trials": 3, "made": datetime.date(2026, 3, 1)}
    mark = GaugeMark(deviation=0.001, mean=0.2, rule="own", deviations=0.5, good=0.1, usable=0.3, **size)
    # half a standard deviation in 0.5, 0.25 and 0.1 mm
    assert [mark.grade(0.0, upper) for upper in (0.5, 0.25, 0.1)] == ["good", "usable", "not capable"]
    assert (mark.grade(None, 0.7), mark.grade(0.2, 0.2)) == ("good", "no tolerance")


def test_sizes_of_several_parts_rules_and_occasions_in_a_study():
    plan = step_plan()
    row = plan.characteristic(1)
    references = {(str(k), 1): size for k, size in enumerate(SIZES)}
    looks = list(shown_to_the_gauge(READ.reshape(5, 3, 4)))
    (found,) = studied(plan, looks, Asked(references=references)).rows
    assert found.line.slope == pytest.approx(-0.131667, abs=5e-7)
    assert studied(plan, looks, Asked(references={("0", 1): 2.0})).rows[0].line is None
    width = row.upper - row.lower
    by_rule = {name: studied(plan, looks, Asked(rule=rule)).rows[0] for name, rule in RULES.items()}
    assert by_rule["iso22514"].share == pytest.approx(by_rule["aiag"].share * 4 / 6)
    still = [
        Presented("one", f"day {day}", k + 1, "PASS", (one.rows[0],))
        for day in range(6)
        for k, one in enumerate(shown_to_the_gauge(np.full((1, 1, 3), row.lower + width / 2)))
    ]
    charted = studied(plan, still, Asked(over_time=True))
    assert (charted.rows[0].grade, charted.rows[0].is_poor) == ("stable", False)
    with pytest.raises(HemtraError, match="One part is followed"):
        studied(plan, looks, Asked(over_time=True))


def test_of_many_values_on_a_part_each_end_is_studied_by_itself():
    """What flips from one end to the other is which of them is the worse, and not what the gauge reads."""
    row = step_plan().characteristic(1)
    base, noise = np.array([0.1, 0.2, 0.3]), 0.002 * np.random.default_rng(3).normal(size=(3, 3, 3))
    looks = []
    for (i, j, k), off in np.ndenumerate(noise):
        low, high = -base[i] + off / 2, base[i] + off
        worse = low if (i + j + k) % 2 else high
        evaluated = CharacteristicResult(
            1, "Rise", "up", worse, "mm", None, row.lower, row.upper, 2, Verdict.PASS, "", None
        )
        evaluated = dataclasses.replace(evaluated, least=low, greatest=high)
        looks.append(Presented(str(i), "ABC"[j], k + 1, "PASS", (evaluated,)))
    (found,) = studied(step_plan(), looks).rows
    assert found.name == "Rise, max"
    assert found.spread.gauge.deviation == pytest.approx(0.002, rel=0.5)
    below = step_plan().with_characteristic(row.edited(upper=None))
    assert studied(below, looks).rows[0].name == "Rise, min"


DAY = datetime.date(2026, 3, 1)


def studied_plan(scale):
    """A plan that keeps the published study, whose readings fill that share of the tolerance."""
    plan = step_plan()
    row = plan.characteristic(1)
    values = (row.upper + row.lower) / 2 + PUBLISHED * (row.upper - row.lower) * scale
    return with_marks(plan, studied(plan, list(shown_to_the_gauge(values))), "aiag", DAY)


def test_a_plan_says_which_gauges_are_doubtful_and_why():
    good, poor = studied_plan(1 / 20), studied_plan(1 / 4)
    year = datetime.timedelta(days=365)
    assert (grades(good), grades(poor)) == ({1: "good"}, {1: "not capable"})
    assert list(doubtful(good, DAY)) == list(doubtful(step_plan(), DAY)) == []
    ((_, why),) = doubtful(good, DAY + year + datetime.timedelta(days=1))
    assert why == "its gauge study of 2026-03-01 is older than a year."
    ((_, why),) = doubtful(poor, DAY)
    assert why == "its gauge takes 45 % of the tolerance: not capable (aiag, 2026-03-01)."
    # wider limits are evaluated at once, another way to measure needs another study
    row = poor.characteristic(1)
    assert grades(poor.with_characteristic(row.edited(lower=-40.0, upper=40.0))) == {1: "good"}
    elsewhere = poor.with_step(poor.step("up").edited(zone=poor.step("down").zone))
    ((_, why),) = doubtful(elsewhere, DAY)
    assert why == "its gauge study of 2026-03-01 was made before the row was measured as it is now."
    two = good.edited(sheet=(*good.sheet, row.edited(balloon=2, gauge=None)))
    assert [why for _, why in doubtful(two, DAY)] == ["it has no gauge study."]


def test_a_picture_shows_every_reading_where_it_was_read():
    plan = step_plan()
    row = plan.characteristic(1)
    values = 0.1 * PUBLISHED
    chart = chart_of(studied(plan, list(shown_to_the_gauge(values))).rows[0])
    assert [one.name for one in chart.series] == ["A", "B", "C"]
    off = values - values.mean(axis=(1, 2), keepdims=True)
    for k, one in enumerate(chart.series):
        assert one.values == pytest.approx(off[:, k, :].ravel())
        assert np.round(one.at).tolist() == np.repeat(np.arange(10), 3).tolist()
    # thirty percent of the tolerance, half of it to either side
    assert sorted(line.value for line in chart.lines) == pytest.approx([-0.3, 0.0, 0.3])
    low, high = chart.span
    assert low < min(off.min(), -0.3) < max(off.max(), 0.3) < high
    lone = list(shown_to_the_gauge(values[:1].repeat(2, axis=2)))
    against = chart_of(studied(plan, lone, Asked(references={("", 1): 0.02})).rows[0])
    assert sorted(line.value for line in against.lines) == pytest.approx([0.02 - 0.2, 0.02, 0.02 + 0.2])
    assert against.series[0].values.size == 18
    assert chart_of(studied(plan, lone).rows[0]) is None
    assert row.upper - row.lower == 2.0
