"""Acquisition end to end: from numbered profiles to scans whose content can be predicted row by row."""

import threading

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from examples import examples
from hemtra import HeightMap, HemtraError, Scan, save_scan
from hemtra.core.maps.heightmap import Grid
from hemtra.core.station.assembler import Acquired, Assembler, Batch, Growing, Layout, Profiles, TriggerSeen
from hemtra.core.station.calibration import Calibration
from hemtra.core.station.sensor_models import models_of
from hemtra.core.station.trigger import Ignored, TriggerRules
from hemtra.core.station.trigger_sources import starter
from hemtra.runtime.acquisition import Acquisition
from hemtra.runtime.line_feeds import StationFeed
from hemtra.runtime.replay import GAP, FolderReplay
from hemtra.virtual.cover import make_cover
from hemtra.virtual.demo import DOOR_STATION, STATION
from hemtra.virtual.line import Motion
from hemtra.virtual.parts import door_frame, part_named
from hemtra.virtual.sensor import scan_part
from hemtra.virtual.source import VirtualLine

POINTS, COLS = 12, 10
GRID = Grid(-0.9, 0.0, 0.2, 0.5)
X = np.linspace(-1.1, 1.1, POINTS)


def batch(first: int, count: int, missed=(), backward=False) -> Batch:
    """Profiles whose height is their number: what a scan holds tells where it came from."""
    numbers = np.arange(first, first + count)
    z = np.repeat(numbers[:, None].astype(np.float32), POINTS, axis=1)
    x = np.broadcast_to(X, z.shape).copy()
    seen = Profiles(x, z, np.full(z.shape, 50, np.uint8), np.isin(numbers, list(missed)))
    return Batch(first, (seen,), numbers / 100, -numbers if backward else numbers)


def narrow() -> Batch:
    seen = Profiles(X[None, :7], np.zeros((1, 7), np.float32), np.zeros((1, 7), np.uint8))
    return Batch(0, (seen,), np.zeros(1), np.zeros(1, np.int64))


def silent() -> Batch:
    """Three profiles are due, and two are delivered."""
    return Batch(0, batch(0, 2).sensors, np.zeros(3), np.arange(3))


def line(triggers, until, size=7, missed=()):
    """Batches of profiles with the triggers between them, as they happen."""
    at = sorted(triggers)
    for first in range(0, until, size):
        count = min(size, until - first)
        while at and at[0] < first + count:
            # a trigger arrives before the batch its profile is in
            yield TriggerSeen(at[0], "front", at.pop(0) / 100)
        yield batch(first, count, missed)


def assembling(rules, starts=None) -> Assembler:
    return Assembler(rules, Layout(GRID, COLS, (POINTS,)), starts)


def collected(source, rules, starts=None):
    assembler = assembling(rules, starts)
    found = [outcome for arrival in source for outcome in assembler.feed(arrival)]
    return found + assembler.stop()


