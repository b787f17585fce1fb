"""Signals of parts: what is too late, what may lie on the belt after a crash, what tells two parts apart."""

import threading
import time
from pathlib import Path

import pytest
from test_production import PLAN, FakeLink, folder_of
from test_production import Heard as Told

from hemtra import save_plan
from hemtra.core.plan.limits import Verdict
from hemtra.core.plan.signals import Digital
from hemtra.core.station.gate import GateTracker
from hemtra.runtime.belt_mark import BeltMark, BeltNotClear
from hemtra.runtime.feeds import FolderFeed
from hemtra.runtime.line_feeds import BeltFeed, StationFeed
from hemtra.runtime.production import Production, Setup
from hemtra.runtime.run_setup import RunRequest, begin
from hemtra.runtime.signaller import Heard, Punctual, Signaller
from hemtra.runtime.sources import made_up_parts, source_of
from hemtra.runtime.workers import ThreadWorkers
from hemtra.storage.records import Records
from hemtra.storage.records.store import NOT_SENT, SENT
from hemtra.virtual.demo import STATION
from waiting import until

GATE = Digital(name="gate", line=0, when="not_passed", delay=400.0, pulse=20.0)


class Belt:
    """A belt that stands where it is told to."""

    def __init__(self, at=0.0):
        self.at = at

    def __call__(self):
        return self.at


def test_two_parts_that_pass_are_told_apart_outside():
    link = FakeLink()
    signaller = Signaller((Digital(name="reject", line=0),), link)
    for number, verdict in enumerate([Verdict.PASS, Verdict.PASS, Verdict.FAIL, Verdict.NOT_MEASURED], start=1):
        signaller.part(number, verdict, (), None)
    shown = [(f.part.number, f.part.verdict, f.part.result) for f in link.frames]
    assert shown == [(1, 1, True), (2, 1, False), (3, 2, True), (4, 3, False)]


def test_levels_stand_with_the_part_they_belong_to_and_a_short_pulse_comes_where_a_line_is_to_be_on():
    link = FakeLink()
    level, pulse = Digital(name="reject", line=0), Digital(name="count", line=1, when="passes", pulse=0.5)
    signaller = Signaller((level, pulse), link)
    signaller.start()
    for number, verdict in enumerate([Verdict.FAIL, Verdict.PASS], start=1):
        signaller.part(number, verdict, (), None)
    assert [dict(f.lines) for f in link.frames if f.part is not None] == [{0: True}, {0: False}]
    until(lambda: [f.lines[1] for f in link.frames if 1 in f.lines] == [False, True, False])
    signaller.stop()


@pytest.mark.parametrize(("at", "reached"), [(1380.0, True), (1405.0, True), (1500.0, False)])
def test_a_reject_that_has_passed_its_gate_pushes_nobody_and_is_said(at, reached):
    belt, link, late, done = Belt(at), FakeLink(), [], []
    signaller = Signaller((GATE,), link, belt, Punctual(1.0, 0.1, 200.0))
    signaller.start()
    signaller.part(7, Verdict.FAIL, (), 1000.0, Heard(done.append, late=late.append))
    belt.at = max(at, 1401.0)
    until(lambda: done)
    signaller.stop()
    assert done == [reached]
    assert any(f.lines.get(0) for f in link.frames) is reached
    assert late == ([] if reached else ["gate: the part had passed its gate by 100 mm already"])


def test_a_pulse_reaches_its_gate_as_long_as_it_was_typed(monkeypatch):
    waiting = []
    monkeypatch.setattr(GateTracker, "put", lambda self, *place, **rest: waiting.append((place, rest)))
    Signaller((GATE,), FakeLink(), Belt(1000.0)).part(7, Verdict.FAIL, (), 1000.0)
    assert waiting == [((1400.0, 0, True), {"pulse": 0.02, "part": 1})]


@pytest.mark.parametrize("pulse", [0.0, 20.0])
def test_after_a_crash_what_may_lie_before_the_gate_is_rejected_until_new_parts_come(pulse):
    belt, link = Belt(50.0), FakeLink()
    signaller = Signaller((GATE.model_copy(update={"pulse": pulse}),), link, belt)
    signaller.refuse_what_lies_there()
    signaller.start()

    def gate():
        states = [f.lines[0] for f in link.frames if 0 in f.lines]
        return states[-1] if states else None

    until(lambda: gate() is True)
    signaller.part(1, Verdict.PASS, (), 60.0)
    belt.at = 449.0
    assert gate() is True
    belt.at = 461.0
    until(lambda: gate() is False)
    signaller.stop()


