"""Exposure: a intensity reached or not, and two exposures as one."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hemtra.core.station.exposure import NEAR_ENOUGH, Exposure, brightness_of, merge_exposures, tune


@given(st.floats(3.0, 1400.0), st.integers(30, 230))
def test_the_target_is_reached_wherever_it_can_be(grey_per_exposure, target):
    """Grey grows with exposure and saturates at 255, as a camera's does."""
    tuned = tune(lambda time: min(255.0, grey_per_exposure * time), target, longest=100.0)
    wanted = target / grey_per_exposure
    assert tuned.reached
    assert tuned.time == pytest.approx(wanted, rel=NEAR_ENOUGH)
    assert "reaches intensity" in tuned.message


def test_what_cannot_become_bright_or_dark_enough_says_so():
    dark = tune(lambda time: 4.0 * time, 120, longest=5.0)
    assert not dark.reached
    assert dark.time == 5.0
    assert "stops at its longest, 5.00 ×, with intensity 20 of 120" in dark.message
    glare = tune(lambda time: 255.0, 120, longest=5.0)
    assert not glare.reached
    assert "above 120" in glare.message
    nothing = tune(lambda time: 0.0, 120, longest=5.0)
    assert (nothing.reached, nothing.time) == (False, 5.0)


def test_two_exposures_take_the_better_of_each_point():
    nan = np.nan
    long = np.array([[1.0, 2.0, nan, nan]], np.float32), np.array([[100, 255, 0, 0]], np.uint8)
    short = np.array([[1.5, 2.5, 3.5, nan]], np.float32), np.array([[10, 60, 5, 0]], np.uint8)
    z, grey = merge_exposures(long, short, ratio=10.0)
    assert z[0, :3].tolist() == [1.0, 2.5, 3.5]
    assert np.isnan(z[0, 3])
    assert grey.tolist() == [[100, 255, 50, 0]], "the short one's grey on the long one's scale"
    # a saturated point that the short one does not see stays
    z, _ = merge_exposures(long, (np.full((1, 4), nan, np.float32), short[1]), 10.0)
    assert z[0, 1] == 2.0


def test_the_longest_that_a_profile_may_take():
    assert Exposure(time=2.0).total == 2.0
    assert Exposure(by="automatic", longest=6.0).total == 6.0
    assert Exposure(by="two", time=3.0, short=0.5).total == 3.5
    assert Exposure(by="two", time=0.5, short=3.0).taken_with(0.0) == (3.0, 0.5)
    assert brightness_of(np.array([0, 0, 10, 20, 30], np.uint8)) == 20.0
    assert brightness_of(np.zeros(4, np.uint8)) == 0.0
