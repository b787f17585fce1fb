"""Statistics of many parts against sums worked by hand and properties."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hemtra.core.statistics import statistics


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
