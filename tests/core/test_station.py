"""Travel, triggers, resolution and the scan budget: arithmetic that people get wrong by hand."""

import math

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from hemtra import NotMeasured
from hemtra.core.station.budget import Question, scan_budget
from hemtra.core.station.optics import CaptureBand
from hemtra.core.station.resolution import Run, measure_resolution, resolution_from_artefact
from hemtra.core.station.travel import LinearEncoder, ProfileCounter, Travel, WheelEncoder
from hemtra.core.station.trigger import Closed, Ignored, Opened, TriggerMachine, TriggerRules
from hemtra.virtual.demo import STATION
from hemtra.virtual.models import sensor_model

SIM_130 = sensor_model("Sim 130")


def test_the_arithmetic_of_the_demo_station():
    travel = STATION.travel
    assert travel.encoder.counts_per_mm == 12.5
    assert travel.spacing == pytest.approx(0.16)
    assert travel.profiles == 875
    assert STATION.trigger_rules().delay == round(50 / 0.16)
    fine = WheelEncoder(pulses_per_turn=2000, circumference=160, edges=4)
    assert fine.counts_per_mm == 50
    assert LinearEncoder(mm_per_pulse=0.02, edges=2).counts_per_mm == pytest.approx(100)


@given(st.lists(st.integers(-40, 60), max_size=40), st.integers(1, 7))
def test_profiles_on_a_shaking_line(steps, every):
    """Ignored backward motion: each place once, in order. Scanned: as often as it is passed."""
    count, ignored, scanned, passed = 0, ProfileCounter(every), ProfileCounter(every, "scanned"), []
    once, each = [], []
    for step in steps:
        once += ignored.feed(count + step)
        each += scanned.feed(count + step)
        # count by count, the definition itself
        while step:
            side = 1 if step > 0 else -1
            count += side
            step -= side
            if count % every == 0:
                passed.append(count // every)
    reached = [place for k, place in enumerate(passed) if place > max([0, *passed[:k]])]
    assert once == reached
    assert each == passed


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


def test_resolution_from_an_artefact():
    # a 100 mm artefact that measures 101 mm: the counts per mm were taken too few
    assert resolution_from_artefact(100.0, 101.0, 12.5) == pytest.approx(12.625)
    with pytest.raises(NotMeasured):
        resolution_from_artefact(0.0, 101.0, 12.5)


triggers = st.lists(st.integers(1, 60), min_size=1, max_size=30).map(
    lambda gaps: [sum(gaps[: k + 1]) for k in range(len(gaps))]
)


def driven(rules, at, until):
    """The events of triggers at some profiles, while profiles 0 to `until` come."""
    machine, events = TriggerMachine(rules), []
    for index in range(until):
        if index in at:
            events += machine.trigger(index)
        events += machine.profile(index, index / 100)
    return events


@settings(max_examples=200)
@given(triggers, st.integers(0, 50), st.integers(1, 40), st.sampled_from(["ignore", "close", "pad", "share"]))
def test_scans_are_exactly_as_predicted(at, delay, length, early):
    rules = TriggerRules(delay, length, early, waiting=10_000)
    events = driven(rules, at, at[-1] + delay + length + 5)
    closed = [e for e in events if isinstance(e, Closed)]
    starts = [t + delay for t in at]
    if early == "ignore":
        taken, free = [], -1
        for start in starts:
            if start >= free:
                taken.append(start)
                free = start + length
        expected = [(start, length, 0, "complete") for start in taken]
        assert len([e for e in events if isinstance(e, Ignored)]) == len(at) - len(taken)
    elif early == "share":
        expected = [(start, length, 0, "complete") for start in starts]
    else:
        expected = []
        for start, following in zip(starts, [*starts[1:], math.inf], strict=True):
            rows = int(min(length, following - start))
            how = "complete" if rows == length else ("padded" if early == "pad" else "short")
            expected.append((start, rows, length - rows if early == "pad" else 0, how))
    assert [(c.first, c.taken, c.padded, c.how) for c in closed] == expected
    assert [e.profile for e in events if isinstance(e, Opened)] == [first for first, *_ in expected]
    assert [c.scan for c in closed] == sorted(c.scan for c in closed)


def test_too_many_waiting_triggers_are_told():
    events = driven(TriggerRules(delay=100, length=5, waiting=2), [0, 10, 20, 30], 200)
    (ignored,) = [e for e in events if isinstance(e, Ignored) and "waiting" in e.reason][:1]
    assert ignored.at == 20
    assert "2 triggers were waiting" in ignored.reason
    assert len([e for e in events if isinstance(e, Closed)]) == 2


def test_a_scan_that_takes_too_long_is_faulty():
    machine = TriggerMachine(TriggerRules(delay=0, length=10, time_limit=1.0))
    machine.trigger(0)
    assert [type(e) for e in machine.profile(0, 5.0)] == [Opened]
    machine.profile(1, 5.5)
    assert machine.tick(1, 5.9) == ()
    (closed,) = machine.tick(1, 6.1)
    assert (closed.how, closed.taken, closed.reason) == ("faulty", 2, "2 of 10 profiles in 1.1 s")
    assert machine.open_scans == ()


def test_a_scan_may_last_as_long_as_its_trigger():
    machine, events = TriggerMachine(TriggerRules(delay=3, length=None)), []
    for index in range(30):
        if index == 4:
            events += machine.trigger(index)
        if index == 14:
            events += machine.release(index)
        events += machine.profile(index, 0.0)
    assert events == [Opened(1, 7), Closed(1, 7, 10, 0, "complete")]


def test_stopping_closes_what_is_open():
    machine = TriggerMachine(TriggerRules(delay=0, length=10))
    machine.trigger(0)
    for index in range(4):
        machine.profile(index, 0.0)
    assert machine.stop(4) == (Closed(1, 0, 4, 0, "short", "the line stopped after 4 profiles"),)


def rows_of(station, question=None):
    return {row.label: row for row in scan_budget(station, SIM_130, question).rows}


def test_the_budget_shows_its_sums():
    rows = rows_of(STATION, Question(tolerance=0.1, tolerance_of="boss height"))
    assert (rows["counts per mm"].sum, rows["counts per mm"].value) == ("2000 pulses ÷ 160.00 mm", "12.50")
    assert rows["profiles per scan"].value == "875"
    assert (rows["highest speed"].sum, rows["highest speed"].value) == ("0.160 × 2000 Hz", "320 mm/s")
    assert rows["margin"].value == "22 %"
    assert rows["time per scan"].value == "0.56 s"
    assert rows["memory per scan"].value == "5.6 MB"
    assert rows["points across 3 mm"].value == "28"
    assert rows["triggers on the way"].value == "1"


def travelling(**changes):
    return STATION.model_copy(update={"travel": STATION.travel.model_copy(update=changes)})


def hanging(**changes):
    return STATION.model_copy(update={"sensor": STATION.sensor.model_copy(update=changes)})


@pytest.mark.parametrize(
    ("station", "question", "words"),
    [
        (travelling(speed=400.0), Question(), "too fast"),
        (travelling(speed=310.0), Question(), "ripple"),
        (STATION, Question(), "unevenly"),
        (hanging(exposure=4.0), Question(), "too fast"),
        (hanging(stand_off=150.0), Question(part_width=120.0), "wide"),
        (hanging(stand_off=260.0), Question(lowest=-6.0), "delivered"),
        (hanging(band=CaptureBand(z_low=1, z_high=9)), Question(lowest=-6.0), "delivered"),
        (travelling(length=400.0), Question(), "longer than"),
    ],
)
def test_one_click_puts_it_right(station, question, words):
    def told(of):
        return [w for w in scan_budget(of, SIM_130, question).warnings if words in w.text]

    (warning,) = told(station)
    assert warning.advice
    assert warning.fixed is not None
    assert told(warning.fixed) == []
    type(station).model_validate(warning.fixed.model_dump(by_alias=True))


def test_the_limit_that_noise_swallows_is_warned_of():
    budget = scan_budget(STATION, SIM_130, Question(spot=0.5, tolerance=0.005, tolerance_of="1"))
    assert budget.noise_ratio < 10
    assert any("noise" in w.text for w in budget.warnings)
    calm = scan_budget(STATION, SIM_130, Question(spot=9.0, tolerance=0.1))
    assert calm.noise_ratio > 500
    assert not any("noise" in w.text for w in calm.warnings)


def test_a_smaller_band_is_faster_and_a_longer_exposure_slower():
    full = SIM_130.rate_with(190.0, None, 1.0)
    half = SIM_130.rate_with(190.0, CaptureBand(z_low=-25, z_high=25), 1.0)
    assert (full, half) == (SIM_130.rate, pytest.approx(2 * SIM_130.rate))
    assert SIM_130.rate_with(190.0, CaptureBand(z_low=0, z_high=0.1), 0.01) == 4 * SIM_130.rate
    assert SIM_130.rate_with(190.0, None, 4.0) == pytest.approx(1e6 / (4 * SIM_130.exposure_us))
    assert SIM_130.rate_with(900.0, CaptureBand(z_low=0, z_high=5), 1.0) == 0.0, "nothing of the band in view"


def test_nothing_in_view_gives_no_absurd_numbers():
    budget = scan_budget(hanging(band=CaptureBand(z_low=500, z_high=600)), SIM_130, Question(lowest=-6.0))
    assert {row.label: row.value for row in budget.rows}["margin"] == "–"
    assert not any("inf" in row.value or "nan" in row.value for row in budget.rows)
    assert any("delivered" in w.text for w in budget.warnings)


def test_absurd_travel_is_bounded():
    huge = Travel(encoder=LinearEncoder(mm_per_pulse=1e-6), counts_per_profile=1, length=1e6)
    assert huge.profiles == 100_000
    assert Travel(encoder=LinearEncoder(mm_per_pulse=1), counts_per_profile=1, length=0.1).profiles == 2
