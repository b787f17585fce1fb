"""Travel, triggers, resolution and the scan budget: arithmetic that people get wrong by hand."""

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hemtra import HeightMap, HemtraError, NotMeasured
from hemtra.core.station.budget import BudgetRequest, scan_budget
from hemtra.core.station.findings import Expected, findings
from hemtra.core.station.optics import CaptureBand
from hemtra.core.station.resolution import Run, measure_resolution
from hemtra.core.station.sensor_models import sensor_model
from hemtra.core.station.travel import LinearEncoder, ProfileCounter, Travel, WheelEncoder
from hemtra.core.units import INCH
from hemtra.virtual.demo import STATION
from makers import edited

SIM_130 = sensor_model("Sim 130")


def test_the_arithmetic_of_the_demo_station():
    travel = STATION.travel
    assert travel.encoder.counts_per_mm == 12.5
    assert travel.spacing == pytest.approx(0.16)
    assert (STATION.profiles, STATION.length, STATION.lead) == (875, 140.0, 30.0)
    assert STATION.trigger_rules().delay == round(50 / 0.16)
    fine = WheelEncoder(pulses_per_turn=2000, circumference=160, counting="x4")
    assert fine.counts_per_mm == 50
    assert LinearEncoder(mm_per_pulse=0.02, counting="x2").counts_per_mm == pytest.approx(100)
    by_clock = STATION.with_part("travel", clock="internal", period=0.5, speed=250.0)
    assert by_clock.travel.spacing == pytest.approx(0.125)


