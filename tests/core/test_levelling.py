"""Levelling: a tilted mount, found on the bare belt and taken out again."""

import numpy as np
import pytest

from hemtra import HeightMap, NotMeasured
from hemtra.core.geometry.frames import Frame
from hemtra.core.station.levelling import Levelling, level_on_plate
from hemtra.virtual.cover import BELT, Cover
from hemtra.virtual.demo import STATION
from hemtra.virtual.sensor import scan_cover
from makers import edited, sloped

AWAY = Cover(pose=Frame(x=1000.0))
"""A part so far off that only the belt is seen."""


def hanging(**changes):
    sensor = STATION.sensor.model_copy(update=changes)
    travel = STATION.travel.model_copy(update={"counts_per_profile": 8})
    return STATION.model_copy(update={"sensor": sensor, "travel": travel})


@pytest.mark.parametrize(("roll", "pitch"), [(0.6, 0.0), (0.0, -0.8), (1.5, 0.7), (-2.0, -1.2)])
def test_what_is_left_after_levelling_is_below_the_noise(roll, pitch):
    tilted = hanging(roll=roll, pitch=pitch)
    before = scan_cover(AWAY, tilted, seed=1).data
    found = level_on_plate(before, Levelling(), BELT)
    assert found.tilt == pytest.approx(np.hypot(roll, pitch), abs=0.02)
    assert (found.levelling.roll, found.levelling.pitch) == pytest.approx((roll, pitch), abs=0.003)
    after = scan_cover(AWAY, hanging(roll=roll, pitch=pitch, levelling=found.levelling), seed=2).data
    left = level_on_plate(after, found.levelling, BELT)
    assert left.tilt < 0.005
    assert left.height == pytest.approx(BELT, abs=0.005)
    # doing it again changes nothing any more
    assert left.levelling.roll == pytest.approx(found.levelling.roll, abs=0.005)
    assert left.levelling.raise_by == pytest.approx(found.levelling.raise_by, abs=0.005)


def test_parts_measure_the_same_under_a_levelled_sensor(perfect):
    level = Levelling(roll=1.0)
    data = scan_cover(Cover(), hanging(roll=1.0, levelling=level), ideal=True).data
    for x, y in ((42, 26.3), (-42, 26.3), (0, 14), (35, 0), (0, 29)):
        assert data.height_at(x, y) == pytest.approx(perfect.data.height_at(x, y), abs=0.003), (x, y)


def test_a_plate_with_a_bump_is_refused_with_its_size():
    def dent(z, x, y):
        z[x**2 + y**2 < 9] += 0.2

    bump = edited(sloped(rows=150, cols=300), dent)
    with pytest.raises(NotMeasured, match=r"not flat: its cells differ by 0\.1\d\d mm"):
        level_on_plate(bump, Levelling())
    with pytest.raises(NotMeasured, match="only 0 %"):
        level_on_plate(HeightMap(np.full((20, 20), np.nan)), Levelling())
