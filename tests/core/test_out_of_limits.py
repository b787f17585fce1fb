"""Stretches beyond limits: where they begin and end, at the ends of a path, at gaps, and between values."""

from dataclasses import replace

import numpy as np
import pytest

from hemtra.core.plan.series import Series, out_of_limits


def along(values, at=None):
    """Values 1 mm apart."""
    values = np.array(values, np.float64)
    at = np.arange(values.size, dtype=np.float64) if at is None else np.array(at)
    return Series(values, at, np.zeros((values.size, 3)), {}, "section")


def found(values, lower=None, upper=1.0, at=None):
    return [(one.start, one.length, one.worst) for one in out_of_limits(along(values, at), lower, upper)]


def test_a_stretch_ends_where_the_limit_is_crossed_between_neighbours():
    assert found([0.0, 0.5, 2.0, 1.5, 0.0, 0.0]) == [
        (pytest.approx(1.0 + 1 / 3), pytest.approx(3.0 + 1 / 3 - 1.0 - 1 / 3), 2.0)
    ]
    assert found([0.0, 0.0, -3.0, 0.0], lower=-1.0, upper=None) == [
        (pytest.approx(1.0 + 1 / 3), pytest.approx(4 / 3), -3.0)
    ]


def test_at_the_ends_of_a_path_it_reaches_half_a_step_beyond():
    (one,) = found([2.0, 2.0, 0.0, 0.0])
    assert one == (-0.5, pytest.approx(2.0), 2.0)
    (one,) = found([0.0, 0.0, 0.0, 2.0])
    assert one == (pytest.approx(2.5), pytest.approx(1.0), 2.0)
    (one,) = found([2.0, 3.0, 2.0])
    assert one == (-0.5, 3.0, 3.0)


def test_what_was_not_measured_parts_only_what_is_within_from_what_is_not():
    assert len(found([0.0, 2.0, np.nan, 2.0, 0.0])) == 1, "between two that are out it is out"
    (one,) = found([0.0, 0.0, 2.0, np.nan, 0.0])
    assert one[0] + one[1] == pytest.approx(2.5), "it reaches half way to what is not known"
    (one,) = found([0.0, 2.0, np.nan])
    assert one == (pytest.approx(0.5), pytest.approx(1.0), 2.0), "so it does where that is the last"
    (one,) = found([0.0, 2.0, 0.0, 0.0], at=[0.0, 1.0, 9.0, 10.0])
    assert one[0] + one[1] == pytest.approx(1.5), "nothing lies between places that far apart"


def test_round_a_closed_path_the_end_and_the_beginning_are_one_stretch():
    values = np.array([3.0, 0.0, 0.0, 0.0, 0.0, 2.0])
    closed = Series(values, np.arange(6.0), np.zeros((6, 3)), {}, "section", around=6.0)
    (one,) = out_of_limits(closed, None, 1.0)
    # a half of 2 to 0 before 5, half a step over the seam either way, and two thirds of 3 to 0 after 0
    assert (one.start, one.length) == (pytest.approx(4.5), pytest.approx(1.0 + 0.5 + 2 / 3))
    assert one.worst == 3.0
    assert len(found(list(values))) == 2, "unless it is open"


def test_the_worst_of_a_stretch_over_the_seam_is_on_its_own_side_of_the_limits():
    values = np.array([2.0, 0.0, -3.0, 0.0, 0.0, 4.0])
    closed = Series(values, np.arange(6.0), np.zeros((6, 3)), {}, "section", around=6.0)
    below, seam = out_of_limits(closed, -1.0, 1.0)
    assert (below.worst, seam.worst) == (-3.0, 4.0)
    above, seam = out_of_limits(replace(closed, values=-values), -1.0, 1.0)
    assert (above.worst, seam.worst) == (3.0, -4.0)
    either = np.array([2.0, 0.0, 0.0, 0.0, 0.0, -4.0])
    (seam,) = out_of_limits(replace(closed, values=either), -1.0, 1.0)
    assert seam.worst == -4.0, "the one that is farther out"


def test_nothing_is_out_where_all_lies_within_and_of_one_value_nothing_is_said():
    assert found([0.0, 1.0, 0.5]) == []
    assert found([5.0]) == []
    assert found([np.nan, np.nan, np.nan]) == []
