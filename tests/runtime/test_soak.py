"""What a line must survive for hours: pressed into minutes by `make soak`, whole in `make soak-long`."""

import os
import platform
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
from standins import Between, desktop_line, switched_on
from test_production import PLAN, Heard, count, folder_of, scan_of, start_run, until_recorded

from hemtra import save_plan
from hemtra.cli import main
from hemtra.core.plan.signals import Digital
from hemtra.core.station.io_and_storage import Incoming
from hemtra.outputs.modbus import ModbusOutput
from hemtra.runtime.demo import PLAN_FILE, TRAY
from hemtra.runtime.feeds import FolderFeed, WatchFeed
from hemtra.runtime.production import Listeners, Production, Setup
from hemtra.runtime.signaller import Punctual, Signaller
from hemtra.runtime.workers import ProcessWorkers, ThreadWorkers
from hemtra.storage.plans import load_plan_file
from hemtra.storage.records import Records
from hemtra.storage.records.store import NOT_SENT, SENT
from hemtra.virtual.demo import STATION
from makers import mutated
from postgres import Postgres, free_port
from waiting import until

pytestmark = pytest.mark.soak
LONG = os.environ.get("HEMTRA_SOAK") == "long"
PAGE = Path(__file__).parents[2] / "docs" / "reliability.md"
HEAD = """\
# Reliability

What a line was put through, and what became of it. `make soak-long` does it again and writes this page;
`make soak` does the same with smaller counts in ten minutes.

{date}, {cpus} processors, Python {python}.

| what | how much | what came of it |
|---|---:|---|
"""


def size(short: int, whole: int) -> int:
    """How much of something, here and in the long run."""
    return whole if LONG else short


@pytest.fixture(scope="module")
def ledger():
    """Takes down what was done and what came of it; the long run makes a page of it."""
    rows = []
    yield lambda *row: rows.append(row)
    told = "".join(f"| {what} | {how_many:,} | {came} |\n" for what, how_many, came in rows)
    if LONG:
        head = HEAD.format(
            date=time.strftime("%-d %B %Y"), cpus=os.cpu_count(), python=platform.python_version()
        )
        PAGE.write_text(head + told)
    print(f"\n{told}")


def whole_records(path: Path) -> int:
    """How many parts are on record, all of them numbered without a gap and with their values; else it fails."""
    db = sqlite3.connect(path)
    numbers = [row[0] for row in db.execute("select number from parts order by id")]
    assert numbers == list(range(1, len(numbers) + 1))
    assert db.execute("pragma integrity_check").fetchone() == ("ok",)
    bare = db.execute("select count(*) from parts where id not in (select part_id from part_values)")
    assert bare.fetchone() == (0,), "no part without its values"
    db.close()
    return len(numbers)


def megabytes() -> float:
    """Resident memory of this process."""
    fields = Path("/proc/self/statm").read_text().split()
    return int(fields[1]) * resource.getpagesize() / 1e6


def handles() -> int:
    """Files, sockets and pipes that this process holds."""
    return len(list(Path("/proc/self/fd").iterdir()))


def children() -> int:
    """Processes that this one has started and that still are there."""
    me = str(os.getpid())
    stats = (p.read_text() for p in Path("/proc").glob("[0-9]*/stat") if p.exists())
    return sum(stat.rsplit(")", 1)[1].split()[1] == me for stat in stats)