def test_a_late_signal_stops_the_line_or_is_an_event(tmp_path):
    for policy in ("stop", "continue"):
        records = Records(str(tmp_path / f"{policy}.db"))
        station = STATION.with_part("io", lost=policy, late=0.5)

        class Late(FakeLink):
            def put(self, frame):
                self.frames.append(frame)
                if frame.part is not None and frame.part.number == 2:
                    frame.late()
                    frame.done(None)
                else:
                    frame.done(time.monotonic())

        heard, feed = Told(), FolderFeed.of(folder_of(tmp_path / "in", [0.2]), parts=300)
        signaller = Signaller(PLAN.signals, Late(), punctual=Punctual(0.5))
        run = Production(Setup(PLAN, station), feed, ThreadWorkers(PLAN), records, signaller, heard.listeners)
        run.start()
        assert run.wait(120)
        kept = records.parts_of(run.lot, most=1000)
        assert [p.signal for p in kept[:3]] == [SENT, NOT_SENT, SENT][: len(kept)]
        assert all((part.signalled is None) is (part.signal != SENT) for part in kept)
        late = [(e.number, e.text) for e in records.events_of(run.lot) if e.kind == "signalled late"]
        assert late == [(2, "Its signals were not acknowledged within 0.5 s.")]
        assert (len(kept) < 300) is (policy == "stop")
        assert ("too late" in run.trouble) is (policy == "stop")
        assert run.log.unsignalled == 1
        records.close()


def test_a_belt_that_was_cut_off_is_asked_about_or_rejected(tmp_path, monkeypatch):
    plan = PLAN.edited(signals=(GATE,))
    save_plan(plan, tmp_path / "a.hplan")
    folder = folder_of(tmp_path / "in", [0.2])
    BeltMark(STATION.name).put()
    monkeypatch.setattr("hemtra.outputs.modbus.ModbusOutput", lambda *more: FakeLink())
    asked = RunRequest(replay=folder, db=str(tmp_path / "r.db"), jobs=0, io=("127.0.0.1", 1))
    heard = Told()
    with pytest.raises(BeltNotClear, match="Clear the belt"):
        begin(plan, STATION.with_part("io", restart="ask"), asked, heard.listeners)
    run = begin(plan, STATION, asked, heard.listeners)
    run.start()
    assert run.wait(60)
    assert [e.kind for e in heard.events] == ["belt not clear"]
    assert not BeltMark(STATION.name).there, "all of it is through"
    run.records.close()
    BeltMark(STATION.name).put()
    cleared = RunRequest(**{**vars(asked), "belt_clear": True})
    run = begin(plan, STATION.with_part("io", restart="ask"), cleared, Told().listeners)
    run.start()
    assert run.wait(60)
    run.records.close()


def test_a_line_takes_the_times_of_its_station(tmp_path, monkeypatch):
    monkeypatch.setattr("hemtra.outputs.modbus.ModbusOutput", lambda *more: FakeLink())
    asked = RunRequest(
        replay=folder_of(tmp_path / "in", [0.2]), db=str(tmp_path / "r.db"), jobs=0, io=("plc", 1)
    )
    station = STATION.with_part("io", late=0.4, gate_late=100.0)
    run = begin(PLAN.edited(signals=(GATE,)), station, asked, Told().listeners)
    punctual = run.signaller.punctual
    assert (punctual.late, punctual.gate) == (0.4, 0.1)
    assert punctual.room == pytest.approx(0.1 * station.travel.speed)
    run.records.close()


def test_who_waits_for_a_gate_that_is_never_reached_hears_so_when_the_run_ends(monkeypatch):
    monkeypatch.setattr("hemtra.runtime.signaller.FLUSH", 0.02)
    signaller, done = Signaller((GATE,), FakeLink(), Belt(1000.0)), []
    signaller.start()
    signaller.part(1, Verdict.FAIL, (), 900.0, Heard(done.append))
    assert not signaller.stop(), "it is still before the gate"
    assert done == [False]


def test_a_part_is_followed_from_where_the_eye_saw_it_however_late_it_is_handled():
    """The eye hangs 300 mm before the laser, and whoever takes the scans is slow."""
    station = STATION.with_part("trigger", distance=300.0, delay=280.0).with_part("travel", speed=2000.0)
    source, taken = source_of(station, made_up_parts(3, 1)), []
    feed = StationFeed(station, source)

    def put(arrived):
        taken.append((arrived.travel, feed.travel()))

    feed.run(put, threading.Event(), threading.Event())
    fronts = source.motion.fronts
    assert [travel for travel, _ in taken] == [pytest.approx(front - 300.0, abs=2.5) for front in fronts]
    assert all(now > travel + 280.0 for travel, now in taken)


def test_the_belt_of_recorded_parts_has_travelled_past_each_that_arrives():
    station, taken = STATION.with_part("travel", speed=20_000.0), []
    feed = BeltFeed(station, [Path("cover-01.x3p")], parts=3)
    assert feed.travel() is None, "it stands until it is run"
    feed.run(lambda one: taken.append((one.travel, feed.travel())), threading.Event(), threading.Event())
    assert len(taken) == 3
    assert all(now >= front + station.length - 1e-6 for front, now in taken)


@pytest.mark.parametrize("pulse", [0.0, 20.0])
def test_an_inverted_line_rests_until_there_is_a_part(pulse):
    link = FakeLink()
    signaller = Signaller((Digital(name="ok", line=3, when="fails", inverted=True, pulse=pulse),), link)
    signaller.start()
    assert link.frames[0].lines[3] is True
    signaller.part(1, Verdict.FAIL, (), None)
    until(lambda: any(f.lines.get(3) is False for f in link.frames))
    signaller.stop()
