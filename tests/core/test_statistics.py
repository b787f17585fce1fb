"""Statistics of many parts against sums worked by hand and properties."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hemtra.core.statistics import bins_of, statistics, thinned


def test_indices_are_those_worked_by_hand():
    # mean 10; squares 4 + 1 + 0 + 1 + 4 = 10, so s = sqrt(10 / 4); moving ranges 1, 1, 1, 1
    found = statistics(np.array([8.0, 9.0, 10.0, 11.0, 12.0]), 4.0, 14.0)
    s = 2.5**0.5
    assert (found.count, found.mean, found.least, found.greatest) == (5, 10.0, 8.0, 12.0)
    assert found.deviation == pytest.approx(s)
    assert found.pp == pytest.approx(10.0 / (6.0 * s))
    assert found.ppk == pytest.approx(4.0 / (3.0 * s))
    assert found.within == pytest.approx(1.0 / 1.128)
    assert found.cp == pytest.approx(10.0 / 6.0 * 1.128)
    assert found.cpk == pytest.approx(4.0 / 3.0 * 1.128)
    assert "from 5 parts only" in found.warning


def test_a_published_capability_example_comes_out_to_its_digits():
    # limits 8 and 20, mean 16, s 2: Cp 1.0 and Cpk 0.6667 (NIST/SEMATECH e-Handbook, 7.1 of process capability)
    values = np.array([16.0, 16.0 - 2.0, 16.0 + 2.0])
    found = statistics(values, 8.0, 20.0)
    assert (found.mean, found.deviation) == (16.0, 2.0)
    assert f"{found.pp:.4f} {found.ppk:.4f}" == "1.0000 0.6667"


def test_a_published_chart_of_single_values_comes_out_to_its_digits():
    # ten flow rates; mean 50.81, mean moving range 1.8778, limits 55.8041 and 45.8159 at three times the spread
    # within (NIST/SEMATECH e-Handbook, 6.3.2.2, individuals control charts)
    rates = np.array([49.6, 47.6, 49.9, 51.3, 47.8, 51.2, 52.6, 52.4, 53.6, 52.1])
    found = statistics(rates, None, None)
    assert f"{found.mean:.2f} {found.within * 1.128:.4f}" == "50.81 1.8778"
    upper, lower = found.mean + 3 * found.within, found.mean - 3 * found.within
    assert f"{upper:.4f} {lower:.4f}" == "55.8041 45.8159"


def test_one_limit_gives_no_index_of_the_spread_alone():
    found = statistics(np.array([0.01, 0.02, 0.03]), None, 0.08)
    assert found.pp is None
    assert found.cp is None
    assert found.ppk == pytest.approx((0.08 - 0.02) / 0.03)


def test_what_was_not_measured_is_counted_and_nothing_else():
    found = statistics(np.array([np.nan, 2.0, np.nan, 4.0]), 0.0, 10.0)
    assert (found.count, found.missing, found.mean) == (2, 2, 3.0)
    nothing = statistics(np.full(3, np.nan), 0.0, 10.0)
    assert (nothing.count, nothing.missing, nothing.mean, nothing.ppk, nothing.warning) == (
        0,
        3,
        None,
        None,
        "",
    )
    one = statistics(np.array([5.0]), 0.0, 10.0)
    assert (one.mean, one.deviation, one.ppk) == (5.0, None, None)
    alike = statistics(np.full(60, 5.0), 0.0, 10.0)
    assert (alike.deviation, alike.pp, alike.cpk) == (0.0, None, None)


@given(
    st.lists(st.floats(-5, 5), min_size=3, max_size=80).filter(lambda v: np.std(v) > 1e-3), st.floats(-1e6, 1e6)
)
def test_indices_do_not_depend_on_where_the_scale_begins(values, shift):
    plain = statistics(np.array(values), -6.0, 6.0)
    moved = statistics(np.array(values) + shift, shift - 6.0, shift + 6.0)
    assert moved.pp == pytest.approx(plain.pp, rel=1e-4)
    assert moved.ppk == pytest.approx(plain.ppk, rel=1e-4)
    assert plain.ppk <= plain.pp + 1e-12
    assert plain.warning == ("" if len(values) >= 50 else plain.warning)
    assert plain.deviation == pytest.approx(np.std(values, ddof=1))


def test_steady_noise_has_the_same_spread_within_as_in_all_and_drift_has_not():
    rng = np.random.default_rng(3)
    noise = rng.normal(0.0, 0.1, 4000)
    steady, drifting = statistics(noise, -1, 1), statistics(noise + np.linspace(-0.5, 0.5, 4000), -1, 1)
    assert steady.within == pytest.approx(steady.deviation, rel=0.05)
    assert steady.cpk == pytest.approx(1.0 / 0.3, rel=0.06)
    assert drifting.within == pytest.approx(0.1, rel=0.05)
    assert drifting.ppk < 0.4 * drifting.cpk


values_or_none = st.lists(st.floats(-5, 5) | st.just(float("nan")), min_size=1, max_size=400)


@given(values_or_none, st.integers(1, 60))
def test_a_thinned_trend_hides_no_peak(values, columns):
    values = np.array(values)
    x, low, high = thinned(values, columns)
    assert x.size <= columns
    assert (np.diff(x) > 0).all()
    if np.isnan(values).all():
        assert np.isnan(low).all()
    else:
        assert np.nanmin(low) == np.nanmin(values)
        assert np.nanmax(high) == np.nanmax(values)
    assert (np.isnan(low) == np.isnan(high)).all()


@given(st.lists(st.floats(-5, 5), max_size=200), st.integers(1, 40))
def test_every_value_falls_into_one_bin(values, count):
    found = bins_of(np.array(values), count, (-2.0, 2.0))
    assert found.sum() == len(values)
    assert found.size == count
    if count > 1:
        assert found[-1] >= sum(value > 2.0 for value in values), "those beyond count to the ends"


def test_the_gauge_is_taken_out_of_what_the_parts_scatter():
    # moving ranges of 5 units of 1.128: 3 of the gauge leave 4 of the parts
    values = np.tile([10.0, 10.0 + 5.0 * 1.128], 30)
    middle = float(values.mean())
    found = statistics(values, middle - 24.0, middle + 24.0, gauge=3.0)
    assert (found.within, found.cpk) == pytest.approx((5.0, 24.0 / 15.0))
    assert found.cpk_of_parts == pytest.approx(24.0 / 12.0)
    assert statistics(values, 0.0, 40.0).cpk_of_parts is None
    assert statistics(values, 0.0, 40.0, gauge=5.1).cpk_of_parts is None, "no gauge scatters more than all"
