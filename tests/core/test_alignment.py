"""Alignment of several sensors, and their maps made into one."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hemtra import HeightMap, NotMeasured
from hemtra.core.maps.assemble import shift_columns, with_row_pitch
from hemtra.core.maps.merge import blend
from hemtra.core.station.alignment import Aligned, Alignment, align, disagreement, seam_between
from hemtra.core.station.calibration import Calibration
from hemtra.core.station.target import stepped_wedge
from hemtra.runtime.align import try_alignment
from hemtra.virtual.demo import DOOR_STATION
from makers import edited, sloped

TARGET = stepped_wedge(-6.0)
TRUTH = (
    Calibration(x=1.5, y=-2.0, z=0.4, roll=0.8, yaw=-1.2, lean=0.5),
    Calibration(x=-2.2, y=1.0, z=-0.3, roll=-1.1, yaw=0.9, lean=-0.4),
)
DRAWN = (-55.0, 55.0)


def clouds(turned=0.0, noise=0.0, truth=TRUTH, points=20_000):
    """What sensors that hang like `truth` see of a target that lies turned, derived backward from it."""
    rng = np.random.default_rng(3)
    c, s = np.cos(np.radians(turned)), np.sin(np.radians(turned))
    found = []
    for calibration, drawn in zip(truth, DRAWN, strict=True):
        x, y = rng.uniform(drawn - 64, drawn + 64, points), rng.uniform(-50, 50, points)
        z = TARGET.height(c * x + s * y, c * y - s * x)
        seen = ~np.isnan(z)
        places = np.column_stack([x - drawn, y, z])[seen]
        raw = calibration.undone(places)
        raw[:, 2] += noise * rng.standard_normal(len(raw))
        found.append(raw)
    return found


def found_at(*truth):
    """An alignment with these calibrations."""
    return Alignment(tuple(Aligned(one, 0.0, 0.0, 1000) for one in truth), 0.0, 0.0)


def test_two_alignments_agree_but_for_where_the_target_lay():
    """A shift of all sensors is the target's; one sensor on another step, or turned, is not."""
    first, moves = found_at(*TRUTH), {"x": 4.0, "y": -7.0, "z": 0.2}
    moved = [c.model_copy(update={k: getattr(c, k) + v for k, v in moves.items()}) for c in TRUTH]
    same = disagreement(first, found_at(*moved))
    assert (same.distance, same.angle) == (pytest.approx(0.0, abs=1e-12), 0.0)
    stepped = disagreement(first, found_at(TRUTH[0], TRUTH[1].model_copy(update={"x": TRUTH[1].x + 1.0})))
    assert stepped.distance == pytest.approx(0.5)
    turned = disagreement(first, found_at(TRUTH[0], TRUTH[1].model_copy(update={"yaw": TRUTH[1].yaw + 0.3})))
    assert turned.angle == pytest.approx(0.3)


def test_what_a_second_scan_of_the_target_does_not_confirm_is_refused(monkeypatch):
    """As a sensor that leans far and was put on the wrong step of the target both times, but not the same."""
    answers = iter([found_at(*TRUTH), found_at(TRUTH[0], TRUTH[1].model_copy(update={"x": TRUTH[1].x + 1.0}))])
    monkeypatch.setattr("hemtra.runtime.align.align", lambda *_: next(answers))
    coarse = DOOR_STATION.with_part("travel", counts_per_profile=100)
    assert "second scan of the stepped wedge, turned by 3°" in try_alignment(coarse, 1)


def test_alignment_is_exact_without_noise():
    found = align(clouds(turned=1.5), DRAWN, TARGET, (Calibration(), Calibration()))
    assert found.turned == pytest.approx(1.5, abs=1e-4)
    for sensor, truth in zip(found.sensors, TRUTH, strict=True):
        for name in ("x", "y", "z", "roll", "yaw", "lean"):
            assert getattr(sensor.calibration, name) == pytest.approx(getattr(truth, name), abs=2e-3), name
        assert sensor.rms < 1e-3


