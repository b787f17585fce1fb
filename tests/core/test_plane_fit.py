"""The plane fit against exact planes, an independent least-squares solver, and data it must refuse."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from examples import examples
from hemtra import NotMeasured
from hemtra.core.geometry.plane_fit import fit_plane

ROWS, COLS = 40, 50


def surface(a, b, c, rows=ROWS, cols=COLS):
    """z over indices counted from the window's middle."""
    u, v = np.arange(cols) - (cols - 1) / 2, np.arange(rows) - (rows - 1) / 2
    return (a * u + b * v[:, None] + c).astype(np.float32)


coefficient = st.floats(-0.02, 0.02)


@settings(max_examples=examples(40))
@given(coefficient, coefficient, st.floats(-50, 50), st.integers(0, 2**32 - 1))
def test_exact_plane_with_holes_is_recovered(a, b, c, seed):
    z = surface(a, b, c)
    z[np.random.default_rng(seed).random(z.shape) < 0.3] = np.nan
    fit = fit_plane(z, None, trim=3.5)
    # single precision of the data itself is the limit
    assert (fit.a, fit.b, fit.c) == pytest.approx((a, b, c), abs=4e-6)
    assert fit.used == np.count_nonzero(~np.isnan(z))


def test_agrees_with_an_independent_solver_on_noise():
    rng = np.random.default_rng(7)
    z = surface(0.01, -0.02, 3.0) + rng.normal(0, 0.01, (ROWS, COLS)).astype(np.float32)
    inside = rng.random(z.shape) < 0.6
    i, j = np.nonzero(inside)
    u, v = j - (COLS - 1) / 2, i - (ROWS - 1) / 2
    expected, *_ = np.linalg.lstsq(
        np.column_stack([u, v, np.ones(u.size)]), z[inside].astype(float), rcond=None
    )
    fit = fit_plane(z, inside)
    assert (fit.a, fit.b, fit.c) == pytest.approx(tuple(expected), abs=1e-9)
    left = z[inside] - (expected[0] * u + expected[1] * v + expected[2])
    assert fit.rms == pytest.approx(np.sqrt(np.mean(left**2)), rel=1e-6)


def test_large_offsets_cost_no_digits():
    rng = np.random.default_rng(3)
    noise = rng.normal(0, 0.25, (ROWS, COLS))
    low, high = (fit_plane((surface(0.1, 0.2, 0) + noise + c).astype(np.float32), None) for c in (0, 4096))
    assert (high.a, high.b, high.c - 4096) == pytest.approx((low.a, low.b, low.c), abs=2e-5)


@pytest.mark.parametrize(
    ("share", "level"),
    [((0.0, 0.5), 0.0), ((0.75, 1.0), 4.0), ((0.62, 0.68), 1.0)],
    ids=["lowest", "highest", "band"],
)
def test_share_chooses_the_level(share, level):
    # 60 % at 0, 10 % at 1, 30 % at 4, all on one slope that ranks must not be fooled by
    z = surface(0.05, -0.03, 0.0)
    order = np.random.default_rng(5).permutation(z.size).reshape(z.shape)
    z += np.where(order < 0.6 * z.size, 0.0, np.where(order < 0.7 * z.size, 1.0, 4.0)).astype(np.float32)
    fit = fit_plane(z, None, share, trim=3.0)
    assert (fit.a, fit.b, fit.c) == pytest.approx((0.05, -0.03, level), abs=1e-5)


def test_trimming_drops_spikes_and_keeps_noise():
    rng = np.random.default_rng(11)
    z = surface(0.0, 0.01, 2.0) + rng.normal(0, 0.005, (ROWS, COLS)).astype(np.float32)
    spikes = rng.choice(z.size, 60, replace=False)
    z.ravel()[spikes] += 3.0
    fit = fit_plane(z, None, trim=4.0)
    assert fit.c == pytest.approx(2.0, abs=0.001)
    assert z.size - 60 >= fit.used >= 0.995 * (z.size - 60)


def test_absurd_heights_do_not_blur_the_share():
    # a scan of another program may mark missing points with -9999
    z = surface(0.0, 0.0, 1.0)
    z[:, :20] = 2.0
    z[0, 0] = -9999.0
    fit = fit_plane(z, None, (0.7, 1.0), trim=3.0)
    assert fit.c == pytest.approx(2.0, abs=1e-6)


@pytest.mark.parametrize(
    ("filled", "reason"),
    [((), "no data"), ([(0, 0), (5, 5)], "three points"), ([(4, j) for j in range(30)], "one line")],
    ids=["empty", "two", "line"],
)
def test_too_little_is_refused_in_words(filled, reason):
    z = np.full((ROWS, COLS), np.nan, np.float32)
    for place in filled:
        z[place] = 1.0
    with pytest.raises(NotMeasured, match=reason):
        fit_plane(z, None, trim=3.0)
