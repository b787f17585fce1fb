"""The virtual sensor: what geometry and light do to a scan."""

from dataclasses import replace

import numpy as np
import pytest

from hemtra import HemtraError, inspect
from hemtra.core.geometry.frames import Frame
from hemtra.core.station.optics import CaptureBand
from hemtra.core.station.resolution import measure_resolution
from hemtra.core.station.travel import WheelEncoder
from hemtra.virtual.cover import Cover, make_cover
from hemtra.virtual.demo import STATION, demo_plan
from hemtra.virtual.line import encoder_run
from hemtra.virtual.models import sensor_model, sensor_models
from hemtra.virtual.sensor import CoverUnderSensor, live_profile, scan_cover

COARSE = STATION.model_copy(update={"travel": STATION.travel.model_copy(update={"counts_per_profile": 8})})


def region(data, x0, x1, y0, y1):
    cols = (data.x >= x0) & (data.x <= x1)
    rows = (data.y >= y0) & (data.y <= y1)
    return data.z[np.ix_(rows, cols)]


def test_same_seed_same_scan_and_other_seed_other_noise():
    cover = make_cover(3)
    a, b, c = (scan_cover(cover, COARSE, seed).data for seed in (1, 1, 2))
    assert np.array_equal(a.z, b.z, equal_nan=True)
    assert np.array_equal(a.intensity, b.intensity)
    both = ~np.isnan(a.z) & ~np.isnan(c.z)
    assert not np.array_equal(a.z[both], c.z[both])
    flange = region(a, -20, 20, 27.5, 30) - region(c, -20, 20, 27.5, 30)
    assert np.nanstd(flange) == pytest.approx(0.008 * np.sqrt(2), rel=0.25)


def test_a_scan_taken_in_pieces_is_the_same_scan():
    cover, whole = make_cover(3), scan_cover(make_cover(3), COARSE, 1).data
    part = CoverUnderSensor(cover, COARSE, 1)
    part.take(50)
    half = part.scan().data
    assert np.array_equal(half.z[:50], whole.z[:50], equal_nan=True)
    assert np.isnan(half.z[50:]).all()
    while part.taken < part.ys.size:
        part.take(37)
    assert np.array_equal(part.scan().data.z, whole.z, equal_nan=True)
    assert np.isnan(half.z[50:]).all(), "a scan that was handed out does not change any more"


def moved(**changes):
    return STATION.model_copy(update={"travel": STATION.travel.model_copy(update=changes)})


def extent_along_travel(station):
    """First and last y of the map where the flange shows, and the share of rows between that hold it."""
    data = scan_cover(Cover(), station, ideal=True).data
    rows = np.flatnonzero((np.abs(region(data, -20, 20, -200, 200)) < 0.5).any(axis=1))
    return data.y[rows[0]], data.y[rows[-1]], rows.size / (rows[-1] - rows[0] + 1)


def test_a_line_that_is_too_fast_leaves_rows_without_data_but_no_shorter_part():
    usual, fast = extent_along_travel(STATION), extent_along_travel(moved(speed=400.0))
    assert fast[:2] == pytest.approx(usual[:2], abs=0.3)
    # every other profile, at five quarters of the highest speed
    assert fast[2] / usual[2] == pytest.approx(0.5, abs=0.02)
    part = CoverUnderSensor(Cover(), moved(speed=400.0))
    part.take(875)
    assert part.missed == 437


def test_a_wrong_encoder_resolution_stretches_the_part():
    usual = extent_along_travel(STATION)
    believed = WheelEncoder(pulses_per_turn=2000, circumference=176.0)
    wrong = extent_along_travel(moved(encoder=believed))
    assert usual[1] - usual[0] == pytest.approx(80.0, abs=0.4)
    assert wrong[1] - wrong[0] == pytest.approx(88.0, abs=0.5)


def test_a_scan_that_begins_too_late_clips_the_part():
    late = STATION.model_copy(update={"eye": STATION.eye.model_copy(update={"lead": 0.0})})
    short = late.model_copy(update={"travel": STATION.travel.model_copy(update={"length": 60.0})})
    data = scan_cover(Cover(), short, ideal=True).data
    rows = region(data, -20, 20, data.y[2], data.y[-3])
    assert (rows > -5).any(axis=1).all(), "no row of bare belt before or behind"
    assert data.shape[0] == 375


def test_runs_of_the_line_give_its_resolution():
    runs = [encoder_run(500.0, 1, seed) for seed in range(5)]
    assert len({run.counts for run in runs}) > 1, "the wheel slips a little"
    assert measure_resolution(runs).counts_per_mm == pytest.approx(12.5, rel=5e-4)


def test_a_live_profile_is_a_row_of_the_scan(perfect):
    profile = live_profile(Cover(), STATION, 22.0)
    level = profile.z[np.abs(profile.x) < 15]
    assert np.nanmedian(level) == pytest.approx(0.0, abs=0.002)
    assert np.nanmax(profile.z) == pytest.approx(4.0, abs=0.05)
    assert profile.x.size == 1280
    assert np.isnan(profile.z[np.abs(profile.x - 48.5) < 0.2]).all(), "the shade beside the boss"


