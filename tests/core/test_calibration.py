"""Calibration: what is measured of how a sensor hangs and scales, and taken out of every profile."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hemtra import HeightMap, NotMeasured
from hemtra.core.errors import OffScan
from hemtra.core.station.artefact import height_at, round_face
from hemtra.core.station.calibration import Calibration
from hemtra.core.station.correction import correct_heights, correct_resolution, correct_width
from hemtra.core.station.levelling import level_on_plate
from hemtra.core.zones.zone import EllipseZone
from hemtra.virtual.cover import BELT, Cover
from hemtra.virtual.demo import STATION
from hemtra.virtual.parts import bare_belt
from hemtra.virtual.sensor import scan_part
from makers import edited, sloped

COARSE = STATION.with_part("travel", counts_per_profile=8)
small = st.floats(-3.0, 3.0)
calibrations = st.builds(
    Calibration,
    roll=small,
    pitch=small,
    yaw=small,
    lean=small,
    x=small,
    y=small,
    z=small,
    gain_x=st.floats(0.9, 1.1),
    gain_z=st.floats(0.9, 1.1),
)


def hanging(station=COARSE, climb=0.0, **hang):
    return station.with_part("sensor.hang", **hang).with_part("line", climb=climb)


@given(calibrations)
def test_a_calibration_can_be_undone(calibration):
    points = np.random.default_rng(1).uniform(-60, 60, (20, 3))
    assert calibration.undone(calibration.applied(points)) == pytest.approx(points, abs=1e-9)


@given(st.floats(-3, 3), st.floats(-3, 3), st.floats(-5, 5), calibrations)
def test_levelling_a_plane_is_exact_whatever_was_calibrated_before(slope_x, slope_y, height, now):
    """A plane without noise, at most 3 % steep: after levelling it lies level at its true height."""
    data = sloped(rows=80, cols=120, slope_x=slope_x / 100, slope_y=slope_y / 100, z0=height)
    found = level_on_plate(data, now, true_height=-6.0)
    middle = (data.x[0] + data.x[-1]) / 2, (data.y[0] + data.y[-1]) / 2
    places = np.array([[0, 0], [5, 0], [0, 7], [-5, -7]]) + middle
    seen = np.column_stack([places, height + (places - middle) @ (slope_x / 100, slope_y / 100)])
    levelled = found.calibration.applied(now.undone(seen))
    assert levelled[:, 2] == pytest.approx(-6.0, abs=2e-5)
    assert found.tilt == pytest.approx(math.degrees(math.atan(math.hypot(slope_x, slope_y) / 100)), abs=1e-4)


@pytest.mark.parametrize(("roll", "climb"), [(0.6, 0.0), (0.0, -0.8), (1.5, 0.7), (-2.0, -1.2)])
def test_what_is_left_after_levelling_is_below_the_noise(roll, climb):
    tilted = hanging(roll=roll, climb=climb, z=0.4)
    found = level_on_plate(scan_part(bare_belt(), tilted, seed=1).data, Calibration(), BELT)
    assert found.tilt == pytest.approx(np.hypot(roll, climb), abs=0.02)
    assert (found.calibration.roll, found.calibration.pitch) == pytest.approx((roll, climb), abs=0.003)
    levelled = tilted.with_part("sensor", calibration=found.calibration)
    left = level_on_plate(scan_part(bare_belt(), levelled, seed=2).data, found.calibration, BELT)
    assert left.tilt < 0.005
    assert left.height == pytest.approx(BELT, abs=0.005)


def test_parts_measure_the_same_under_a_levelled_sensor(perfect):
    level = hanging(roll=1.0).with_part("sensor", calibration=Calibration(roll=1.0))
    data = scan_part(Cover(), level, ideal=True).data
    for x, y in ((42, 26.3), (-42, 26.3), (0, 14), (35, 0), (0, 29)):
        assert data.height_at(x, y) == pytest.approx(perfect.data.height_at(x, y), abs=0.003), (x, y)


def test_a_zone_of_what_is_seen_is_enough():
    def step(z, x, y):
        z[x > 3] += 2.0

    data = edited(sloped(rows=150, cols=300, slope_x=0.01), step)
    with pytest.raises(NotMeasured, match="not flat"):
        level_on_plate(data, Calibration())
    found = level_on_plate(data, Calibration(), 0.0, EllipseZone(x=-6, y=0, width=14, height=20))
    assert found.calibration.roll == pytest.approx(math.degrees(math.atan(0.01)), abs=1e-4)
    with pytest.raises(OffScan):
        level_on_plate(data, Calibration(), 0.0, EllipseZone(x=600, y=0, width=14, height=20))


def test_a_plate_with_a_bump_is_refused_with_its_size():
    def dent(z, x, y):
        z[x**2 + y**2 < 9] += 0.2

    bump = edited(sloped(rows=150, cols=300), dent)
    with pytest.raises(NotMeasured, match=r"not flat: its cells differ by 0\.1\d\d mm"):
        level_on_plate(bump, Calibration())
    with pytest.raises(NotMeasured, match="only 0 %"):
        level_on_plate(HeightMap(np.full((20, 20), np.nan)), Calibration())


@given(
    calibrations,
    st.floats(-20, 20),
    st.floats(1, 30),
    st.floats(-0.05, 0.05),
    st.floats(-2, 2),
)
def test_two_known_heights_come_out_exactly(now, low, apart, stretch, off):
    """Any two raw points: what they measure with `now`, and truths that differ by a scale and an offset."""
    raw = np.array([[3.0, 0.0, low], [-8.0, 0.0, low + apart]])
    measured = now.applied(raw)[:, 2]
    if abs(measured[1] - measured[0]) < 0.5:
        return
    true = measured * (1 + stretch) + off
    corrected = correct_heights(now, tuple(measured), tuple(true))
    assert corrected.applied(raw)[:, 2] == pytest.approx(true, abs=1e-9)


def test_known_sizes_correct_x_and_the_resolution():
    now = Calibration(gain_x=1.01)
    corrected = correct_width(now, measured=40.2, true=40.0)
    ends = np.array([[-20.0, 0.0, 0.0], [20.0, 0.0, 0.0]])
    was, is_ = (np.ptp(c.applied(ends)[:, 0]) for c in (now, corrected))
    assert is_ / was == pytest.approx(40.0 / 40.2, rel=1e-12)
    # a 100 mm artefact that measures 101 mm: the counts per mm were taken too few
    assert correct_resolution(12.5, measured=101.0, true=100.0) == pytest.approx(12.625)


@pytest.mark.parametrize(
    ("measured", "true", "words"),
    [
        ((1.0, 1.05), (1.0, 2.0), "less than 0.1 mm apart"),
        ((1.0, 5.0), (5.0, 1.0), "which face is which"),
        ((1.0, 5.0), (1.0, float("nan")), "a true height"),
    ],
)
def test_heights_that_say_nothing_are_refused(measured, true, words):
    with pytest.raises(NotMeasured, match=words):
        correct_heights(Calibration(), measured, true)
    with pytest.raises(NotMeasured):
        correct_width(Calibration(), 40.0, 0.0)
    with pytest.raises(NotMeasured):
        correct_resolution(12.5, float("inf"), 40.0)


def disc(diameter=16.0, x=1.0, y=-2.0, stretch=1.0):
    def raised(z, px, py):
        z[((px - x) / stretch) ** 2 + (py - y) ** 2 < (diameter / 2) ** 2] += 5.0
        z[np.abs(px - x) < 0.3] = np.nan  # a stripe of dropouts

    return edited(sloped(rows=200, cols=400), raised)


def test_discs_are_measured_to_a_fraction_of_the_pitch():
    face = round_face(disc(stretch=1.05), 3.0, -3.0)
    assert (face.x, face.y) == pytest.approx((1.0, -2.0), abs=0.02)
    assert face.width == pytest.approx(16.8, abs=0.1)
    assert face.length == pytest.approx(16.0, abs=0.2)
    assert face.height == pytest.approx(5.0, abs=1e-6)
    assert height_at(disc(), 12.0, 12.0) == pytest.approx(0.0, abs=1e-6)
    with pytest.raises(NotMeasured, match="beyond the scan"):
        round_face(sloped(rows=100, cols=100), 0.0, 0.0)
    with pytest.raises(NotMeasured, match="no data"):
        height_at(HeightMap(np.full((50, 50), np.nan)), 2.0, 2.0)
