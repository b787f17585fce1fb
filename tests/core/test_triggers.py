"""The trigger machine, and what triggers: which profiles belong to which scan."""

import itertools
import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from examples import examples
from hemtra.core.station.trigger import Closed, Ignored, Opened, TriggerMachine, TriggerRules
from hemtra.core.station.trigger_sources import Trigger, starter, widest_over
from hemtra.virtual.demo import STATION

triggers = st.lists(st.integers(1, 60), min_size=1, max_size=30).map(
    lambda gaps: [sum(gaps[: k + 1]) for k in range(len(gaps))]
)


def driven(rules, at, until):
    """The events of triggers at some profiles, while profiles 0 to `until` come."""
    machine, events = TriggerMachine(rules), []
    for index in range(until):
        if index in at:
            events += machine.trigger(index, index / 100)
        events += machine.profile(index, index / 100)
    return events


@settings(max_examples=examples(200))
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
    machine.trigger(0, 0.0)
    assert [type(e) for e in machine.profile(0, 5.0)] == [Opened]
    machine.profile(1, 5.5)
    assert machine.tick(1, 5.9) == ()
    (closed,) = machine.tick(1, 6.1)
    assert (closed.how, closed.taken, closed.reason) == ("faulty", 2, "2 of 10 profiles in 1.1 s")
    assert machine.open_scans == ()
    machine.trigger(2, 7.0)
    assert [type(e) for e in machine.profile(2, 7.0)] == [Opened], "and the next one begins"


def test_a_scan_may_last_as_long_as_its_trigger():
    machine, events = TriggerMachine(TriggerRules(delay=3, length=None, tail=3)), []
    for index in range(30):
        if index == 4:
            events += machine.trigger(index, index / 100)
        if index == 14:
            events += machine.release(index, 0.0)
        events += machine.profile(index, 0.0)
    assert events == [Opened(1, 7), Closed(1, 7, 10, 0, "complete")]


def test_stopping_closes_what_is_open():
    machine = TriggerMachine(TriggerRules(delay=0, length=10))
    machine.trigger(0, 0.0)
    for index in range(4):
        machine.profile(index, 0.0)
    assert machine.stop(4) == (Closed(1, 0, 4, 0, "short", "the line stopped after 4 profiles"),)


@given(triggers, st.integers(1, 50), st.integers(1, 40), st.sampled_from(["ignore", "close", "share"]))
def test_delays_in_time_open_with_the_first_profile_that_is_due_then(at, delay, length, early):
    """Profiles come every 10 ms; a delay in time is one in profiles, rounded up."""
    rules = TriggerRules(0, length, early, waiting=10_000, delay_time=(delay - 0.5) / 100)
    wanted = TriggerRules(delay, length, early, waiting=10_000)
    until = at[-1] + 60 + length
    kinds = (Opened, Closed)
    found, expected = ([e for e in driven(r, at, until) if isinstance(e, kinds)] for r in (rules, wanted))
    assert found == expected


@given(st.integers(-30, 0), st.integers(5, 40), st.integers(40, 80))
def test_a_scan_may_begin_before_its_trigger(delay, length, at):
    closed = [e for e in driven(TriggerRules(delay, length), [at], 200) if isinstance(e, Closed)]
    assert [(c.first, c.taken, c.how) for c in closed] == [(at + delay, length, "complete")]


def test_scans_that_reach_back_do_not_take_what_was_taken():
    first, second = [e for e in driven(TriggerRules(-10, 20, "close"), [30, 45], 200) if isinstance(e, Closed)]
    assert (first.first, first.taken) == (20, 20)
    assert (second.first, second.taken) == (40, 15)
    ignored = [e for e in driven(TriggerRules(-10, 20, "ignore"), [30, 45], 200) if isinstance(e, Ignored)]
    assert [e.at for e in ignored] == [45]


def test_a_trigger_that_never_ends_does_not_fill_the_memory():
    events = driven(TriggerRules(0, None, longest=50), [3], 200)
    (closed,) = [e for e in events if isinstance(e, Closed)]
    assert (closed.how, closed.taken) == ("faulty", 50)
    assert "had not ended after 50 profiles" in closed.reason


def trigger_of(**values):
    return STATION.with_part("trigger", **values).trigger


