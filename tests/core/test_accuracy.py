"""Every kind against analytic truth, and plain fits against published reference results."""

import numpy as np
import pytest

from hemtra.core.geometry.line_fit import robust_circle
from hemtra.core.geometry.profile_fits import plain_line, robust_line
from kind_cases import CASES

POSES, SEEDS = 6, 16


@pytest.mark.parametrize("case", CASES, ids=lambda case: case.name)
def test_noise_free_values_are_true_and_noise_adds_no_bias(case):
    free = np.array([case.error(np.random.default_rng(k), 0.0) for k in range(POSES)])
    if case.bound is not None:
        assert np.abs(free).max() < case.bound
    if not case.skewed:
        noisy = np.array([case.error(np.random.default_rng(k), 1.0) for k in range(SEEDS)])
        error = noisy.std(ddof=1) / np.sqrt(SEEDS)
        assert abs(noisy.mean() - free.mean()) < 3.5 * error + 0.1 * (case.bound or 0.01)


# Norris, NIST Statistical Reference Datasets: calibration of ozone monitors, 36 observations of y over x
NORRIS_X = (
    "0.2 337.4 118.2 884.6 10.1 226.5 666.3 996.3 448.6 777.0 558.2 0.4 0.6 775.5 666.9 338.0 447.5 11.6 556.0 "
    "228.1 995.8 887.6 120.2 0.3 0.3 556.8 339.1 887.2 999.0 779.0 11.1 118.3 229.2 669.1 448.9 0.5"
)
NORRIS_Y = (
    "0.1 338.8 118.1 888.0 9.2 228.1 668.5 998.5 449.1 778.9 559.2 0.3 0.1 778.1 668.8 339.3 448.9 10.8 557.7 "
    "228.3 998.0 888.8 119.6 0.3 0.6 557.6 339.3 888.0 998.5 778.9 10.2 117.6 228.9 668.4 449.2 0.2"
)


def test_a_least_squares_line_agrees_with_its_certified_values():
    x, y = (np.array([float(v) for v in text.split()]) for text in (NORRIS_X, NORRIS_Y))
    height, slope = plain_line(x, y)
    assert height == pytest.approx(-0.262323073774029, abs=1e-11)
    assert slope == pytest.approx(1.00211681802045, abs=1e-13)
    # with a scale that leaves nothing out, the robust line is the same one
    robust = robust_line(x, y, 1e9)
    assert robust[:2] == pytest.approx((height, slope), abs=1e-9)


def test_a_circle_agrees_with_its_published_best_fit():
    """Six points and their geometric fit, of Gander, Golub and Strebel (1994), to the digits printed there."""
    x, y = np.array([1.0, 2.0, 5.0, 7.0, 9.0, 3.0]), np.array([7.0, 6.0, 8.0, 7.0, 5.0, 7.0])
    cx, cy, radius, used = robust_circle(x, y, 1e6)
    assert used.all()
    assert (cx, cy, radius) == pytest.approx((4.7398, 2.9835, 4.7142), abs=5e-5)

    # where it is, no step in any direction lessens the squares of the distances
    def misfit(a, b, r):
        return float(np.sum((np.hypot(x - a, y - b) - r) ** 2))

    best = misfit(cx, cy, radius)
    for step in np.vstack([np.eye(3), -np.eye(3)]) * 1e-5:
        assert misfit(cx + step[0], cy + step[1], radius + step[2]) > best
