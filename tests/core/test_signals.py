"""Signals: what a line says of a part, and when a part in flight gets to its gate."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from examples import examples
from hemtra import Plan, PlanError
from hemtra.core.plan.limits import CharacteristicResult, Verdict
from hemtra.core.plan.signals import Analogue, Digital, invalid_signal_references, read_aloud
from hemtra.core.station.gate import GateTracker
from hemtra.core.station.io_and_storage import ScanRetention


def row(balloon, verdict, value=None):
    return CharacteristicResult(
        balloon, f"row {balloon}", "s", value, "mm", None, 0.0, 1.0, 2, verdict, "", None
    )


PASSED = (row(1, Verdict.PASS, 0.5), row(2, Verdict.PASS, 0.25))
HIGH = (row(1, Verdict.FAIL, 1.5), row(2, Verdict.PASS, 0.25))
LOST = (row(1, Verdict.NOT_MEASURED), row(2, Verdict.PASS, 0.25))


@pytest.mark.parametrize(
    ("when", "good", "bad", "lost"),
    [
        ("not_passed", False, True, True),
        ("fails", False, True, False),
        ("missing", False, False, True),
        ("fails_1 and passes_2", False, True, False),
        ("fails_1 or missing_1", False, True, True),
        ("value_2 > 0.2 and value_2 < 0.3", True, True, True),
        ("value_1 > 1.2", False, True, True),  # not known when nothing was measured, and then on
        ("1 if value_1 < 1 else 0", True, False, True),
        ("passes_9", True, True, True),  # a balloon that the sheet has no more
        ("missing_1 or value_1 > 1.2", False, True, True),
        ("passes_1 and value_1 < 1.2", True, False, False),  # what is settled asks for no value
    ],
)
def test_a_digital_signal_says_what_its_expression_says(when, good, bad, lost):
    signal = Digital(name="gate", line=0, when=when)
    found = [
        signal.state(verdict, rows)
        for verdict, rows in ((Verdict.PASS, PASSED), (Verdict.FAIL, HIGH), (Verdict.NOT_MEASURED, LOST))
    ]
    assert found == [good, bad, lost]
    other = signal.model_copy(update={"inverted": True})
    assert other.state(Verdict.FAIL, HIGH) is not bad


@pytest.mark.parametrize("when", ["fails_1 and", "open('x')", "verdict", "value", "fails_x", "__import__"])
def test_what_is_no_expression_over_verdicts_is_refused_in_words(when):
    with pytest.raises(ValidationError, match=r"no formula|not a variable of a signal|There is no function"):
        Digital(name="gate", line=0, when=when)


@pytest.mark.parametrize(
    ("value", "mA", "counts"),
    [
        (2.0, 4.0, 4000),
        (4.0, 20.0, 20000),
        (3.0, 12.0, 12000),
        (1.0, 3.8, 3800),
        (9.0, 20.5, 20500),
        (None, 3.6, 3600),
    ],
)
def test_a_current_is_scaled_clamped_and_shows_what_is_missing(value, mA, counts):  # noqa: N803
    signal = Analogue(name="height", line=0, balloon=1, low=2.0, high=4.0)
    rows = (row(1, Verdict.PASS if value else Verdict.NOT_MEASURED, value),)
    assert signal.level(rows) == pytest.approx(mA)
    assert signal.counts(rows) == counts


def test_a_voltage_has_its_own_fault_value_and_may_fall():
    signal = Analogue(name="gap", line=1, balloon=2, span="0-10 V", low=1.0, high=0.0, full=27648, fault=10.0)
    assert signal.counts(PASSED) == round(0.75 * 27648)
    assert signal.counts(()) == 27648
    with pytest.raises(ValidationError, match="ends that differ"):
        Analogue(name="gap", line=1, balloon=2, low=1.0, high=1.0)
    assert Analogue(name="gap", line=1, balloon=2, span="0-10 V").level(()) == 0.0, "of itself"


@pytest.mark.parametrize(
    ("signal", "words"),
    [
        (
            Digital(name="Reject gate", line=0, delay=600, pulse=150),
            "Reject gate: on when the part does not pass, 600 mm after its trigger, for 150 ms",
        ),
        (
            Digital(name="Bead", line=1, when="fails_18 or value_7 > 2", inverted=True),
            "Bead: off when 18 fails or the value of 7 > 2, until the next part",
        ),
        (
            Analogue(name="Hub", line=0, balloon=6, low=7.85, high=8.15),
            "Hub: the value of 6, 7.85 to 8.15 as 4 to 20 mA",
        ),
    ],
)
def test_a_signal_reads_as_a_sentence(signal, words):
    assert read_aloud(signal) == words


def test_signals_that_speak_of_what_the_sheet_has_not_are_named():
    signals = (
        Digital(name="Gate", line=0, when="fails_1 or value_7 > 3 or missing_9"),
        Digital(name="Part", line=1, when="not_passed"),
        Analogue(name="Height", line=0, balloon=7),
    )
    assert invalid_signal_references(signals, [1, 7, 9]) == ()
    assert invalid_signal_references(signals, [1]) == (
        "“Gate” uses balloon 7, 9, which is missing or disabled.",
        "“Height” uses balloon 7, which is missing or disabled.",
    )


def test_a_plan_has_each_line_once():
    gate = Digital(name="gate", line=3)
    plan = Plan(signals=(gate, Analogue(name="h", line=3, balloon=1)))
    assert plan.signals[0].line == plan.signals[1].line == 3
    with pytest.raises(PlanError, match="igital line 3 is used twice"):
        plan.edited(signals=(*plan.signals, gate))


def test_which_scans_are_kept():
    kept = {
        way: [n for n in range(1, 7) if ScanRetention(scans=way, every=3).keeps(n, passed=n != 2)]
        for way in ("all", "failed", "every", "none")
    }
    assert kept == {"all": [1, 2, 3, 4, 5, 6], "failed": [2], "every": [2, 3, 6], "none": []}


@settings(max_examples=examples(10))
@given(st.integers(0, 2**31), st.floats(0.0, 60.0))
def test_the_gate_pushes_every_failed_part_and_no_other(seed, ripple):
    """200 parts at random distances on a belt whose speed ripples; the gate stands 800 mm on, 25 ms a push."""
    rng = np.random.default_rng(seed)
    fronts = np.cumsum(rng.uniform(90.0, 400.0, 200))
    bad = rng.random(200) < 0.3
    gate, scan, dt, speed, push = 800.0, 150.0, 0.004, 300.0, 0.025
    tracker, pushed, on = GateTracker(), set(), False
    travel = time = 0.0
    told = 0
    while travel < fronts[-1] + gate + 200.0:
        travel += dt * speed * (1.0 + ripple / 100.0 * np.sin(19.0 * time))
        time += dt
        # the verdict is there at the latest half way to the gate
        while told < 200 and travel > fronts[told] + scan + rng.uniform(0.0, 200.0):
            if bad[told]:
                tracker.put(fronts[told] + gate, 16, True, pulse=push, part=told)
            told += 1
        for switch in tracker.advance(travel, time):
            on = switch.on
        if on:
            under = np.flatnonzero(np.abs(fronts + gate - travel) < 40.0)
            pushed.update(under.tolist())
    assert pushed == set(np.flatnonzero(bad).tolist())
    assert not on


def test_a_later_part_on_the_same_line_wins_and_ends_the_pulse_of_the_one_before():
    tracker = GateTracker()
    tracker.put(10.0, 16, True, pulse=1.0, part=1)
    tracker.put(12.0, 16, True, pulse=1.0, part=2)
    assert [s.part for s in tracker.advance(10.0, 0.0)] == [1]
    assert [s.part for s in tracker.advance(12.0, 0.5)] == [2]
    assert tracker.advance(13.0, 1.2) == [], "the first pulse would end here, and the second goes on"
    (end,) = tracker.advance(14.0, 1.6)
    assert (end.line, end.on) == (16, False)
    assert tracker.in_flight == 0