@given(st.lists(st.integers(-40, 60), max_size=40), st.integers(1, 7))
def test_profiles_on_a_shaking_line(steps, every):
    """Ignored backward motion: each place once, in order. Scanned: as often as it is passed."""
    count, passed = 0, []
    ignored, scanned = ProfileCounter(every), ProfileCounter(every, "forward", "scanned")
    both, mirrored = ProfileCounter(every, "both"), ProfileCounter(every, "backward")
    once, each, each_way, other = [], [], [], []
    for step in steps:
        once += ignored.feed(count + step)
        each += scanned.feed(count + step)
        each_way += both.feed(count + step)
        other += mirrored.feed(-count - step)
        # count by count, the definition itself
        while step:
            side = 1 if step > 0 else -1
            count += side
            step -= side
            if count % every == 0:
                passed.append(count // every)
    reached = [place for k, place in enumerate(passed) if place > max([0, *passed[:k]])]
    assert once == reached
    assert each == each_way == passed
    assert other == once


@given(st.floats(0.5, 500), st.lists(st.floats(10, 2000), min_size=2, max_size=8))
def test_resolution_is_recovered_from_whole_counts(counts_per_mm, travels):
    runs = [Run(travel, round(travel * counts_per_mm)) for travel in travels if travel * counts_per_mm > 2000]
    if not runs:
        return
    found = measure_resolution(runs)
    # half a count more or less at the shortest of them
    assert found.counts_per_mm == pytest.approx(counts_per_mm, rel=0.5 / 2000)
    back = measure_resolution([Run(-run.travel, -run.counts) for run in runs])
    assert back.counts_per_mm == pytest.approx(found.counts_per_mm)


@pytest.mark.parametrize(
    ("runs", "message"),
    [
        ([], "no run"),
        ([Run(0, 100)], "run 1 has no travel"),
        ([Run(math.nan, 100)], "no travel"),
        ([Run(100, 1250), Run(100, 0)], "run 2 made no counts"),
        ([Run(100, 1250), Run(100, 1251), Run(100, 1400)], "run 3 is"),
        ([Run(100, 1250), Run(100, -1250)], "contradict"),
    ],
)
def test_runs_that_tell_nothing_are_refused(runs, message):
    with pytest.raises(NotMeasured, match=message):
        measure_resolution(runs)


def rows_of(station, question=None):
    return {row.label: row for row in scan_budget(station, [SIM_130], question).rows}


def test_the_budget_shows_its_sums():
    rows = rows_of(STATION, BudgetRequest(tolerance=0.1, tolerance_of="boss height"))
    assert (rows["counts per mm"].sum, rows["counts per mm"].value) == ("2000 pulses ÷ 160.00 mm", "12.50")
    assert rows["profiles per scan"].value == "875"
    assert (rows["highest speed"].sum, rows["highest speed"].value) == ("0.160 × 2000 Hz", "320 mm/s")
    assert rows["margin"].value == "22 %"
    assert rows["time per scan"].value == "0.56 s"
    assert rows["memory per scan"].value == "5.6 MB"
    assert rows["points across 3 mm"].value == "28"
    assert rows["triggers in transit"].value == "1"


def changed(path, **values):
    return STATION.with_part(path, **values)


TWO = STATION.model_copy(
    update={"sensors": tuple(STATION.sensor.model_copy(update={"x": x}) for x in (-55.0, 55.0))}
)
ONE_CHANNEL = changed("travel.encoder", counting="single")
APART = TWO.with_part("sensors.1", x=75.0)
COVER = BudgetRequest(part_width=120.0, part_length=80.0, lowest=-6.0, highest=8.0)


@pytest.mark.parametrize(
    ("station", "question", "words"),
    [
        (changed("travel", speed=400.0), BudgetRequest(), "too fast"),
        (changed("travel", speed=310.0), BudgetRequest(), "ripple"),
        (changed("line", ripple=30.0), BudgetRequest(), "ripple"),
        (STATION, BudgetRequest(), "unevenly"),
        (changed("sensor.exposure", time=4.0), BudgetRequest(), "too fast"),
        (changed("sensor.exposure", by="two", time=3.0, short=1.0), BudgetRequest(), "too fast"),
        (changed("travel", clock="internal", period=0.2), BudgetRequest(), "too fast"),
        (changed("sensor", stand_off=150.0), BudgetRequest(part_width=120.0), "wide"),
        (changed("sensor", x=8.0), COVER, "out of the view"),
        (changed("sensor", x=5.5), COVER, "beside the part"),
        (changed("sensor", stand_off=260.0), BudgetRequest(lowest=-6.0), "are measured"),
        (changed("sensor.band", z_low=1, z_high=9), BudgetRequest(lowest=-6.0), "are measured"),
        (changed("sensor.band", z_high=5), COVER, "are measured"),
        (changed("trigger", length=400.0), BudgetRequest(), "longer than"),
        (changed("trigger", delay=85.0), COVER, "behind the part's front"),
        (changed("trigger", length=100.0), COVER, "before the part does"),
        (changed("trigger", distance=4000.0, delay=3950.0), COVER, "in transit"),
        (changed("trigger", time_limit=0.4), COVER, "given up"),
        (changed("travel", clock="internal", period=0.6).with_part("line", ripple=5.0), COVER, "varies"),
        (
            changed("travel.encoder", counting="single").with_part("travel", direction="both"),
            COVER,
            "One channel",
        ),
        (changed("trigger", by="reversal"), COVER, "moves back"),
    ],
)
def test_one_click_puts_it_right(station, question, words):
    def told(of):
        return [w for w in scan_budget(of, [SIM_130], question).warnings if words in w.text]

    (warning,) = told(station)
    assert warning.advice.endswith("."), "a sentence that says what to do"
    assert warning.fixed != station
    assert told(warning.fixed) == []
    type(station).model_validate(warning.fixed.model_dump(by_alias=True))


def test_sensors_side_by_side_are_checked_together():
    door = BudgetRequest(part_width=210.0, lowest=-6.0)
    assert not any("view" in w.text for w in scan_budget(TWO, [SIM_130] * 2, door).warnings)
    (warning,) = [w for w in scan_budget(APART, [SIM_130] * 2, door).warnings if "share" in w.text]
    # 133.4 mm of view each at 195 mm, 130 mm apart
    assert "3.4 mm" in warning.text
    grid, cols = TWO.grid([SIM_130] * 2)
    assert grid.x0 + grid.dx * (cols - 1) == pytest.approx(-grid.x0, abs=grid.dx)
    with pytest.raises(HemtraError, match="too large"):
        TWO.with_part("sensors.1", x=1e6).grid([SIM_130] * 2)


def test_exposures_cap_the_rate_and_the_budget_shows_it():
    slow = changed("sensor.exposure", by="automatic", longest=5.0)
    row = rows_of(slow)["highest rate"]
    assert (row.sum, row.value) == ("1 ÷ (5 × 250 µs)", "800 Hz")


def test_the_limit_that_noise_swallows_is_warned_of():
    budget = scan_budget(STATION, [SIM_130], BudgetRequest(spot=0.5, tolerance=0.005, tolerance_of="1"))
    assert budget.noise_ratio < 10
    assert any("noise" in w.text for w in budget.warnings)
    calm = scan_budget(STATION, [SIM_130], BudgetRequest(spot=9.0, tolerance=0.1))
    assert calm.noise_ratio > 500
    assert not any("noise" in w.text for w in calm.warnings)


def test_a_smaller_band_is_faster_and_a_longer_exposure_slower():
    whole = CaptureBand()
    full = SIM_130.rate_with(190.0, whole, 1.0)
    half = SIM_130.rate_with(190.0, CaptureBand(z_low=-25, z_high=25), 1.0)
    assert (full, half) == (SIM_130.rate, pytest.approx(2 * SIM_130.rate))
    assert SIM_130.rate_with(190.0, CaptureBand(z_low=0, z_high=0.1), 0.01) == 4 * SIM_130.rate
    assert SIM_130.rate_with(190.0, whole, 4.0) == pytest.approx(1e6 / (4 * SIM_130.exposure_us))
    assert SIM_130.rate_with(900.0, CaptureBand(z_low=0, z_high=5), 1.0) == 0.0, "nothing of the band in view"


def test_nothing_in_view_gives_no_absurd_numbers():
    station = changed("sensor.band", z_low=500, z_high=600)
    budget = scan_budget(station, [SIM_130], BudgetRequest(lowest=-6.0))
    assert {row.label: row.value for row in budget.rows}["margin"] == "–"
    assert not any("inf" in row.value or "nan" in row.value for row in budget.rows)
    assert any("are measured" in w.text for w in budget.warnings)


def test_inches_are_for_display_only():
    rows = {row.label: row for row in scan_budget(STATION, [SIM_130], None, INCH).rows}
    assert rows["counts per in"].value == "317.50"
    assert rows["one profile every"].value == f"{0.16 / 25.4:.5f} in"
    assert rows["profiles per scan"].value == "875"


def test_absurd_numbers_are_bounded_or_refused_in_words():
    huge = Travel(encoder=LinearEncoder(mm_per_pulse=1e-6), counts_per_profile=1)
    assert huge.profiles_in(1e6) == 100_000
    assert Travel(encoder=LinearEncoder(mm_per_pulse=1), counts_per_profile=1).profiles_in(0.1) == 2
    for path, values, words in (
        ("travel", {"speed": -1}, "speed cannot be that"),
        ("travel.encoder", {"pulses_per_turn": 0}, "pulses per turn cannot be that"),
        ("sensor.band", {"z_low": 5, "z_high": 4}, "upper limits above"),
        ("trigger", {"delay": -5, "delay_in": "ms"}, "cannot be below zero"),
        ("trigger", {"by": "manual", "length_in": "trigger"}, "says when a part has passed"),
        ("line", {"ripple": float("nan")}, "speed ripple cannot be that"),
    ):
        with pytest.raises(HemtraError, match=words):
            STATION.with_part(path, **values)


BOX = Expected(length=80.0, width=40.0, symmetric=True, speed=100.0)


def seen_on_belt(
    front=-40.0, end=40.0, tilt=0.0, lift=0.0, rows=300, gap=False, yaw=0.0, pitch=0.0, width=40.0, step=0.5
):
    """A box from front to end, 6 mm high with a block of 8 mm more in its middle, on a belt at -6.

    0.5 mm from row to row. yaw: degrees that the laser line is turned, so that rows lie askew; pitch: that it
    leans, so that what is high comes later.
    """
    rows = round(rows * 0.5 / step)
    x, y = np.arange(-50, 50, 0.5), step * (np.arange(rows) - (rows - 1) / 2)
    z = np.full((rows, x.size), -6.0)
    along = y[:, None] + math.tan(math.radians(yaw)) * x
    across = np.abs(x)[None, :]
    z[(along >= front) & (along < end) & (across < width / 2)] = 0.0
    if front == -40.0 and end > 20.0:
        later = 8.0 * math.tan(math.radians(pitch))
        z[(np.abs(along - later - (front + end) / 2) < 10) & (across < 10)] = 8.0
    if gap:
        z[np.abs(y) < 10] = -6.0
    z += lift + math.tan(math.radians(tilt)) * x
    return HeightMap(z, dx=0.5, dy=step, x0=x[0], y0=y[0])


@pytest.mark.parametrize(
    ("data", "words", "remedy"),
    [
        (seen_on_belt(tilt=0.5), "tilted by 0.50°", "level"),
        (seen_on_belt(lift=0.4), "+0.40 mm from where it lies", "level"),
        (seen_on_belt(front=-200), "begins within the part", ""),
        (seen_on_belt(end=200), "ends within the part", ""),
        (seen_on_belt(-200, 200), "cut off at both ends", ""),
        (seen_on_belt(0, 0), "no part in the scan", ""),
        (seen_on_belt(gap=True), "more than one part", ""),
        (seen_on_belt(end=48.0), "88.0 mm long and is 80", "encoder"),
    ],
)
def test_a_trial_scan_says_what_is_wrong_with_its_station(data, words, remedy):
    (finding,) = findings(data, (), -6.0, BOX)
    assert words in finding.text
    assert finding.remedy == remedy


@pytest.mark.parametrize("ratio", [0.4, 0.5, 2.0, 2.5])
@pytest.mark.parametrize("cut", [{"front": -200}, {"end": 200}, {"front": 0, "end": 0}])
def test_a_gross_encoder_is_named_before_the_window_it_shifts(ratio, cut):
    """By the profiles' times the belt runs at another speed; the window alone would be the wrong advice."""
    first, second = findings(seen_on_belt(**cut), (), -6.0, replace(BOX, seen_speed=100.0 * ratio))
    assert (first.remedy, second.remedy) == ("encoder", "")
    assert f"runs at {100 * ratio:.0f} mm/s" in first.text
    clock = replace(BOX, seen_speed=100.0 * ratio, by_clock=True)
    assert len(findings(seen_on_belt(**cut), (), -6.0, clock)) == 1, "a clock has no encoder"


@pytest.mark.parametrize("angle", [-5.0, -2.0, 2.0, 5.0])
def test_yaw_and_pitch_are_told_as_themselves_and_measured(angle):
    (yaw,) = findings(seen_on_belt(yaw=angle), (), -6.0, BOX)
    told = float(yaw.text.split("skewed by ")[1].split("°")[0])
    assert told == pytest.approx(abs(angle), abs=0.15)
    (pitch,) = findings(seen_on_belt(pitch=angle, step=0.1), (), -6.0, BOX)
    assert f"leans about {abs(angle):.0f}°" in pitch.text
    other = replace(BOX, symmetric=False, square=False)
    for data in (seen_on_belt(yaw=angle), seen_on_belt(pitch=angle, step=0.1)):
        assert findings(data, (), -6.0, other) == (), "of a part that is neither square nor symmetric"


def test_a_part_too_wide_is_a_scale_and_one_too_large_another_part():
    (wide,) = findings(seen_on_belt(width=43.0), (), -6.0, BOX)
    assert (wide.remedy, "42.5 mm wide and is 40" in wide.text) == ("correct", True)
    (large,) = findings(seen_on_belt(end=48.0, width=44.0), (), -6.0, BOX)
    assert "the right part" in large.text
    (long,) = findings(seen_on_belt(end=48.0), (), -6.0, replace(BOX, by_clock=True))
    assert (long.remedy, "set the speed" in long.text) == ("", True)


def test_a_good_trial_scan_says_nothing():
    good = seen_on_belt()
    assert findings(good, (), -6.0, BOX) == ()
    assert findings(good, (good, seen_on_belt(lift=0.02)), -6.0, BOX) == ()
    (step,) = findings(good, (good, seen_on_belt(lift=0.05)), -6.0, BOX)
    assert ("0.05 mm" in step.text, step.remedy) == (True, "align")

    def holes(z, x, y):
        z[(np.abs(x) < 15) & (np.abs(y) < 38)] = np.nan

    (dark,) = findings(edited(good, holes), (), -6.0, BOX)
    assert dark.remedy == "exposure"