def test_the_demo_lot_over_and_over_loses_nothing_and_memory_is_flat(demo_folder, tmp_path, ledger):
    """The first parts warm up; after them memory, handles and children stay as they are."""
    held, records = load_plan_file(demo_folder / PLAN_FILE), Records(str(tmp_path / "r.db"))
    parts, warm = size(1500, 6000), size(500, 1000)
    heard, marks = Heard(), []

    def done(part):
        # the numbers alone: what a test holds on to is no growth of the line
        heard.done.append(part.record.number)
        if part.record.number % 50 == 0:
            marks.append((part.record.number, megabytes(), handles(), children()))

    feed = FolderFeed.of(demo_folder / TRAY, parts)
    workers = ProcessWorkers(held.plan, 2, sample=held.reference)
    run = Production(Setup(held.plan), feed, workers, records, None, Listeners(done, heard.events.append))
    began = time.monotonic()
    run.start()
    assert run.wait(3600)
    taken = time.monotonic() - began
    assert heard.done == list(range(1, parts + 1))
    growth, told = grown(marks, warm)
    kept = records.parts_of(run.lot, most=100_000)
    assert [p.number for p in kept] == heard.done
    records.close()
    ledger("parts of the demo, evaluated by two processes", parts, f"{parts / taken:.1f} a second; {told}")
    assert growth < 0.02