def test_camera_shadow_lies_behind_walls_seen_from_the_camera(perfect):
    """The camera looks from +y: what lies just below the hub in y is hidden, what lies above it is seen."""
    data = perfect.data
    station, model = STATION.sensor.stand_off, sensor_model("Sim 130")
    # the sight line from the belt side over the hub's rim, 8 mm high
    reach = 8.0 * model.baseline / station
    hidden = region(data, -3, 3, -19 - reach + 0.4, -19 - 0.3)
    behind = region(data, -3, 3, -19 - reach - 1.5, -19 - reach - 0.3)
    before = region(data, -3, 3, 19.3, 23)
    assert np.isnan(hidden).all()
    assert not np.isnan(behind).any()
    assert not np.isnan(before).any()


def test_laser_shadow_lies_outward_of_walls(perfect):
    """The fan comes from x = 0: a boss at x = 42 shades the flange beyond it, not before it."""
    data = perfect.data
    shade = 4.0 * 48.0 / (195.0 - 4.0)
    assert np.isnan(region(data, 48.15, 48.0 + shade - 0.15, 21.5, 22.5)).all()
    inward = region(data, 34.5, 35.8, 21.5, 22.5)
    assert not np.isnan(inward).any()


def test_dark_specks_drop_out_and_shiny_ones_throw_spikes():
    specks = np.array([[0.0, 29.0, 1.2, 0.01], [20.0, 29.0, 1.2, 6.0], [-20.0, 29.0, 1.2, 0.5]])
    data = scan_cover(Cover(specks=specks), COARSE, 4).data
    dark, shiny, plain = (region(data, x - 0.7, x + 0.7, 28.5, 29.5) for x in (0, 20, -20))
    assert np.isnan(dark).all()
    assert np.nanmax(np.abs(shiny)) > 0.3
    assert np.abs(plain).max() < 0.08


def test_noise_grows_with_range_and_falls_with_light():
    def spread(stand_off=195.0, exposure=1.0):
        sensor = STATION.sensor.model_copy(update={"stand_off": stand_off, "exposure": exposure})
        station = COARSE.model_copy(update={"sensor": sensor})
        return np.nanstd(region(scan_cover(Cover(), station, 1).data, -20, 20, 27.5, 30))

    usual = spread()
    assert spread(stand_off=225.0) == pytest.approx(usual * (225 / 195) ** 2, rel=0.15)
    assert spread(exposure=0.25) > 1.4 * usual


def test_heights_are_quantised():
    data = scan_cover(Cover(), COARSE, 1).data
    z = region(data, -20, 20, 27.5, 30).astype(float)
    # the grid interpolates between points; where a column falls on a point, its height is a whole micrometre
    on_point = np.abs(z * 1000 - np.round(z * 1000)) < 1e-3
    assert on_point.mean() > 0.02


def test_what_lies_outside_the_capture_band_is_not_delivered():
    band = CaptureBand(z_low=-1.0, z_high=5.0, x_low=-50.0, x_high=60.0)
    sensor = STATION.sensor.model_copy(update={"band": band})
    data = scan_cover(Cover(), COARSE.model_copy(update={"sensor": sensor}), ideal=True).data
    assert np.nanmin(data.z) >= -1.0, "no belt"
    assert np.nanmax(data.z) <= 5.0, "no hub"
    assert np.isnan(region(data, -69, -50.2, -40, 40)).all()
    assert not np.isnan(region(data, -20, 20, 27.5, 30)).any()


def test_out_of_range_gives_no_data_and_unknown_models_are_refused():
    far = COARSE.model_copy(update={"sensor": STATION.sensor.model_copy(update={"stand_off": 400.0})})
    assert scan_cover(Cover(), far).data.data_share == 0.0
    odd = COARSE.model_copy(update={"sensor": STATION.sensor.model_copy(update={"model": "Sim 7"})})
    with pytest.raises(HemtraError, match="Sim 7"):
        scan_cover(Cover(), odd)


@pytest.mark.parametrize("name", ["Sim 60", "Sim 130", "Sim 250"])
def test_every_model_sees_the_flange_where_it_is(name):
    model = sensor_models()[name]
    sensor = STATION.sensor.model_copy(update={"model": name, "stand_off": model.mid})
    data = scan_cover(Cover(), COARSE.model_copy(update={"sensor": sensor}), ideal=True).data
    assert data.shape[1] == model.points
    assert np.abs(region(data, -20, 20, 27.5, 30)).max() < 1e-5


@pytest.mark.parametrize(
    "cover",
    [
        Cover(),
        Cover(
            boss_heights=(3.9, 4.02, 4.1, 4.0),
            hub_tilt=0.4,
            hub_tilt_toward=200.0,
            pocket_depth=2.55,
            pose=Frame(tilt_x=0.1, tilt_y=-0.12),
        ),
    ],
    ids=["nominal", "posed"],
)
def test_noise_free_values_are_true_to_a_micrometre(cover):
    result = inspect(demo_plan(), scan_cover(cover, STATION, ideal=True))
    known = cover.truth()
    for row in result.characteristics:
        bound = 0.002 if row.balloon == 7 else 0.001
        assert row.value == pytest.approx(known[row.balloon], abs=bound), row.name


def test_with_noise_the_mean_over_seeds_is_true():
    cover = replace(make_cover(9), bow=0.0, hub_tilt=0.0)
    plan = demo_plan()
    values = [[c.value for c in inspect(plan, scan_cover(cover, STATION, s)).characteristics] for s in range(6)]
    known = cover.truth()
    for row, mean in zip(plan.sheet, np.mean(values, axis=0), strict=True):
        if row.balloon not in (7, 15):  # tilt and flatness of noise are never below zero
            assert mean == pytest.approx(known[row.balloon], abs=0.003), row.name