def rows_of(scan: Acquired):
    return [int(v) if not np.isnan(v) else None for v in scan.data.z[:, COLS // 2]]


triggers = st.lists(st.integers(1, 60), min_size=1, max_size=200).map(lambda gaps: list(np.cumsum(gaps)))


@settings(max_examples=examples(60))
@given(
    triggers,
    st.integers(10, 60),
    st.integers(2, 40),
    st.sampled_from(["ignore", "close", "pad", "share"]),
    st.integers(1, 9),
)
def test_every_scan_holds_exactly_its_profiles(at, delay, length, early, size):
    # a delay longer than a batch: the trigger is known before its profiles come, as on a real line
    rules = TriggerRules(delay, length, early, waiting=10_000)
    found = collected(line(at, at[-1] + delay + length + size, size), rules)
    scans = [f for f in found if isinstance(f, Acquired)]
    starts = [t + delay for t in at]
    if early == "ignore":
        kept, free = [], -1
        for start in starts:
            if start >= free:
                kept.append(start)
                free = start + length
        assert len([f for f in found if isinstance(f, Ignored)]) == len(at) - len(kept)
        expected = [list(range(start, start + length)) for start in kept]
    elif early == "share":
        expected = [list(range(start, start + length)) for start in starts]
    else:
        ends = [min(a + length, b) for a, b in zip(starts, [*starts[1:], 10**9], strict=True)]
        expected = [list(range(a, b)) for a, b in zip(starts, ends, strict=True)]
        if early == "pad":
            expected = [rows + [None] * (length - len(rows)) for rows in expected]
    assert [rows_of(scan) for scan in scans] == expected
    assert [scan.number for scan in scans] == list(range(1, len(scans) + 1))
    for scan in scans:
        assert scan.data.extent[2] == pytest.approx(-scan.data.extent[3]), "symmetric about y = 0"


def test_missed_profiles_are_rows_without_data_and_counted():
    found = collected(line([2], 40, missed={10, 11, 30}), TriggerRules(delay=5, length=20))
    (scan,) = found
    assert scan.missed == 2
    assert rows_of(scan) == [7, 8, 9, None, None, *range(12, 27)]
    assert scan.data.intensity[3].max() == 0
    assert scan.how == "complete"


def test_a_line_that_stops_closes_its_scan_short():
    found = collected(line([0], 10), TriggerRules(delay=4, length=20))
    assert [(f.how, rows_of(f)) for f in found] == [("short", [4, 5, 6, 7, 8, 9])]


def test_a_line_that_stands_still_runs_into_the_time_limit():
    assembler = assembling(TriggerRules(delay=0, length=50, time_limit=2.0))
    assembler.feed(TriggerSeen(0))
    assembler.feed(batch(0, 10))
    assert assembler.tick(1.0) == []
    (scan,) = assembler.tick(3.0)
    assert (scan.how, scan.reason) == ("faulty", "10 of 50 profiles in 3.0 s")
    assert rows_of(scan) == list(range(10))


@pytest.mark.parametrize(
    ("arrivals", "words"),
    [
        ([batch(0, 5), batch(9, 5)], "Profile 9 follows 4: the encoder jumped"),
        ([narrow()], "7 points instead of 12"),
        ([silent()], "stopped delivering"),
        ([Batch(0, batch(0, 2).sensors * 2, np.zeros(2), np.arange(2))], "2 sensors deliver and 1 are set up"),
    ],
)
def test_what_cannot_be_used_is_told(arrivals, words):
    with pytest.raises(HemtraError, match=words):
        collected(arrivals, TriggerRules(delay=0, length=5))


def test_rows_nobody_wants_are_forgotten():
    assembler = assembling(TriggerRules(delay=0, length=5))
    for first in range(0, 10_000, 50):
        assembler.feed(batch(first, 50))
    assert sum(rows.missed.size for rows in assembler._rows) <= 50


def run(source, rules):
    told, errors = [], []
    acquisition = Acquisition(source, assembling(rules), told.append, errors.append)
    acquisition.start()
    return acquisition, told, errors


def test_threads_deliver_the_same_as_one():
    at = [int(t) for t in np.cumsum(np.random.default_rng(4).integers(15, 60, 200))]
    rules = TriggerRules(30, 25, "share", waiting=100)
    acquisition, told, errors = run(line(at, at[-1] + 80), rules)
    acquisition.wait()
    assert errors == []
    assert len(told) == 200
    assert [rows_of(t) for t in told] == [rows_of(t) for t in collected(line(at, at[-1] + 80), rules)]


def test_stopping_ends_an_endless_line_and_a_failing_one_says_why():
    running = threading.Event()

    def endless():
        yield TriggerSeen(0)
        for k in range(10**9):
            if k == 20:
                running.set()
            yield batch(7 * k, 7)

    acquisition, told, errors = run(endless(), TriggerRules(delay=0, length=50))
    assert running.wait(10)
    acquisition.stop()
    assert told[0].how == "complete"

    def failing():
        yield batch(0, 7)
        raise ConnectionError("the cable was pulled")

    acquisition, _, errors = run(failing(), TriggerRules(delay=0, length=5))
    acquisition.wait()
    assert [str(e) for e in errors] == ["the cable was pulled"]
    acquisition, _, errors = run(
        iter([batch(0, 7), batch(99, 7), batch(106, 7)]), TriggerRules(delay=0, length=5)
    )
    acquisition.wait()
    assert "the encoder jumped" in str(errors[0])


def test_time_on_the_line_continues_while_nothing_comes():
    ticked, times = threading.Event(), []

    class Ticked(Assembler):
        def tick(self, now):
            times.append(now)
            ticked.set()
            return super().tick(now)

    def quiet():
        yield batch(9000, 7)
        assert ticked.wait(20)

    assembler = Ticked(TriggerRules(delay=0, length=5), Layout(GRID, COLS, (POINTS,)))
    acquisition = Acquisition(quiet(), assembler, list, lambda error: None)
    acquisition.start()
    acquisition.wait()
    # the last profile was due after 90.06 s; a little later nothing more had come
    assert 90.06 < times[0] < 120.0


def test_a_scan_under_way_can_be_looked_at():
    assembler = assembling(TriggerRules(delay=5, length=20))
    assert assembler.growing() is None
    for arrival in line([0], 14):
        assembler.feed(arrival)
    growing = assembler.growing()
    assert isinstance(growing, Growing)
    assert (growing.number, growing.taken, growing.of, growing.waiting) == (1, 9, 20, 0)
    assembler.feed(TriggerSeen(14))
    assert assembler.growing().waiting == 0, "too early, and ignored"
    assembler.feed(TriggerSeen(22))
    assert assembler.growing().waiting == 1
    assert rows_of(growing) == [*range(5, 14), *[None] * 11]


def test_what_was_scanned_backward_is_turned_round():
    source = [TriggerSeen(0), batch(0, 10), TriggerSeen(10), batch(10, 10, backward=True), batch(20, 1)]
    there, back = collected(source, TriggerRules(delay=0, length=10))
    assert rows_of(there) == list(range(10))
    assert rows_of(back) == list(range(19, 9, -1))


lengths = st.lists(st.integers(30, 90), min_size=200, max_size=200)


@settings(max_examples=examples(4))
@given(
    lengths,
    st.sampled_from(["eye", "height", "distance", "free", "manual", "reversal"]),
    st.sampled_from(["ignore", "close", "pad", "share"]),
    st.integers(1, 9),
)
def test_200_parts_through_every_trigger_and_every_early_rule(gaps, by, early, size):
    """Parts are 20 profiles long, `gaps` from front to front, each at a height of its own number."""
    fronts = np.cumsum(gaps)
    until = int(fronts[-1]) + 60
    number = np.zeros(until, np.float32)
    for k, front in enumerate(fronts, start=1):
        number[front : front + 20] = k
    places = np.arange(until)
    if by == "reversal":  # the line turns round behind every part
        for k in range(1, 200, 2):
            places[fronts[k] :] = 2 * places[fronts[k] - 1] - places[fronts[k] :]
    station = STATION.with_part(
        "trigger", by=by, early=early, delay=0.0, length=40, length_in="profiles", every=50 * 0.16,
        over=0.5, wide=0.1, in_profiles=1, waiting=1000,
    )  # fmt: skip
    rules, starts = station.trigger_rules(), starter(station.trigger, station.travel, GRID.dx)

    def arrivals():
        at = list(fronts) if by in ("eye", "manual") else []
        for first in range(0, until, size):
            rows = slice(first, min(first + size, until))
            while at and at[0] < rows.stop:
                yield TriggerSeen(int(at.pop(0)))
            z = np.repeat(number[rows, None], POINTS, axis=1)
            seen = Profiles(np.broadcast_to(X, z.shape).copy(), z, np.full(z.shape, 50, np.uint8))
            yield Batch(first, (seen,), places[rows] / 100, places[rows])

    begins = {
        "eye": fronts,
        "manual": fronts,
        "height": fronts,
        "distance": np.arange(0, until, 50),
        "free": np.arange(0, until, 40),
        "reversal": np.array([0, *(fronts[k] for k in range(1, 200, 2))]),
    }[by]
    windows, end = [], 0
    for k, start in enumerate(begins):
        following = begins[k + 1] if k + 1 < len(begins) else until
        if early == "ignore" and start < end:
            continue
        end = start + 40 if early in ("ignore", "share") else min(start + 40, following)
        windows.append((start, min(end, until), 40 if early == "pad" and start + 40 <= until else 0))
    found = collected(arrivals(), rules, starts)
    scans = [f for f in found if isinstance(f, Acquired)]
    assert len(scans) == len(windows)
    for scan, (start, end, padded) in zip(scans, windows, strict=True):
        expected = number[start:end]
        if places[end - 1] < places[start]:
            expected = expected[::-1]
        rows = scan.data.z[:, COLS // 2]
        if np.isnan(rows).any() or padded:
            rows = rows[: end - start]
        assert rows.tolist() == expected.tolist()
    complete = [scan.how == "complete" for scan in scans]
    assert complete == [end - start == 40 for start, end, _ in windows]


def scans_of(station, parts, **line_values):
    line = VirtualLine(station, parts, 3, **line_values)
    assembler = Assembler.of(station, models_of(station))
    found = [outcome for arrival in line for outcome in assembler.feed(arrival)]
    return [f for f in found + assembler.stop() if isinstance(f, Acquired)]


QUICK = STATION.with_part("travel", counts_per_profile=10).with_part("line", part_spacing=200.0)


def hub_at(data: HeightMap):
    """Where the middle of what is higher than 6 mm lies."""
    rows, cols = np.nonzero(data.z > 6)
    return data.x[cols].mean(), data.y[rows].mean()


@pytest.mark.parametrize(
    ("path", "values"),
    [
        ("trigger", {}),
        ("line", {"jitter": 8.0}),
        ("line", {"ramp": 400.0, "ripple": 10.0}),
        ("travel", {"direction": "backward"}),
        ("travel.encoder", {"counting": "x4"}),
        ("trigger", {"delay": 200.0, "delay_in": "ms"}),
        ("trigger", {"delay": 625, "delay_in": "pulses"}),
        ("trigger", {"by": "height", "over": -4.0, "wide": 60.0, "delay": -30.0, "length": 140.0}),
        ("trigger", {"length_in": "trigger"}),
    ],
)
def test_a_lot_passes_and_every_part_is_whole(path, values):
    station = QUICK.with_part(path, **values)
    scans = scans_of(station, [make_cover(k) for k in range(2)])
    assert [scan.how for scan in scans] == ["complete"] * 2
    for scan in scans:
        assert scan.missed == 0
        assert hub_at(scan.data) == pytest.approx((0.0, 0.0), abs=1.6)
        ends = scan.data.z[[0, -1]]
        assert np.nanmax(ends) < -5.5, "belt before and behind"


def test_a_trial_is_what_a_single_scan_is():
    (scan,) = scans_of(QUICK, [make_cover(1)])
    alone = scan_part(make_cover(1), QUICK, 3).data
    assert scan.data.shape == alone.shape
    # the line takes its profiles where its encoder has them, up to a profile beside those of the single scan
    assert hub_at(scan.data)[1] == pytest.approx(hub_at(alone)[1], abs=0.81)


def test_a_clock_stretches_what_a_varying_speed_carries():
    station = QUICK.with_part("travel", clock="internal", period=3.2).with_part("line", ramp=150.0)
    (scan,) = scans_of(station.with_part("trigger", length=300.0), [make_cover(1)])
    z = scan.data.z[:, np.abs(scan.data.x) < 10]
    rows = np.flatnonzero((np.abs(z) < 0.5).any(axis=1))
    # from rest at 150 mm/s² the part passes from 100 to 180 mm, and the clock takes that for 250 mm/s
    seconds = np.sqrt(2 * 180 / 150) - np.sqrt(2 * 100 / 150)
    assert (rows[-1] - rows[0]) * scan.data.grid.dy == pytest.approx(250.0 * seconds, abs=2.0)


def test_a_single_channel_takes_backward_for_forward():
    def length(counting):
        station = QUICK.with_part("travel.encoder", counting=counting)
        (scan,) = scans_of(station, [make_cover(1)], mishap="goes back")
        z = scan.data.z[:, np.abs(scan.data.x) < 10]
        rows = np.flatnonzero((np.abs(z) < 0.5).any(axis=1))
        return (rows[-1] - rows[0]) * scan.data.grid.dy

    assert length("x1") == pytest.approx(80.0, abs=1.6)
    # the way there and back again is counted into the part
    assert length("single") == pytest.approx(110.0, abs=4.0)


def test_a_shuttle_scans_both_ways():
    station = QUICK.with_part("trigger", by="reversal", length=160.0).with_part("travel", direction="both")
    there, back = scans_of(station, [make_cover(1)])[:2]
    assert hub_at(there.data)[0] == pytest.approx(hub_at(back.data)[0], abs=0.1)
    # the pocket lies at +x either way, so the scan taken backward is turned round, not mirrored
    for scan in (there, back):
        x, y = hub_at(scan.data)
        assert (
            np.nanmedian(scan.data.z[np.abs(scan.data.y - y) < 2][:, np.abs(scan.data.x - x - 35) < 4]) < -2.0
        )


@pytest.mark.parametrize(
    ("mishap", "words"),
    [
        ("encoder jumps", "the encoder jumped"),
        ("sensor stops", "stopped delivering"),
        ("points missing", "1279 points instead of 1280"),
    ],
)
def test_mishaps_on_the_line_are_told(mishap, words):
    with pytest.raises(HemtraError, match=words):
        scans_of(QUICK, [make_cover(1)], mishap=mishap)


def test_a_line_that_stops_in_the_middle_of_a_scan():
    (waited,) = scans_of(QUICK, [make_cover(1)], mishap="stops")
    assert waited.how == "complete", "without a time limit it goes on when the line does"
    (faulty,) = scans_of(QUICK.with_part("trigger", time_limit=1.0), [make_cover(1)], mishap="stops")
    assert faulty.how == "faulty"
    assert " of 175 profiles in " in faulty.reason


def test_two_sensors_make_one_scan():
    station = DOOR_STATION.with_part("travel", counts_per_profile=10)
    for k in range(2):
        station = station.with_part(f"sensors.{k}.hang", roll=0, pitch=0, yaw=0, x=0, y=0, z=0)
    (scan,) = scans_of(station, [door_frame(1)])
    assert len(scan.layers) == 2
    assert scan.data.extent[1] - scan.data.extent[0] > 240
    top = scan.data.z[np.abs(scan.data.z - 5.0) < 0.3]
    assert np.nanstd(top) < 0.05
    yawed = station.with_part("sensors.0", calibration=Calibration(y=1.6))
    (moved,) = scans_of(yawed, [door_frame(1)])
    assert moved.data.shape == scan.data.shape


def test_motion_is_what_the_line_says():
    motion = Motion(STATION.with_part("line", part_spacing=250.0), 4, "goes back")
    assert np.diff(motion.fronts) == pytest.approx(250.0)
    backward = np.diff(motion.travel)
    assert -backward[backward < 0].sum() == pytest.approx(15.0, abs=0.5)
    assert [what for _, what in motion.eye_events()] == ["front", "end"] * 4


def test_whoever_takes_the_scans_may_fail_without_harm():
    """A full disk, say, when the line is stopped in the middle of a scan."""
    errors = []

    def full(outcome):
        raise HemtraError("the disk is full")

    source = [TriggerSeen(0), batch(0, 4)]
    acquisition = Acquisition(iter(source), assembling(TriggerRules(delay=0, length=50)), full, errors.append)
    acquisition.start()
    assert acquisition.wait(10)
    assert [str(error) for error in errors] == ["the disk is full"]


def test_a_folder_of_scans_passes_again(tmp_path):
    maps = []
    for k in range(3):
        z = np.random.default_rng(k).normal(0, 1, (90 + 10 * k, 40)).astype(np.float32)
        z[5:9, 3:7] = np.nan
        grey = np.where(np.isnan(z), 0, 77).astype(np.uint8)
        maps.append(HeightMap(z, grey, dx=0.1, dy=0.2, x0=-2.0, y0=-9.0))
        save_scan(Scan(maps[-1]), tmp_path / f"part-{k}.x3p")
    replay = FolderReplay(tmp_path)
    told, errors = [], []
    acquisition = Acquisition(replay, Assembler(replay.rules, replay.layout), told.append, errors.append)
    acquisition.start()
    acquisition.wait()
    assert errors == []
    assert [scan.how for scan in told] == ["complete"] * 3
    places = [place for batch in replay if isinstance(batch, Batch) for place in batch.places]
    assert places == list(range(90 + 100 + 110 + 3 * GAP)), "what lies between two parts is travelled too"
    for scan, data in zip(told, maps, strict=True):
        np.testing.assert_allclose(scan.data.z, data.z, rtol=0, atol=1e-6)
        assert np.array_equal(scan.data.intensity, data.intensity)
    for other in (HeightMap(np.zeros((9, 9)), dx=0.1, dy=0.2, x0=-2.0), HeightMap(np.zeros((9, 40)), dx=0.11)):
        save_scan(Scan(other), tmp_path / "part-9.x3p")
        with pytest.raises(HemtraError, match=r"part-9\.x3p has another grid"):
            list(FolderReplay(tmp_path))
    with pytest.raises(HemtraError, match="no scans"):
        FolderReplay(tmp_path / "nowhere")


@pytest.mark.parametrize("early", ["pad", "close"])
def test_a_scan_whose_beginning_another_took_is_filled_up_or_short(early):
    """Parts follow each other so closely that each scan begins within the one before."""
    station = STATION.with_part("trigger", early=early, distance=0.0, delay=-30.0)
    station = station.with_part("line", part_spacing=110.0).with_part("travel", counts_per_profile=20)
    assembler, found = Assembler.of(station, models_of(station)), []
    for arrival in VirtualLine(station, [part_named("rain-pump-cover", 3)] * 2, 3):
        found += assembler.feed(arrival)
    whole, clipped = [*found, *assembler.stop()][:2]
    rows = np.isnan(clipped.data.z).all(axis=1)
    assert whole.how == "complete"
    assert clipped.reason
    if early == "pad":
        assert (clipped.how, len(rows)) == ("padded", station.profiles)
        assert rows[:15].all(), "what the scan before it took is no data"
        assert not rows[-15:].any()
    else:
        assert clipped.how == "short"
        assert 0 < len(rows) < station.profiles
        assert not rows.any()


def test_a_scan_that_a_standing_line_leaves_is_a_part_that_says_so():
    station = QUICK.with_part("trigger", time_limit=0.1).with_part(
        "travel", counts_per_profile=10, speed=2000.0
    )
    feed, come = StationFeed(station, VirtualLine(station, [make_cover(1)], 3, mishap="stops")), []
    feed.run(come.append, threading.Event(), threading.Event())
    (faulty,) = [part for part in come if part.kind == "faulty scan"]
    assert " of 175 profiles in " in faulty.trouble
    assert faulty.scan is None, "nothing of it is measured"
    assert faulty.triggered < faulty.scanned


def test_a_part_that_comes_while_another_is_scanned_is_one_without_a_scan():
    station = QUICK.with_part("trigger", early="ignore").with_part("line", part_spacing=110.0, jitter=0.0)
    feed, come = StationFeed(station, VirtualLine(station, [make_cover(1), make_cover(2)], 3)), []
    feed.run(come.append, threading.Event(), threading.Event())
    (missed,) = [part for part in come if part.kind == "missed trigger"]
    assert missed.trouble
    assert missed.scan is None
    assert 0.0 < missed.travel - min(part.travel for part in come) == pytest.approx(110.0, abs=1.0)
