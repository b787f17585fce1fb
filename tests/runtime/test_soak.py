"""What a line must survive for hours, pressed into minutes; run by `make soak`."""

import os
import random
import resource
import signal
import sqlite3
import statistics
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest
from test_production import PLAN, Heard, count, folder_of, start_run

from hemtra.core.plan.signals import Digital
from hemtra.core.station.outside import Incoming
from hemtra.link.io_link import IoLink
from hemtra.runtime.demo import PLAN_FILE, TRAY
from hemtra.runtime.feeds import FolderFeed, WatchFeed
from hemtra.runtime.production import Listeners, Production, Setup
from hemtra.runtime.signaller import Signaller
from hemtra.runtime.workers import ProcessWorkers, ThreadWorkers
from hemtra.storage.plans import load_plan_file
from hemtra.storage.records import Records
from hemtra.storage.records.store import NOT_SENT, SENT
from hemtra.virtual.demo import STATION

pytestmark = pytest.mark.soak


def megabytes() -> float:
    """Resident memory of this process."""
    fields = Path("/proc/self/statm").read_text().split()
    return int(fields[1]) * resource.getpagesize() / 1e6


def test_three_minutes_of_the_demo_lot_lose_nothing_and_memory_is_flat(demo_folder, tmp_path, capsys):
    held, records = load_plan_file(demo_folder / PLAN_FILE), Records(str(tmp_path / "r.db"))
    heard, marks, began = Heard(), [], time.monotonic()

    def done(part):
        # the numbers alone: what a test holds on to is no growth of the line
        heard.done.append(part.record.number)
        marks.append((time.monotonic() - began, megabytes()))

    feed = FolderFeed.of(demo_folder / TRAY, 1_000_000)
    workers = ProcessWorkers(held.plan, 2, sample=held.reference)
    run = Production(Setup(held.plan), feed, workers, records, None, Listeners(done, heard.events.append))
    began = time.monotonic()
    run.start()
    threading.Timer(180.0, run.stop).start()
    assert run.wait(300)
    assert heard.done == list(range(1, len(heard.done) + 1))
    after = [m for at, m in marks if at > 60.0]
    growth = statistics.fmean(after[-50:]) / statistics.fmean(after[:50]) - 1.0
    kept = records.parts_of(run.lot, most=100_000)
    assert [p.number for p in kept] == heard.done
    records.close()
    with capsys.disabled():
        print(f"\n{len(kept)} parts in 180 s: {len(kept) / 180:.1f} parts/s; memory {100 * growth:+.2f} %")
    assert growth < 0.02


def test_twenty_kills_keep_every_signalled_part_and_the_numbering(tmp_path):
    spin = random.Random(4)
    block = subprocess.Popen([sys.executable, "-m", "hemtra", "io-block", "--port", "15502"])
    try:
        for _ in range(20):
            before = count(tmp_path / "r.db")
            run = start_run(
                tmp_path, "--replay", tmp_path / "in", "--parts", 1_000_000, "--io", "127.0.0.1:15502"
            )
            while count(tmp_path / "r.db") <= before:
                assert run.poll() is None, run.stderr.read()
            threading.Event().wait(spin.uniform(0.0, 1.0))
            run.kill()
            run.communicate()
            db = sqlite3.connect(tmp_path / "r.db")
            numbers = [row[0] for row in db.execute("select number from parts order by id")]
            assert numbers == list(range(1, len(numbers) + 1))
            assert db.execute("pragma integrity_check").fetchone() == ("ok",)
            missing = db.execute(
                "select count(*) from parts where id not in (select part_id from part_values)"
            ).fetchone()
            assert missing == (0,), "no part without its values"
            db.close()
    finally:
        block.kill()
        block.wait()