def grown(marks, warm):
    """By how much memory grew after warming up, and in words; handles and children must not."""
    after = [m for m in marks if m[0] > warm]
    first, last = after[: len(after) // 4], after[-len(after) // 4 :]
    growth = statistics.fmean(m[1] for m in last) / statistics.fmean(m[1] for m in first) - 1.0
    assert max(m[2] for m in last) <= max(m[2] for m in first) + 2, "handles leak"
    assert max(m[3] for m in last) <= max(m[3] for m in first), "children pile up"
    return growth, f"memory {100 * growth:+.2f} %, handles {last[-1][2]}, children {last[-1][3]}"


def test_many_small_parts_lose_nothing_and_memory_is_flat(tmp_path, ledger):
    parts, marks, heard = size(5000, 50_000), [], Heard()
    records = Records(str(tmp_path / "r.db"))

    def done(part):
        if part.record.number % 50 == 0:
            marks.append((part.record.number, megabytes(), handles(), children()))

    feed = FolderFeed.of(folder_of(tmp_path / "in", [0.2, 0.5]), parts)
    listeners = Listeners(done, heard.events.append)
    run = Production(Setup(PLAN), feed, ThreadWorkers(PLAN, 2), records, None, listeners)
    began = time.monotonic()
    run.start()
    assert run.wait(3600)
    taken = time.monotonic() - began
    records.close()
    assert whole_records(tmp_path / "r.db") == parts
    growth, told = grown(marks, 1000)
    ledger("small parts replayed", parts, f"{parts / taken:.0f} a second; {told}")
    assert growth < 0.02


@pytest.mark.parametrize(("of", "short", "whole"), [("run", 15, 70), ("desktop", 5, 30)])
def test_kills_keep_every_signalled_part_and_the_numbering(tmp_path, ledger, of, short, whole):
    spin, kills = random.Random(4), size(short, whole)
    scans = folder_of(tmp_path / "in", [0.2, 0.5])
    save_plan(PLAN, tmp_path / "steps.hplan", scan_of(0.2))
    port = free_port()
    block = switched_on(port)
    try:
        for _ in range(kills):
            before = count(tmp_path / "r.db")
            if of == "run":
                more = ("--replay", scans, "--parts", 1_000_000, "--io", f"127.0.0.1:{port}")
                run = start_run(tmp_path, *more)
            else:
                run = desktop_line(tmp_path / "steps.hplan", scans, tmp_path / "r.db")
            until_recorded(run, tmp_path / "r.db", before + 1)
            threading.Event().wait(spin.uniform(0.0, 1.0))
            run.kill()
            run.communicate()
            parts = whole_records(tmp_path / "r.db")
    finally:
        block.kill()
        block.wait()
    ledger(f"kills of `{of}` in the middle of a lot", kills, f"{parts:,} parts, none lost, none twice")


@pytest.mark.parametrize("how", ["0 ms", "30 ms", "300 ms", "silent", "garbage"])
def test_a_block_that_answers_late_or_never_leaves_no_part_untold(tmp_path, ledger, how):
    """Four parts a second; each is on record before it is signalled, and what is late or lost is an event."""
    parts, port = size(40, 400), free_port()
    block = switched_on(port)
    delay = float(how.split()[0]) / 1000.0 if how.endswith("ms") else 0.0
    network = Between(port, "late" if how.endswith("ms") else how, delay)
    records, heard = Records(str(tmp_path / "r.db")), Heard()
    plan = PLAN.edited(signals=(Digital(name="reject", line=0),))
    held = []
    link = ModbusOutput("127.0.0.1", network.port, changed=lambda up: held and held[0].link_changed(up))
    station = STATION.with_part("io", lost="continue", late=1.0)
    feed = FolderFeed.of(folder_of(tmp_path / "in", [0.2, 0.5]), parts, rate=4.0)
    signaller = Signaller(plan.signals, link, punctual=Punctual(1.0))
    run = Production(Setup(plan, station), feed, ThreadWorkers(plan, 2), records, signaller, heard.listeners)
    held.append(run)
    try:
        run.start()
        assert run.wait(300)
    finally:
        network.close()
        block.kill()
        block.wait()
    kept = records.parts_of(run.lot, most=100_000)
    assert [p.number for p in kept] == list(range(1, parts + 1))
    unsent = {p.number for p in kept if p.signal != SENT}
    told = {e.number for e in records.events_of(run.lot) if e.kind == "signalled late"}
    lost = any(e.kind == "link lost" for e in records.events_of(run.lot))
    assert unsent <= told or lost, "what was not signalled is said"
    assert run.log.unsignalled == len(unsent)
    if how in ("0 ms", "30 ms"):
        assert not unsent
    if how in ("silent", "garbage"):
        assert len(unsent) == parts
    records.close()
    came = f"{parts - len(unsent)} signalled, {len(unsent)} told not to be"
    ledger(f"parts at 4 a second, module: {how}", parts, came)


@pytest.mark.skipif(not Postgres.installed, reason="there is no PostgreSQL server here")
def test_a_database_server_that_is_restarted_loses_no_part(tmp_path, ledger):
    server, parts = Postgres(tmp_path / "server"), size(300, 2000)
    records, heard = Records(server.url), Heard()
    feed = FolderFeed.of(folder_of(tmp_path / "in", [0.2, 0.5]), parts, rate=100.0)
    run = Production(Setup(PLAN), feed, ThreadWorkers(PLAN, 2), records, None, heard.listeners)
    run.start()
    restarts = size(2, 6)
    for k in range(restarts):
        wanted = parts * (k + 1) // (restarts + 2)
        until(lambda wanted=wanted: len(heard.done) >= wanted, lambda: run.running, seconds=300.0)
        server.stop()
        server.start()
    assert run.wait(300)
    assert run.trouble == ""
    assert [p.number for p in records.parts_of(run.lot, most=100_000)] == list(range(1, parts + 1))
    records.close()
    server.stop("fast")
    came = f"{parts:,} parts, none lost, none twice"
    ledger("restarts of a PostgreSQL server in the middle of a lot", restarts, came)


def test_no_file_of_any_format_ends_in_a_traceback(tmp_path, ledger):
    """Mutated files of every format, the same for a seed, all through one process."""
    tool = Path(__file__).parents[2] / "tools" / "mutate.py"
    each = size(500, 12_500)
    ended = subprocess.run(
        [sys.executable, tool, str(each), "7"], capture_output=True, text=True, check=False, timeout=7200
    )
    assert ended.returncode == 0, ended.stderr[-2000:] + ended.stdout[-2000:]
    told = [
        row.split("|") for row in ended.stdout.splitlines() if row.startswith(("| a.", "| path.", "| list."))
    ]
    slowest = max(float(cells[6]) for cells in told)
    memory = ended.stdout.rsplit("Most memory: ", 1)[1].split(" MB")[0]
    came = f"none failed; at most {slowest:.1f} s each, {memory} MB"
    ledger("mutated files of every format, read in one process", len(told) * each, came)


def test_no_file_given_to_the_command_line_ends_in_a_traceback(tmp_path, capfd, monkeypatch, ledger):
    """Through the command's own entry: whatever a file holds, it ends with one of the codes written down."""
    spin, files = random.Random(3), size(500, 10_000)
    save_plan(PLAN, tmp_path / "steps.hplan", scan_of(0.2))
    good = {
        "a.x3p": (folder_of(tmp_path / "in", [0.2]) / "part-000.x3p").read_bytes(),
        "a.hplan": (tmp_path / "steps.hplan").read_bytes(),
    }
    codes = {}
    for k in range(files):
        name = ("a.x3p", "a.hplan")[k % 2]
        bad = tmp_path / name
        bad.write_bytes(mutated(good[name], spin))
        words = (tmp_path / "steps.hplan", bad) if k % 2 == 0 else (bad, tmp_path / "in" / "part-000.x3p")
        monkeypatch.setattr(sys, "argv", ["hemtra", "inspect", *map(str, words)])
        with pytest.raises(SystemExit) as ended:
            main()
        code = ended.value.code or 0
        codes[code] = codes.get(code, 0) + 1
        out, err = capfd.readouterr()
        assert "Traceback" not in out + err
    assert set(codes) <= {0, 1, 2}, "never the code of a fault of the program"
    came = ", ".join(f"{n:,} ended with {code}" for code, n in sorted(codes.items()))
    ledger("mutated files through `hemtra inspect`", files, f"{came}; no traceback")


def test_the_block_killed_and_restarted_in_the_middle(tmp_path, ledger):
    port = free_port()
    block, records, heard = switched_on(port), Records(str(tmp_path / "r.db")), Heard()
    plan = PLAN.edited(signals=(Digital(name="reject", line=0),))
    held = []
    link = ModbusOutput("127.0.0.1", port, changed=lambda up: held and held[0].link_changed(up))
    station = STATION.with_part("io", lost="continue")
    feed = FolderFeed.of(folder_of(tmp_path / "in", [0.2, 0.5]), 1_000_000, rate=50.0)
    signaller = Signaller(plan.signals, link)
    run = Production(Setup(plan, station), feed, ThreadWorkers(plan, 2), records, signaller, heard.listeners)
    held.append(run)
    run.start()
    told = lambda kind: sum(e.kind == kind for e in tuple(heard.events))  # noqa: E731
    until(lambda: told("link") >= 1, lambda: run.running, seconds=300.0)
    block.kill()
    block.wait()
    until(lambda: told("link lost") >= 1, lambda: run.running, seconds=300.0)
    block = switched_on(port)
    until(lambda: told("link") >= 2, lambda: run.running, seconds=300.0)
    after = len(heard.done)
    until(lambda: len(heard.done) >= after + 50, lambda: run.running, seconds=300.0)
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
    came = f"{len(kept)} parts on record, each sent or told not to be"
    ledger("module killed and restarted in the middle of a lot", 1, came)


def test_a_thousand_empty_and_hostile_files_are_an_event_each(tmp_path, ledger):
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
    ledger(
        "hostile files in a watched folder", 1000, f"{len(bad)} not measured, an event each; the rest evaluated"
    )


def test_a_disk_that_runs_full_stops_the_line_and_keeps_the_database(tmp_path, ledger):
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
        ledger("disk that runs full", 1, f"stopped with a sentence; {kept} parts whole on record")
    finally:
        subprocess.run(["umount", disk], check=True)


def test_a_database_locked_for_five_seconds(tmp_path, ledger):
    run = start_run(tmp_path, "--replay", tmp_path / "in", "--parts", 400)
    until_recorded(run, tmp_path / "r.db", 5)
    other = sqlite3.connect(tmp_path / "r.db", isolation_level=None, timeout=30)
    other.execute("begin immediate")
    threading.Event().wait(5.0)
    other.execute("rollback")
    other.close()
    _, err = run.communicate(timeout=120)
    assert run.returncode == 1
    assert " WARNING " not in err
    assert " ERROR " not in err
    assert count(tmp_path / "r.db") == 400
    ledger("database locked for 5 s by another program", 1, "400 parts, none lost")
