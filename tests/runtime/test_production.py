"""A run end to end: every part in order, recorded before it is signalled, whatever goes wrong."""

import contextlib
import errno
import json
import os
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from datetime import datetime
from pathlib import Path

import numpy as np
import pytest

from hemtra import HeightMap, HemtraError, Scan, load_plan, save_plan, save_scan
from hemtra.cli import main
from hemtra.core.plan.limits import Verdict
from hemtra.core.plan.master_part import MasterPart, shifts_typed
from hemtra.core.plan.signals import Analogue, Digital
from hemtra.core.station.io_and_storage import Incoming
from hemtra.runtime.feeds import Arrived, FolderFeed, WatchFeed
from hemtra.runtime.lent_memory import lend, taken
from hemtra.runtime.line_feeds import BeltFeed, StationFeed
from hemtra.runtime.production import IN_FLIGHT, Listeners, Production, Setup
from hemtra.runtime.run_setup import RunRequest, begin
from hemtra.runtime.scan_store import ScanStore
from hemtra.runtime.signaller import Signaller
from hemtra.runtime.sources import made_up_parts, source_of
from hemtra.runtime.workers import ProcessWorkers, ThreadWorkers, coarse
from hemtra.storage.records import Records
from hemtra.storage.records.evidence import part_sheet
from hemtra.storage.records.kept_scans import scans_in
from hemtra.storage.records.opening import RecordsFull
from hemtra.storage.records.store import NOT_SENT, SENT
from hemtra.storage.scans import load_scan
from hemtra.storage.stations import save_station
from hemtra.virtual.demo import STATION, demo_plan
from makers import sloped, step_plan
from waiting import until

PLAN = step_plan().with_characteristic(step_plan().sheet[0].edited(lower=0.1, upper=0.3))


def scan_of(rise) -> Scan:
    """A map on which balloon 1 measures `rise` mm."""
    return Scan(sloped(slope_x=rise / 2))


def folder_of(path, rises):
    path.mkdir(exist_ok=True)
    for k, rise in enumerate(rises):
        save_scan(scan_of(rise), path / f"part-{k:03d}.x3p")
    return path


class FakeLink:
    """An I/O module that is there or not, and remembers what it was told."""

    def __init__(self, up=True):
        self.up, self.frames = up, []

    def start(self):
        pass

    def stop(self):
        pass

    def put(self, frame):
        self.frames.append(frame)
        frame.done(time.monotonic() if self.up else None)


class Heard:
    """What a run tells."""

    def __init__(self):
        self.done, self.events, self.ended = [], [], []

    @property
    def listeners(self):
        return Listeners(self.done.append, self.events.append, self.ended.append)


@pytest.fixture
def records(tmp_path):
    found = Records(str(tmp_path / "records.db"))
    yield found
    found.close()


def produce(records, feed, plan=PLAN, signaller=None, **setup):
    heard = Heard()
    workers = ThreadWorkers(plan, 2)
    run = Production(Setup(plan, **setup), feed, workers, records, signaller, heard.listeners)
    run.start()
    assert run.wait(120)
    return run, heard


def test_parts_come_out_in_order_with_verdicts_reasons_and_times(records, tmp_path):
    rises = [0.2, 0.5, 0.15, 0.0]
    run, heard = produce(records, FolderFeed.of(folder_of(tmp_path / "in", rises), parts=8))
    assert [d.record.number for d in heard.done] == list(range(1, 9))
    verdicts = [d.record.verdict for d in heard.done]
    assert verdicts == [Verdict.PASS, Verdict.FAIL, Verdict.PASS, Verdict.FAIL] * 2
    assert heard.done[1].record.reason == "1 Rise 0.50, above 0.30"
    assert (run.counts.passed, run.counts.failed, run.counts.all) == (4, 4, 8)
    for kept in records.parts_of(run.lot):
        assert kept.triggered <= kept.scanned <= kept.judged <= kept.recorded
        (row,) = part_sheet(records, kept.id).rows
        assert row.value == pytest.approx(rises[(kept.number - 1) % 4], abs=1e-4)
    run, heard = produce(records, FolderFeed.of(tmp_path / "in", parts=1))
    assert heard.done[0].record.number == 9, "the next start goes on with the lot"