def test_scales_are_kept_and_spikes_left_out():
    scaled = tuple(c.model_copy(update={"gain_x": 1.002, "gain_z": 0.998}) for c in TRUTH)
    seen = clouds(noise=0.008, truth=scaled)
    seen[0][::50, 2] += 3.0
    found = align(seen, DRAWN, TARGET, scaled)
    for sensor, truth in zip(found.sensors, scaled, strict=True):
        assert (sensor.calibration.gain_x, sensor.calibration.gain_z) == (1.002, 0.998)
        assert sensor.calibration.x == pytest.approx(truth.x, abs=0.01)
        assert sensor.calibration.z == pytest.approx(truth.z, abs=0.005)
        assert sensor.rms == pytest.approx(0.008, rel=0.25)


def test_sensors_that_lean_far_are_not_put_a_step_aside():
    leaning = Calibration(x=1.2, y=-2.0, z=0.4, roll=3.0, yaw=-0.8, lean=0.5)
    truth = (leaning, TRUTH[1])
    seen = clouds(turned=1.0, noise=0.008, truth=truth, points=6000)
    found = align(seen, DRAWN, TARGET, (Calibration(), Calibration()))
    for sensor, true in zip(found.sensors, truth, strict=True):
        assert sensor.calibration.x == pytest.approx(true.x, abs=0.01)
        assert sensor.calibration.roll == pytest.approx(true.roll, abs=0.01)
        assert sensor.share > 0.99


def test_a_fit_that_drops_a_tenth_of_the_target_is_refused():
    """A plate of 3 mm lies on a corner of it, which the fit can but leave out."""
    seen = clouds(noise=0.008, points=6000)
    on = (seen[0][:, 0] > 20.0) & (seen[0][:, 1] > 10.0)
    assert 0.06 < on.mean() < 0.3
    seen[0][on, 2] += 3.0
    with pytest.raises(NotMeasured, match=r"% of what sensor 1 sees of the stepped wedge lies on it"):
        align(seen, DRAWN, TARGET, (Calibration(), Calibration()))


def test_what_is_not_the_target_is_refused():
    flat = np.column_stack([np.random.default_rng(1).uniform(-60, 60, (20_000, 2)), np.zeros(20_000)])
    for wrong, words in (
        ([clouds()[0], flat], "sensor 2 does not see the stepped wedge"),
        ([clouds()[0], np.full((50, 3), np.nan)], "sensor 2 sees nothing"),
        ([clouds()[0], clouds()[1] * (1, 1, -1)], "sensor 2 does not see the stepped wedge"),
    ):
        with pytest.raises(NotMeasured, match=words):
            align(wrong, DRAWN, TARGET, (Calibration(), Calibration()))


def half(data, first, last, off=0.0):
    """What a sensor sees of a map whose view ends at some columns."""
    z = np.array(data.z) + np.float32(off)
    z[:, :first] = np.nan
    z[:, last:] = np.nan
    return z, np.full(z.shape, 80, np.uint8)


@given(st.floats(-0.05, 0.05), st.floats(-0.02, 0.02))
def test_blending_is_smooth_and_true(slope, off):
    whole = sloped(rows=30, cols=100, slope_x=slope)
    same, _ = blend([half(whole, 0, 60), half(whole, 40, 100)])
    np.testing.assert_allclose(same, whole.z, rtol=0, atol=1e-5)
    z, grey = blend([half(whole, 0, 60), half(whole, 40, 100, off)])
    left = z[0] - whole.z[0]
    np.testing.assert_allclose(left[:40], 0.0, rtol=0, atol=1e-5)
    np.testing.assert_allclose(left[60:], off, rtol=0, atol=1e-5)
    assert np.abs(np.diff(left)).max() <= abs(off) / 10 + 1e-5, "no step anywhere"
    assert (grey == 80).all()


