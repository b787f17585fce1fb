"""Acquisition end to end: from numbered profiles to scans whose content can be predicted row by row."""

import threading

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from hemtra import HemtraError
from hemtra.core.scan.heightmap import Grid
from hemtra.core.station.trigger import Ignored, TriggerRules
from hemtra.runtime.acquisition import Acquired, Acquisition, Assembler, Batch, Trigger

POINTS, COLS = 12, 10
GRID = Grid(-0.9, 0.0, 0.2, 0.5)
X = np.linspace(-1.1, 1.1, POINTS)


def batch(first: int, count: int, missed=()) -> Batch:
    """Profiles whose height is their number: what a scan holds tells where it came from."""
    z = np.repeat(np.arange(first, first + count, dtype=np.float32)[:, None], POINTS, axis=1)
    gone = np.isin(np.arange(first, first + count), list(missed))
    x = np.broadcast_to(X, z.shape).copy()
    return Batch(first, x, z, np.full(z.shape, 50, np.uint8), first / 100, gone)


def narrow() -> Batch:
    return Batch(0, X[None, :7], np.zeros((1, 7), np.float32), np.zeros((1, 7), np.uint8), 0.0)


def line(triggers, until, size=7, missed=()):
    """Batches of profiles with the triggers between them, as they happen."""
    at = sorted(triggers)
    for first in range(0, until, size):
        count = min(size, until - first)
        while at and at[0] < first + count:
            # a trigger arrives before the batch its profile is in
            yield Trigger(at.pop(0))
        yield batch(first, count, missed)


def collected(source, rules):
    assembler = Assembler(rules, GRID, COLS, POINTS)
    found = [outcome for arrival in source for outcome in assembler.feed(arrival)]
    return found + assembler.stop()


def rows_of(scan: Acquired):
    return [int(v) if not np.isnan(v) else None for v in scan.data.z[:, COLS // 2]]


triggers = st.lists(st.integers(1, 60), min_size=1, max_size=200).map(lambda gaps: list(np.cumsum(gaps)))


@settings(max_examples=60)
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
    assembler = Assembler(TriggerRules(delay=0, length=50, time_limit=2.0), GRID, COLS, POINTS)
    assembler.feed(Trigger(0))
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
    ],
)
def test_what_cannot_be_used_is_told(arrivals, words):
    with pytest.raises(HemtraError, match=words):
        collected(arrivals, TriggerRules(delay=0, length=5))


def test_rows_nobody_wants_are_forgotten():
    assembler = Assembler(TriggerRules(delay=0, length=5), GRID, COLS, POINTS)
    for first in range(0, 10_000, 50):
        assembler.feed(batch(first, 50))
    assert sum(rows.z.shape[0] for rows in assembler._rows) <= 50


def run(source, rules):
    told, errors = [], []
    acquisition = Acquisition(source, Assembler(rules, GRID, COLS, POINTS), told.append, errors.append)
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
        yield Trigger(0)
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