def test_a_scan_that_cannot_be_read_is_an_event_and_not_measured(records, tmp_path):
    folder = folder_of(tmp_path / "in", [0.2, 0.2, 0.2])
    whole = (folder / "part-001.x3p").read_bytes()
    (folder / "part-001.x3p").write_bytes(whole[: len(whole) // 2])
    run, heard = produce(records, FolderFeed.of(folder))
    assert [d.record.verdict for d in heard.done] == [Verdict.PASS, Verdict.NOT_MEASURED, Verdict.PASS]
    assert "damaged" in heard.done[1].record.reason
    (event,) = records.events_of(run.lot)
    assert (event.kind, event.number) == ("faulty scan", 2)


def with_serials(path, parts):
    path.mkdir()
    for k, (serial, rise) in enumerate(parts):
        save_scan(Scan(sloped(slope_x=rise / 2), "", serial), path / f"{k:03d}.x3p")
    return FolderFeed.of(path)


MASTERED = PLAN.edited(master_part=MasterPart(serial="M1", share=10.0, values={"1": 0.2}))
"""Rows may read off by 10 % of 0.2 mm."""
MASTER_FAILED = "Master part M1 failed: 1 Rise reads 0.2250; 0.1800 … 0.2200 is wanted."


def test_a_master_part_may_be_due_every_half_hour_and_read_off_by_half_a_percent(records, tmp_path):
    strict = MasterPart(serial="M1", hours=0.5, share=0.5, values={"1": 0.2})
    parts = [("M1", 0.2018), ("M1", 0.2002)]
    run, _ = produce(records, with_serials(tmp_path / "in", parts), PLAN.edited(master_part=strict))
    assert [event.kind for event in records.events_of(run.lot)] == ["master failed", "master passed"]


def test_no_part_passes_while_the_master_part_is_due(records, tmp_path):
    """Its first look fails, the second passes."""
    parts = [("a", 0.2), ("M1", 0.225), ("b", 0.2), ("M1", 0.215), ("c", 0.2), ("d", 0.5)]
    link = FakeLink()
    signaller = Signaller((Digital(name="reject", line=0),), link, lambda: None)
    run, heard = produce(records, with_serials(tmp_path / "in", parts), MASTERED, signaller)
    # to gates the master part is one that does not pass, whichever way it was found
    shown = [(f.part.number, f.part.verdict) for f in link.frames if f.part is not None]
    assert [verdict for _, verdict in shown] == [3, 3, 3, 3, 1, 2]
    assert [number for number, _ in shown] == [1, 2, 2, 3, 3, 4]
    assert [d.record.serial for d in heard.done] == ["a", "b", "c", "d"], (
        "the master part is no part of the lot"
    )
    verdicts = [d.record.verdict for d in heard.done]
    assert verdicts == [Verdict.NOT_MEASURED, Verdict.NOT_MEASURED, Verdict.PASS, Verdict.FAIL]
    assert heard.done[0].record.reason == "Master part M1 was never seen to pass; present it."
    assert heard.done[1].record.reason == MASTER_FAILED
    assert heard.done[1].record.rows[0].value == pytest.approx(0.2, abs=1e-4), "values are kept"
    kinds = [event.kind for event in records.events_of(run.lot)]
    assert kinds == ["refusing", "master failed", "master passed"]


def test_when_a_master_part_passed_is_known_to_every_run_of_its_plan(records, tmp_path):
    plan = MASTERED
    produce(records, with_serials(tmp_path / "in", [("M1", 0.215)]), plan)
    run, heard = produce(records, with_serials(tmp_path / "again", [("e", 0.2)]), plan)
    assert heard.done[0].record.verdict is Verdict.PASS
    assert run.master.due(passed_early := run.master.passed - 9.0 * 3600.0), passed_early
    # nor does a restart forget that it has failed
    produce(records, with_serials(tmp_path / "worse", [("M1", 0.225)]), plan)
    run, heard = produce(records, with_serials(tmp_path / "still", [("f", 0.2), ("M1", 0.2), ("g", 0.2)]), plan)
    assert [d.record.verdict for d in heard.done] == [Verdict.NOT_MEASURED, Verdict.PASS]
    assert heard.done[0].record.reason == MASTER_FAILED
    other = plan.edited(master_part=MasterPart(serial="M2", share=10.0, values={"1": 0.2}))
    (found,) = produce(records, with_serials(tmp_path / "exchanged", [("h", 0.2)]), other)[1].done
    assert found.record.reason == "Master part M2 was never seen to pass; present it."
    hour, passed = 3600.0, run.master.passed
    assert run.master.state(passed + 6.0 * hour) == ("due in 2.0 h", True)
    assert run.master.state(passed + 9.0 * hour) == ("overdue by 1.0 h", False)
    assert run.master.due(passed + 9.0 * hour) == "Master part M1 passed 9.0 h ago; present it."
    (other,) = produce(records, with_serials(tmp_path / "other", [("f", 0.2)]), plan.edited(name="other"))[
        1
    ].done
    assert other.record.verdict is Verdict.NOT_MEASURED, "it passed with another plan"


def test_a_master_part_is_due_at_the_start_of_every_shift(records, tmp_path):
    shifts = shifts_typed("22:00, 6:00 14.00")
    plan = PLAN.edited(master_part=MASTERED.master_part.model_copy(update={"shifts": shifts, "hours": 12.0}))
    run, _ = produce(records, with_serials(tmp_path / "in", [("M1", 0.2)]), plan)
    watch, hour = run.master, 3600.0
    watch.passed = datetime(2026, 11, 28, 13, 30).timestamp()
    assert watch.due(watch.passed + 0.4 * hour) == ""
    assert watch.state(watch.passed + 0.25 * hour) == ("due in 0.2 h", True)
    assert watch.due(watch.passed + hour) == "A shift began at 14:00; present master part M1."
    assert watch.state(watch.passed + 2.5 * hour) == ("overdue by 2.0 h for the shift at 14:00", False)
    watch.passed = datetime(2026, 11, 28, 22, 1).timestamp()
    assert watch.due(watch.passed + 7.9 * hour) == ""
    assert watch.due(watch.passed + 8.0 * hour) == "A shift began at 06:00; present master part M1."
    ahead = watch.passed - 2.0 * hour
    assert watch.due(ahead).endswith("check the clock, and present it."), "no shift is skipped by a wrong clock"
    assert watch.state(ahead) == ("due: the clock was wrong", False)
    seldom = watch.master.model_copy(update={"shifts": shifts_typed("6:00")})
    passed = datetime(2026, 11, 28, 6, 30).timestamp()
    assert seldom.due_again(passed) == (passed + 12.0 * hour, None), "hours count as well"
    save_plan(plan, tmp_path / "m.hplan")
    assert load_plan(tmp_path / "m.hplan").master_part.shifts == shifts
    for text in ("25:00", "6", "6:00 noon", "6:60"):
        with pytest.raises(ValueError, match="no times of the day"):
            shifts_typed(text)


def test_a_part_is_on_record_before_it_is_signalled(records, tmp_path):
    plan = PLAN.edited(
        signals=(
            Digital(name="reject", line=0),
            Digital(name="blow", line=1, when="fails_1", pulse=20.0),
            Analogue(name="rise", line=0, balloon=1, low=0.0, high=1.0),
        )
    )
    link, seen = FakeLink(), []

    class Watching(FakeLink):
        def put(self, frame):
            if frame.part is not None:
                seen.append((frame.part.number, len(records.parts_of(run_lot[0]))))
            link.put(frame)

    run_lot = [records.open_lot(plan.name)]
    signaller = Signaller(plan.signals, Watching())
    run, _ = produce(records, FolderFeed.of(folder_of(tmp_path / "in", [0.2, 0.5])), plan, signaller)
    assert seen == [(1, 1), (2, 2)], "the record of each part is there when its number goes out"
    assert [p.signal for p in records.parts_of(run.lot)] == [SENT, SENT]
    _, *lines = [dict(f.lines) for f in link.frames if f.lines]
    assert lines[0] == {0: False}
    assert {0: True} in lines
    assert {1: True} in lines
    assert {1: False} in lines, "the pulse ends"
    currents = [f.levels[0] for f in link.frames if 0 in f.levels]
    assert currents == [pytest.approx(4000 + 16000 * rise, abs=5) for rise in (0.2, 0.5)]


@pytest.mark.parametrize("policy", ["stop", "continue"])
def test_without_the_link_the_station_says_whether_the_line_goes_on(records, tmp_path, policy):
    station = STATION.with_part("io", lost=policy)
    feed = FolderFeed.of(folder_of(tmp_path / "in", [0.2] * 4), parts=400)
    heard = Heard()
    signaller = Signaller((Digital(name="reject", line=0),), FakeLink(up=False))
    run = Production(Setup(PLAN, station), feed, ThreadWorkers(PLAN, 2), records, signaller, heard.listeners)
    run.start()
    run.link_changed(False)
    assert run.wait(120)
    assert "link lost" in {e.kind for e in records.events_of(run.lot)}
    kept = records.parts_of(run.lot)
    assert {p.signal for p in kept} <= {NOT_SENT}
    if policy == "stop":
        assert len(kept) < 400
        assert "Line stopped" in run.trouble
        assert heard.ended == [run.trouble]
    else:
        assert (len(kept), run.trouble) == (400, "")


class SlowWorkers(ThreadWorkers):
    """Evaluate only when they are let."""

    def __init__(self, plan):
        super().__init__(plan)
        self.let = threading.Event()

    def result(self, arrived, future):
        self.let.wait(60)
        return super().result(arrived, future)


class LiveFeed:
    """Parts come whether anybody is ready or not."""

    live = True

    def __init__(self, count, after):
        self._count, self._after = count, after

    def run(self, put, stopping, paused):
        for _ in range(self._count):
            put(Arrived("line", time.time(), time.time(), scan_of(0.2)))
        self._after()

    def travel(self):
        return None


def test_parts_that_come_too_fast_are_counted_events_and_not_lost(records):
    workers, heard = SlowWorkers(PLAN), Heard()
    feed = LiveFeed(IN_FLIGHT + 3, workers.let.set)
    run = Production(Setup(PLAN), feed, workers, records, None, heard.listeners)
    run.start()
    assert run.wait(60)
    assert [d.record.number for d in heard.done] == list(range(1, IN_FLIGHT + 4))
    assert [d.record.verdict for d in heard.done][IN_FLIGHT:] == [Verdict.NOT_MEASURED] * 3
    assert [e.kind for e in records.events_of(run.lot)] == ["overrun"] * 3


def test_recorded_parts_wait_however_slow_their_evaluation(records, tmp_path):
    class Held(SlowWorkers):
        """Let when as many wait as may."""

        submitted = 0

        def submit(self, arrived):
            self.submitted += 1
            if self.submitted == IN_FLIGHT:
                self.let.set()
            return super().submit(arrived)

    feed = FolderFeed.of(folder_of(tmp_path / "in", [0.2]), IN_FLIGHT + 3)
    run = Production(Setup(PLAN), feed, Held(PLAN), records)
    run.start()
    assert run.wait(60)
    assert not feed.live
    assert not WatchFeed(tmp_path / "in", {}).live
    assert [part.verdict for part in records.parts_of(run.lot)] == [Verdict.PASS] * (IN_FLIGHT + 3)


def test_what_was_taken_before_a_source_failed_is_finished(records):
    """Slow evaluating: all three parts are still waiting when the sensor goes."""
    workers, heard = SlowWorkers(PLAN), Heard()

    def fails():
        workers.let.set()
        raise HemtraError("The sensor stopped delivering.")

    run = Production(Setup(PLAN), LiveFeed(3, fails), workers, records, None, heard.listeners)
    run.start()
    assert run.wait(60)
    assert [p.number for p in records.parts_of(run.lot)] == [1, 2, 3]
    assert heard.ended == ["The sensor stopped delivering."]


def test_pause_resume_stop_and_a_new_lot(records, tmp_path):
    heard, first = Heard(), threading.Event()
    feed = FolderFeed.of(folder_of(tmp_path / "in", [0.2, 0.5]), parts=100_000)
    listeners = Listeners(lambda done: (heard.done.append(done), first.set()), heard.events.append)
    link = FakeLink()
    signaller = Signaller((Digital(name="reject", line=0),), link, lambda: None)
    run = Production(Setup(PLAN), feed, ThreadWorkers(PLAN), records, signaller, listeners)
    run.start()
    assert first.wait(60)
    lot = run.lot
    run.pause()
    assert run.paused
    run.begin_lot()
    until(lambda: run.lot != lot and not run.waiting, lambda: run.running)
    before = len(heard.done)
    run.resume()
    until(lambda: len(heard.done) > before, lambda: run.running)
    assert not run.paused
    run.stop()
    assert run.wait(60)
    numbers = [d.record.number for d in heard.done]
    again = numbers.index(1, 1)
    assert run.counts.all == len(numbers) - again, "counts are of the lot that runs"
    assert [f.ready for f in link.frames if f.ready is not None] == [True, False, True, False]
    assert [event.fields for event in heard.events if event.kind == "new lot"] == [{"lot": run.lot.name}]
    assert run.lot.name != lot.name
    second = [*range(1, len(numbers) - again + 1)]
    recorded = [part.number for part in records.parts_of(run.lot)]
    assert (numbers, recorded) == ([*range(1, again + 1), *second], second)


def test_a_watched_folder_is_evaluated_once_and_only_what_is_complete(records, tmp_path):
    folder = folder_of(tmp_path / "in", [0.2, 0.5])
    (folder / "notes.txt").write_text("no scan")
    (folder / ".hidden.x3p").write_bytes(b"")
    (folder / "cut.x3p").write_bytes((folder / "part-000.x3p").read_bytes()[:5000])
    heard, all_there = Heard(), threading.Event()

    def done(part):
        heard.done.append(part)
        if len(heard.done) == 3:
            save_scan(scan_of(0.15), folder / "late.x3p")
        if len(heard.done) == 4:
            all_there.set()

    feed = WatchFeed(folder, {}, incoming=Incoming(settle=0.05, give_up=0.3))
    run = Production(
        Setup(PLAN), feed, ThreadWorkers(PLAN), records, None, Listeners(done, heard.events.append)
    )
    run.start()
    assert all_there.wait(60)
    run.stop()
    assert run.wait(60)
    assert sorted(d.record.verdict for d in heard.done) == ["FAIL", "NOT MEASURED", "PASS", "PASS"]
    known = records.known_sources(folder)
    assert set(known) == {str(folder / n) for n in ("part-000.x3p", "part-001.x3p", "cut.x3p", "late.x3p")}
    again = WatchFeed(folder, known, incoming=Incoming(settle=0.05, give_up=0.1))
    assert taken_of(again, 1.0) == []
    save_scan(scan_of(0.12), folder / "late.x3p")
    assert taken_of(again, 1.0) == ["late.x3p"], "a name that is used again is another part"


def taken_of(feed, seconds):
    """The names that a watched folder hands over within a time, which goes by at once."""
    taken, now = [], time.monotonic()
    with pytest.MonkeyPatch.context() as patch:
        for k in range(int(seconds / 0.05)):
            patch.setattr("hemtra.runtime.feeds.time.monotonic", lambda k=k: now + 0.05 * k)
            taken += [path.name for path in feed.complete()]
    return taken


def test_a_file_is_waited_for_until_all_of_it_is_there(tmp_path):
    """Whoever writes it pauses for longer than a file takes to settle."""
    save_scan(scan_of(0.2), tmp_path / "whole.bin.x3p")
    raw = (tmp_path / "whole.bin.x3p").rename(tmp_path / "whole.bin").read_bytes()
    folder = tmp_path / "in"
    folder.mkdir()
    os.mkfifo(folder / "pipe.x3p")
    (folder / "gone.x3p").symlink_to(folder / "nowhere")
    (folder / "folder.x3p").mkdir()
    feed = WatchFeed(folder, {}, incoming=Incoming(settle=0.1, give_up=30.0))
    with (folder / "slow.x3p").open("wb") as writing:
        for piece in (raw[:5000], raw[5000:9000]):
            writing.write(piece)
            writing.flush()
            assert taken_of(feed, 1.0) == []
        writing.write(raw[9000:])
    assert taken_of(feed, 1.0) == ["slow.x3p"]
    (tmp_path / "backup.x3p").hardlink_to(folder / "slow.x3p")
    (folder / "slow.x3p").chmod(0o600)
    assert taken_of(feed, 1.0) == [], "a copy of its name is no other part"
    tiff = folder / "a.tif"
    save_scan(scan_of(0.2), tiff)
    whole = tiff.read_bytes()
    tiff.write_bytes(whole[: len(whole) - 100])
    assert taken_of(feed, 1.0) == []
    tiff.write_bytes(whole)
    assert taken_of(feed, 1.0) == ["a.tif"]


def test_scans_are_kept_as_the_station_asks_within_their_disk(records, tmp_path):
    folder = folder_of(tmp_path / "in", [0.2, 0.5, 0.0])
    size = (folder / "part-000.x3p").stat().st_size
    station = STATION.with_part("keeping", scans="failed", budget=2.5 * size / 1e9)
    run, _ = produce(records, FolderFeed.of(folder, parts=6), station=station, scans=tmp_path / "kept")
    kept = [p.scan for p in records.parts_of(run.lot)]
    assert [k is not None for k in kept] == [False, False, False, False, True, True]
    assert sorted(str(p) for p in (tmp_path / "kept").rglob("*.x3p")) == sorted(k for k in kept if k)
    again = ScanStore(tmp_path / "kept", station.keeping, scans_in(records, tmp_path / "kept"))
    assert again.size == pytest.approx(2 * size, rel=0.1)


def test_no_room_for_scans_is_told_once_and_values_go_on(records, tmp_path):
    station = STATION.with_part("keeping", scans="all", minimum_free=9_999.0)
    folder = folder_of(tmp_path / "in", [0.2, 0.5, 0.0])
    run, heard = produce(records, FolderFeed.of(folder), station=station, scans=tmp_path / "kept")
    assert [e.kind for e in records.events_of(run.lot)] == ["scan not kept"]
    assert [e.kind for e in heard.events] == ["scan not kept"]
    assert len(records.parts_of(run.lot)) == len(heard.done) == 3


def test_a_full_disk_stops_the_line_and_no_part_is_signalled_without_a_record(records, tmp_path, monkeypatch):
    add, link = records.add, FakeLink()

    def full_after_two(lot, part, *more):
        if part.number > 2:
            raise RecordsFull("The disk that holds records.db is full. Free some space, and start again.")
        return add(lot, part, *more)

    monkeypatch.setattr(records, "add", full_after_two)
    feed = FolderFeed.of(folder_of(tmp_path / "in", [0.2]), parts=50)
    run, heard = produce(records, feed, signaller=Signaller((Digital(name="r", line=0),), link))
    assert len(records.parts_of(run.lot)) == 2
    assert [f.part.number for f in link.frames if f.part] == [1, 2]
    assert "is full" in heard.ended[0]
    assert "part 3 has no record" in heard.ended[0]
    assert len(heard.done) == 2, "what comes after it is neither recorded nor signalled"


@pytest.mark.parametrize(
    ("many", "rest"),
    [
        (1, ""),
        (2, " No record either for the part after it."),
        (3, " No record either for the 2 parts after it."),
    ],
)
def test_parts_without_a_record_are_counted(records, monkeypatch, many, rest):
    """A source that asks nobody: parts come, and the first of them finds no room."""

    class Some:
        live = False

        def run(self, put, stopping, paused):
            for k in range(many):
                put(Arrived(f"p{k}", 0.0, 0.0, scan=scan_of(0.2)))
            came.set()

    def full(*_):
        raise RecordsFull("No room.")

    monkeypatch.setattr(records, "add", full)
    held, came, workers, heard = threading.Event(), threading.Event(), ThreadWorkers(PLAN, 1), Heard()
    evaluate = workers.result
    monkeypatch.setattr(workers, "result", lambda *given: held.wait(60) and evaluate(*given))
    run = Production(Setup(PLAN), Some(), workers, records, None, heard.listeners)
    run.start()
    assert came.wait(60)
    assert not run.wait(0.0), "it is not through yet"
    held.set()
    assert run.wait(60)
    assert run.wait(), "and stays so"
    assert heard.ended[0].endswith(f"part 1 has no record.{rest}")


def test_a_map_for_a_picture_keeps_its_grey():
    z = np.zeros((40, 2000))
    grey = (np.arange(z.size) % 251).reshape(z.shape).astype(np.uint8)
    data = HeightMap(z, dx=0.1, dy=0.1, intensity=grey)
    look = coarse(data)
    step = round(look.grid.dx / 0.1)
    assert step > 1
    assert look.intensity.shape == look.shape
    assert look.intensity[1, 1] == grey[step, step]
    assert coarse(HeightMap(z, dx=0.1, dy=0.1)).intensity is None


def test_a_database_locked_for_a_while_loses_nothing(records, tmp_path):
    other = sqlite3.connect(tmp_path / "records.db", isolation_level=None, check_same_thread=False)
    other.execute("begin immediate")
    threading.Timer(1.0, other.execute, ["rollback"]).start()
    run, heard = produce(records, FolderFeed.of(folder_of(tmp_path / "in", [0.2, 0.5]), parts=6))
    assert len(records.parts_of(run.lot)) == len(heard.done) == 6
    other.close()


def test_a_stop_for_a_locked_database_is_on_record_once_it_is_free(records, tmp_path):
    """The lock goes once the line has said that it stops."""
    other = sqlite3.connect(tmp_path / "records.db", isolation_level=None, check_same_thread=False)
    records.patience.seconds = 0.2
    heard = Heard()

    def event(found):
        heard.events.append(found)
        if found.kind == "stopped":
            other.execute("rollback")

    feed = FolderFeed.of(folder_of(tmp_path / "in", [0.2]), parts=50)
    listeners = Listeners(heard.done.append, event, heard.ended.append)
    run = Production(Setup(PLAN), feed, ThreadWorkers(PLAN), records, None, listeners)
    other.execute("begin immediate")
    run.start()
    assert run.wait(60)
    assert "part 1 has no record" in heard.ended[0]
    assert [e.kind for e in records.events_of(run.lot)] == [e.kind for e in heard.events] == ["stopped"]
    other.close()


def test_processes_evaluate_as_threads_do_and_one_that_dies_costs_no_part():
    workers = ProcessWorkers(PLAN, 1, sample=scan_of(0.2))
    arrived = Arrived("a", 0.0, 0.0, scan_of(0.5))
    found = workers.result(arrived, workers.submit(arrived))
    assert (found.verdict, found.reason) == (Verdict.FAIL, "1 Rise 0.50, above 0.30")
    pid = workers._pool.submit(os.getpid).result()
    os.kill(pid, signal.SIGKILL)
    found = [workers.result(arrived, workers.submit(arrived)) for _ in range(3)]
    assert [f.verdict for f in found] == [Verdict.FAIL] * 3, "another one has taken its place"
    workers.stop()


def lent():
    """Memory that this process has lent and not taken back."""
    found = []
    for link in Path("/proc/self/fd").iterdir():
        with contextlib.suppress(OSError):  # the folder's own, which is closed by then
            found.append(str(link.readlink()))
    return [name for name in found if "memfd:hemtra" in name]


@pytest.mark.parametrize("room", ["always", "at first", "never"])
def test_scans_reach_processes_whole_and_nothing_stays_lent(room, monkeypatch):
    def full(name):
        raise OSError(errno.EMFILE, "no room")

    if room == "never":
        monkeypatch.setattr(os, "memfd_create", full)
    workers = ProcessWorkers(PLAN, 2, sample=scan_of(0.2))
    if room == "at first":
        monkeypatch.setattr(os, "memfd_create", full)
    parts = [Arrived(f"p{k}", 0.0, 0.0, scan_of(rise)) for k, rise in enumerate((0.2, 0.5, 0.15, 0.4))]
    begun = [workers.submit(part) for part in parts]
    found = [workers.result(*both) for both in zip(parts, begun, strict=True)]
    there = ThreadWorkers(PLAN)
    assert [f.rows for f in found] == [there.result(part, there.submit(part)).rows for part in parts]
    workers.stop()
    there.stop()
    assert lent() == []


def test_what_is_lent_is_the_same_and_cannot_be_written_to():
    data = np.random.default_rng(1).standard_normal((301, 77))
    assert lent() == []
    given, file = lend({"a": data, "b": [data[0].astype(np.uint8), "text"], "none": np.empty((0, 3))})
    got = taken(given)
    assert lent() != []
    os.close(file)
    assert np.array_equal(got["a"], data)
    assert np.array_equal(got["b"][0], data[0].astype(np.uint8))
    assert got["none"].shape == (0, 3)
    assert len(given.thing) < 1000
    assert not got["a"].flags.writeable
    with pytest.raises(OSError, match=given.path):
        taken(given)


class ReadBelt:
    """An encoder that moves on 5 mm each time the gate looks, never past the gate of a part without verdict.

    Others who read it do not move it: else the belt would run on between the gate's look and its switch.
    """

    def __init__(self, heard, spacing, delay):
        self.heard, self.spacing, self.delay, self.at = heard, spacing, delay, 0.0

    def travel(self):
        if threading.current_thread().name != "gate":
            return self.at
        waits = self.spacing * (len(self.heard.done) + 1) + self.delay
        self.at = min(self.at + 5.0, max(waits - 10.0, self.at))
        return self.at


def test_recorded_parts_on_a_belt_are_followed_to_the_gate(records, tmp_path):
    """The line's delay counts from where the part was, not from when its verdict came."""
    station = STATION.with_part("line", part_spacing=160.0).with_part("travel", speed=3000.0)
    plan = PLAN.edited(signals=(Digital(name="gate", line=0, when="fails", delay=400.0, pulse=10.0),))
    heard = Heard()
    belt, switched = ReadBelt(heard, 160.0, 400.0), []

    class Gate(FakeLink):
        def put(self, frame):
            if frame.lines.get(0):
                switched.append(belt.at)
            super().put(frame)

    feed = BeltFeed(station, sorted(folder_of(tmp_path / "in", [0.2, 0.5, 0.5]).iterdir()), parts=6)
    run = Production(
        Setup(plan),
        feed,
        ThreadWorkers(plan),
        records,
        Signaller(plan.signals, Gate(), belt.travel),
        heard.listeners,
    )
    run.start()
    assert run.wait(60)
    assert [d.record.verdict for d in heard.done].count(Verdict.FAIL) == 4
    bad = [160.0 * k for k in range(1, 7) if k % 3 != 1]
    assert all(0.0 <= at - front - 400.0 <= 10.0 for at, front in zip(switched, bad, strict=True)), switched


def test_the_virtual_line_of_a_station_runs_through(records):
    station = STATION.with_part("travel", speed=2000.0)
    plan = demo_plan()
    plan = plan.edited(sheet=tuple(c for c in plan.sheet if c.balloon in (1, 2)))
    feed = StationFeed(station, source_of(station, made_up_parts(3, 1)))
    run, heard = produce(records, feed, plan)
    assert [d.record.number for d in heard.done] == [1]
    (record,) = records.parts_of(run.lot)
    assert record.triggered < record.scanned <= record.judged
    told = {e.kind for e in records.events_of(run.lot)}
    assert told <= {"faulty scan", "short scan", "padded scan"}


def start_run(tmp_path, *more, group=None):
    plan = tmp_path / "steps.hplan"
    if not plan.exists():
        save_plan(PLAN, plan, scan_of(0.2))
        folder_of(tmp_path / "in", [0.2, 0.5])
    command = [sys.executable, "-m", "hemtra", "run", plan, "--db", tmp_path / "r.db", "--jobs", "0", *more]
    words = [str(word) for word in command]
    return subprocess.Popen(
        words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, process_group=group
    )


def count(path) -> int:
    if not path.exists():
        return 0
    db = sqlite3.connect(path)
    try:
        return db.execute("select count(*) from parts").fetchone()[0]
    except sqlite3.OperationalError:
        return 0
    finally:
        db.close()


def until_recorded(run: subprocess.Popen, path: Path, parts: int) -> None:
    """Wait until so many parts are on record, while the line runs."""
    until(lambda: count(path) >= parts, lambda: run.poll() is None)


def test_sigterm_finishes_what_was_taken_and_sums_up(tmp_path):
    run = start_run(tmp_path, "--replay", tmp_path / "in", "--parts", 1_000_000)
    until_recorded(run, tmp_path / "r.db", 5)
    run.send_signal(signal.SIGTERM)
    out, err = run.communicate(timeout=60)
    assert run.returncode == 1
    kept = count(tmp_path / "r.db")
    assert f"{kept} in " in out
    assert "1 Rise" in out
    said = [line for line in err.splitlines() if " INFO part " in line]
    assert len(said) == kept, "each part is a line where nobody sees a window"
    assert said[1].endswith("part 2 FAIL 1 Rise 0.50, above 0.30")


def children_of(pid: int) -> set[int]:
    """Processes that a process has started, and those that these have."""
    found = subprocess.run(["ps", "-eo", "pid=,ppid="], capture_output=True, text=True, check=True).stdout
    pairs = [tuple(map(int, line.split())) for line in found.splitlines()]
    own = {child for child, parent in pairs if parent == pid}
    return own.union(*(children_of(child) for child in own))


def alive(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


def test_nothing_it_started_outlives_a_line(tmp_path, unused_port):
    station = STATION.with_part("io", host="127.0.0.1", port=unused_port, simulated=True)
    save_station(station, tmp_path / "s.hstation")
    run = start_run(
        tmp_path,
        *("--replay", tmp_path / "in", "--parts", 1_000_000, "--station", tmp_path / "s.hstation", "--jobs", 2),
    )
    until_recorded(run, tmp_path / "r.db", 3)
    began = children_of(run.pid)
    assert len(began) >= 3, "two that evaluate, and the block"
    run.kill()
    run.communicate()
    until(lambda: not any(map(alive, began)), seconds=10.0)


def test_ctrl_c_reaches_the_line_alone_and_a_second_one_ends_it_at_once(tmp_path):
    run = start_run(tmp_path, "--replay", tmp_path / "in", "--parts", 1_000_000, "--jobs", 2, group=0)
    until_recorded(run, tmp_path / "r.db", 3)
    os.killpg(run.pid, signal.SIGINT)
    _, err = run.communicate(timeout=60)
    assert run.returncode == 1
    assert "Traceback" not in err
    kept = count(tmp_path / "r.db")
    assert sum(" INFO part " in line for line in err.splitlines()) == kept
    db = sqlite3.connect(tmp_path / "r.db")
    assert db.execute("select count(*) from events").fetchone() == (0,), "none was lost on the way"
    db.close()


def test_a_part_that_breaks_the_program_is_one_part_and_not_the_line(records, tmp_path, monkeypatch):
    folder = folder_of(tmp_path / "in", [0.2, 0.2, 0.2])

    def load(path):
        if path.name == "part-001.x3p":
            raise RecursionError("too deep \x1b[31m")
        return load_scan(path)

    monkeypatch.setattr("hemtra.runtime.workers.load_scan", load)
    run, heard = produce(records, FolderFeed.of(folder))
    assert [d.record.verdict for d in heard.done] == [Verdict.PASS, Verdict.NOT_MEASURED, Verdict.PASS]
    assert "RecursionError: too deep" in heard.done[1].record.reason
    assert heard.done[1].record.reason.isprintable()
    assert "test_production.py" in heard.done[1].found.trace
    assert [e.kind for e in records.events_of(run.lot)] == ["error"]


def test_a_fault_after_a_part_was_judged_ends_the_line_and_names_the_part(records, tmp_path, monkeypatch):
    def add(*args, **kwargs):
        raise RuntimeError("broken")

    monkeypatch.setattr(records, "add", add)
    _, heard = produce(records, FolderFeed.of(folder_of(tmp_path / "in", [0.2])))
    assert heard.ended == ["Part 1 could not be finished (RuntimeError: broken)."]


def test_a_dead_block_is_no_success(tmp_path, unused_port):
    station = STATION.with_part("io", host="127.0.0.1", port=unused_port, simulated=False, lost="continue")
    save_station(station, tmp_path / "s.hstation")
    more = ("--log-json", "--log-file", tmp_path / "logs" / "a.log", "--station", tmp_path / "s.hstation")
    run = start_run(tmp_path, "--replay", tmp_path / "in", "--parts", 4, *more)
    _, err = run.communicate(timeout=60)
    assert run.returncode == 2
    assert "4 parts were not signalled." in err
    lines = [json.loads(line) for line in (tmp_path / "logs" / "a.log").read_text().splitlines()]
    assert [line["number"] for line in lines if line.get("event") == "part"] == [1, 2, 3, 4]
    assert [line["event"] for line in lines].count("link lost") == 1


def test_a_fault_of_the_program_has_a_code_of_its_own(monkeypatch, tmp_path, capsys):
    monkeypatch.setattr("hemtra.storage.plans.load_plan", lambda path: 1 / 0)
    monkeypatch.setattr(sys, "argv", ["hemtra", "plan", "show", "a.hplan"])
    with pytest.raises(SystemExit) as ended:
        main()
    assert ended.value.code == 70
    told = capsys.readouterr().err
    assert "ZeroDivisionError" in told
    assert "Traceback" not in told


def test_a_killed_run_goes_on_with_the_lot(tmp_path):
    for _ in range(2):
        before = count(tmp_path / "r.db")
        run = start_run(tmp_path, "--replay", tmp_path / "in", "--parts", 1_000_000)
        until_recorded(run, tmp_path / "r.db", before + 3)
        run.kill()
        run.communicate()
    db = sqlite3.connect(tmp_path / "r.db")
    numbers = [row[0] for row in db.execute("select number from parts order by id")]
    assert numbers == list(range(1, len(numbers) + 1))
    assert db.execute("select count(distinct lot_id) from parts").fetchone() == (1,)
    assert db.execute("pragma integrity_check").fetchone() == ("ok",)
    db.close()


def test_what_cannot_run_says_so(tmp_path, monkeypatch, capfd):
    (tmp_path / "empty").mkdir()
    save_plan(PLAN, tmp_path / "steps.hplan", scan_of(0.2))
    folder_of(tmp_path / "in", [0.2])
    for more, words in (
        (("--replay", tmp_path / "empty"), "There are no scans in"),
        (("--watch", tmp_path / "nowhere"), "There is no folder"),
        ((), "No part source"),
        (("--replay", tmp_path / "in", "--io", "nowhere"), "is not HOST:PORT"),
        (("--replay", tmp_path / "in", "--watch", tmp_path), "give --watch or --replay"),
    ):
        command = ["hemtra", "run", tmp_path / "steps.hplan", "--db", tmp_path / "r.db", "--jobs", "0", *more]
        monkeypatch.setattr(sys, "argv", [str(word) for word in command])
        with pytest.raises(SystemExit) as ended:
            main()
        out, err = capfd.readouterr()
        assert (ended.value.code, out) == (2, "")
        assert words in err
        assert err.count("\n") == 1


def test_outputs_hear_when_parts_are_evaluated_and_when_none_are(records, tmp_path):
    link = FakeLink()
    signaller = Signaller((Digital(name="reject", line=0),), link, lambda: None)
    produce(records, FolderFeed.of(folder_of(tmp_path / "in", [0.2] * 3)), signaller=signaller)
    said = [frame.busy for frame in link.frames if frame.busy is not None]
    assert said[-1] is False
    first = next(k for k, frame in enumerate(link.frames) if frame.part is not None)
    assert any(frame.busy for frame in link.frames[:first]), "before there is a result"
    ready = [frame.ready for frame in link.frames if frame.ready is not None]
    assert (ready[0], ready[-1]) == (True, False)


def test_workers_that_cannot_be_started_are_a_sentence(tmp_path, monkeypatch):
    """As in a container whose /dev/shm is closed."""

    def denied(*_, **__):
        raise PermissionError(errno.EACCES, "Permission denied")

    monkeypatch.setattr("hemtra.runtime.run_setup.ProcessWorkers", denied)
    asked = RunRequest(replay=folder_of(tmp_path / "in", [0.2]), db=str(tmp_path / "r.db"), jobs=2)
    with pytest.raises(HemtraError, match=r"Permission denied.*--jobs 0"):
        begin(PLAN, None, asked, Heard().listeners)