@pytest.mark.parametrize(
    ("values", "delay", "length"),
    [
        ({"delay": 50, "delay_in": "mm"}, 312, 875),
        ({"delay": 625, "delay_in": "pulses"}, 312, 875),
        ({"delay": 50, "length": 300, "length_in": "profiles"}, 312, 300),
        ({"by": "height", "delay": -8, "in_profiles": 3}, -52, 875),
    ],
)
def test_delay_and_length_are_counted_in_profiles(values, delay, length):
    rules = trigger_of(**values).rules(STATION.travel)
    assert (rules.delay, rules.length, rules.delay_time) == (delay, length, None)


def test_a_delay_in_ms_stays_a_time_and_a_length_may_follow_the_part():
    rules = trigger_of(delay=200, delay_in="ms").rules(STATION.travel)
    assert (rules.delay, rules.delay_time) == (0, 0.2)
    assert trigger_of(delay=200, delay_in="ms").delay_mm(STATION.travel) == pytest.approx(50.0)
    # an eye 80 mm upstream, a lead of 30 mm before the part and as much behind it
    rules = trigger_of(length_in="trigger").rules(STATION.travel)
    assert rules.length is None
    assert (rules.delay, rules.tail) == (312, round(110 / 0.16))


def rows_with(widths, over=1.0, cols=60):
    """(n, 60) rows in which so many columns lie higher than `over`, with a dropout in the middle of them."""
    z = np.zeros((len(widths), cols), np.float32)
    for row, width in enumerate(widths):
        z[row, 5 : 5 + width] = over + 1
        if width > 4:
            z[row, 6] = np.nan
    return z


def test_what_is_wide_and_high_for_long_enough_triggers():
    widths = [0, 30, 0, 30, 30, 30, 30, 8, 30, 30, 0, 0, 0, 30, 30, 30]
    assert widest_over(rows_with(widths), 1.0).tolist() == widths
    told = trigger_of(by="height", over=1.0, wide=2.0, in_profiles=3)
    for size in (1, 4, 16):
        starts = starter(told, STATION.travel, 0.1)
        found = []
        for first in range(0, 16, size):
            z = rows_with(widths)[first : first + size]
            found += starts.feed(first, z, np.arange(first, first + len(z)))
        assert found == [(5, "front"), (12, "end"), (15, "front")], size


def test_travelled_distance_free_running_and_reversal():
    nothing = np.zeros((100, 4), np.float32)

    def started(places=None, **values):
        places = np.arange(100) if places is None else places
        starts = starter(trigger_of(**values), STATION.travel, 0.1)
        return [
            index
            for first in range(0, 100, 7)
            for index, _ in starts.feed(first, nothing[first : first + 7], places[first : first + 7])
        ]

    assert started(by="distance", every=4.8) == [0, 30, 60, 90]
    assert started(by="free", length=40, length_in="profiles") == [0, 40, 80]
    there_and_back = np.concatenate([np.arange(1, 41), np.arange(39, 9, -1), np.arange(11, 41)])
    assert started(there_and_back, by="reversal") == [0, 40, 70]
    assert starter(trigger_of(by="eye"), STATION.travel, 0.1) is None


def test_every_choice_of_the_trigger_makes_rules():
    for by in ("free", "eye", "distance", "height", "reversal", "manual"):
        rules = Trigger(by=by, length=10.0).rules(STATION.travel)
        assert rules.length == 62, by


@settings(max_examples=examples(60), deadline=None)
@given(
    delay=st.integers(-60, 60),
    early=st.sampled_from(["close", "pad", "share"]),
    gaps=st.lists(st.integers(5, 120), min_size=1, max_size=8),
)
def test_no_scan_that_lacks_profiles_is_called_complete(delay, early, gaps):
    """Whatever the delay, the rule and how near the parts follow each other."""
    length, ends, closed = 40, np.cumsum(gaps) + 100, []
    machine = TriggerMachine(TriggerRules(delay, length, early, waiting=50))
    for index in range(int(ends[-1]) + 300):
        for at in ends[ends == index]:
            assert machine.trigger(int(at), 0.0) == ()
        closed += [event for event in machine.profile(index, 0.0) if isinstance(event, Closed)]
    assert len(closed) == len(gaps)
    for scan in closed:
        assert (scan.how == "complete") == (scan.taken == length)
        assert (scan.how == "padded") == (scan.padded > 0)
        if scan.how == "padded":
            assert scan.taken + scan.padded == length, "as large as any other"
        if scan.how != "complete":
            assert scan.reason
    if early != "share":
        assert all(a.first + a.taken <= b.first for a, b in itertools.pairwise(closed)), "no profile is in two"