def test_the_block_killed_and_restarted_in_the_middle(tmp_path):
    def switched_on():
        return subprocess.Popen([sys.executable, "-m", "hemtra", "io-block", "--port", "15503"])

    block, records, heard = switched_on(), Records(str(tmp_path / "r.db")), Heard()
    plan = PLAN.edited(signals=(Digital(name="reject", line=0),))
    held = []
    link = IoLink("127.0.0.1", 15503, changed=lambda up: held and held[0].link_changed(up))
    station = STATION.with_part("io", lost="go on")
    feed = FolderFeed.of(folder_of(tmp_path / "in", [0.2, 0.5]), 1_000_000, rate=50.0)
    signaller = Signaller(plan.signals, link)
    run = Production(Setup(plan, station), feed, ThreadWorkers(plan, 2), records, signaller, heard.listeners)
    held.append(run)
    run.start()
    told = lambda kind: sum(e.kind == kind for e in tuple(heard.events))  # noqa: E731
    while told("link") < 1:
        assert run.running
    block.kill()
    block.wait()
    while told("link lost") < 1:
        assert run.running
    block = switched_on()
    while told("link") < 2:
        assert run.running
    after = len(heard.done)
    while len(heard.done) < after + 50:
        assert run.running
    run.stop()
    assert run.wait(60)
    block.kill()
    block.wait()
    kept = records.parts_of(run.lot, most=100_000)
    assert [p.number for p in kept] == list(range(1, len(kept) + 1))
    assert {p.signal for p in kept} == {SENT, NOT_SENT}
    assert kept[-10].signal == SENT
    assert max(d.record.judged - d.record.scanned for d in heard.done) < 2.0, "no verdict waited for the link"
    records.close()


def test_a_thousand_empty_and_hostile_files_are_an_event_each(tmp_path):
    folder, good = tmp_path / "in", folder_of(tmp_path / "good", [0.2]) / "part-000.x3p"
    folder.mkdir()
    spin, whole = random.Random(1), good.read_bytes()
    for k in range(1000):
        kind = k % 4
        content = (
            b""
            if kind == 0
            else spin.randbytes(spin.randrange(1, 4000))
            if kind == 1
            else whole[: spin.randrange(1, len(whole))]
            if kind == 2
            else bytes(b ^ (1 << spin.randrange(8)) if spin.random() < 0.002 else b for b in whole)
        )
        (folder / f"f{k:04d}.x3p").write_bytes(content)
    (folder / "z-good.x3p").write_bytes(whole)
    records, heard = Records(str(tmp_path / "r.db")), Heard()
    feed = WatchFeed(folder, {}, parts=1001, incoming=Incoming(give_up=0.5))
    run = Production(Setup(PLAN), feed, ThreadWorkers(PLAN, 2), records, None, heard.listeners)
    run.start()
    assert run.wait(300)
    assert len(heard.done) == 1001
    bad = [d for d in heard.done if d.record.verdict == "NOT MEASURED"]
    assert len(records.events_of(run.lot)) == len(bad) >= 750
    assert all(d.record.reason for d in bad)
    assert {d.record.source for d in heard.done} == {str(p) for p in folder.iterdir()}
    records.close()


def test_a_small_disk_that_runs_full_stops_the_line_and_keeps_the_database(tmp_path):
    if os.geteuid() != 0:
        pytest.skip("only an administrator can make a small disk")
    disk = tmp_path / "disk"
    disk.mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=1500k", "tmpfs", disk], check=True)
    try:
        run = start_run(tmp_path, "--replay", tmp_path / "in", "--parts", 1_000_000)
        run.send_signal(signal.SIGTERM)
        run.communicate()
        command = [sys.executable, "-m", "hemtra", "run", tmp_path / "steps.hplan", "--jobs", "0"]
        command += ["--replay", tmp_path / "in", "--parts", "1000000", "--db", disk / "r.db"]
        ended = subprocess.run(
            [str(word) for word in command], capture_output=True, text=True, timeout=600, check=False
        )
        assert ended.returncode == 2
        assert "is full" in ended.stderr
        kept = count(disk / "r.db")
        assert kept > 10
        db = sqlite3.connect(disk / "r.db")
        assert db.execute("pragma integrity_check").fetchone() == ("ok",)
        db.close()
    finally:
        subprocess.run(["umount", disk], check=True)


def test_a_database_locked_for_five_seconds(tmp_path):
    run = start_run(tmp_path, "--replay", tmp_path / "in", "--parts", 400)
    while count(tmp_path / "r.db") < 5:
        assert run.poll() is None, run.stderr.read()
    other = sqlite3.connect(tmp_path / "r.db", isolation_level=None, timeout=30)
    other.execute("begin immediate")
    threading.Event().wait(5.0)
    other.execute("rollback")
    other.close()
    _, err = run.communicate(timeout=120)
    assert (run.returncode, err) == (1, "")
    assert count(tmp_path / "r.db") == 400