def test_blending_does_not_mix_the_top_and_the_foot_of_a_wall():
    whole = sloped(rows=10, cols=100)
    z, _ = blend([half(whole, 0, 60), half(whole, 40, 100, 5.0)])
    assert set(np.unique(z)) == {0.0, 5.0}
    one, _ = blend([half(whole, 20, 60)])
    assert np.isnan(one[:, :20]).all()


def test_the_seam_on_a_plate():
    whole = sloped(rows=40, cols=100, noise=0.008)
    left = HeightMap(half(whole, 0, 60)[0], dx=0.1, dy=0.2)
    right = edited(
        HeightMap(half(whole, 40, 100)[0], dx=0.1, dy=0.2), lambda z, x, y: z.__iadd__(0.03 + 0.01 * x)
    )
    seam = seam_between(left, right)
    # the overlap is centred at x = 4.95 mm
    assert seam.step == pytest.approx(0.03 + 0.01 * 4.95, abs=1e-5)
    assert seam.tilt == pytest.approx(np.degrees(np.arctan(0.01)), abs=1e-4)
    assert seam.points == 40 * 20
    with pytest.raises(NotMeasured, match="no data in common"):
        seam_between(left, HeightMap(half(whole, 80, 100)[0], dx=0.1, dy=0.2))


@given(st.floats(-3.5, 3.5), st.floats(-0.04, 0.04))
def test_columns_move_along_travel_by_fractions_of_a_row(by, per_column):
    rows, cols = 40, 30
    z = (0.01 * np.arange(rows)[:, None] + np.zeros(cols)).astype(np.float32)
    shift = by + per_column * np.arange(cols)
    out, grey = np.empty_like(z), np.empty(z.shape, np.uint8)
    shift_columns(z, np.full(z.shape, 9, np.uint8), shift, 0.0, False, out, grey)
    inner = out[6:-6]
    np.testing.assert_allclose(
        inner, np.broadcast_to(0.01 * (np.arange(6, rows - 6)[:, None] - shift), inner.shape), rtol=0, atol=1e-5
    )
    assert not np.isnan(inner).any()


def test_a_leaning_plane_moves_high_things_only():
    z = np.zeros((40, 5), np.float32)
    z[20:30] = 5.0
    out, grey = np.empty_like(z), np.empty(z.shape, np.uint8)
    shift_columns(z, np.zeros(z.shape, np.uint8), np.zeros(5), 0.6, False, out, grey)
    assert (out[:20] == 0.0).all()
    assert (out[23:33] == 5.0).all()


@pytest.mark.parametrize("dy", [0.1, 0.107, 0.33])
def test_a_steep_flank_is_no_stairs_at_another_pitch(dy):
    data = edited(HeightMap(np.zeros((60, 10)), dx=0.107, dy=0.16), lambda z, x, y: z.__iadd__(2.0 * y))
    other = with_row_pitch(data, dy)
    assert other.z[:, 3] == pytest.approx(2.0 * other.y, abs=1e-5)
    moved, grey = np.empty_like(data.z), np.empty(data.z.shape, np.uint8)
    shift_columns(data.z, np.zeros(data.z.shape, np.uint8), np.full(10, 0.5), 0.0, False, moved, grey)
    assert moved[1:, 3] == pytest.approx(2.0 * (data.y[1:] - 0.08), abs=1e-5)


@pytest.mark.parametrize("dy", [0.1, 0.05, 0.33])
def test_rows_of_another_pitch_keep_slopes_and_steps(dy):
    data = edited(sloped(rows=60, cols=10, slope_y=0.02), lambda z, x, y: z.__setitem__(y > 1.0, 4.0))
    other = with_row_pitch(data, dy)
    assert other.grid.dy == dy
    assert other.y[0] + other.y[-1] == pytest.approx(data.y[0] + data.y[-1], abs=1e-9)
    assert abs((other.y[-1] - other.y[0]) - (data.y[-1] - data.y[0])) < dy
    low = other.y < 0.9
    assert other.z[low, 3] == pytest.approx(0.02 * other.y[low], abs=1e-5)
    assert set(np.unique(other.z[other.y > 1.2])) == {np.float32(4.0)}, "nothing between foot and top"
