"""A running line: parts a second, and how long a part waits from its scan to its signal."""

import socket
import statistics
import subprocess
import sys
import time

import pytest

from hemtra.core.evaluation.engine import Engine
from hemtra.outputs.modbus import ModbusOutput
from hemtra.runtime.demo import PLAN_FILE, TRAY
from hemtra.runtime.feeds import FolderFeed
from hemtra.runtime.production import Listeners, Production, Setup
from hemtra.runtime.signaller import Signaller
from hemtra.runtime.workers import ProcessWorkers
from hemtra.storage.plans import load_plan_file
from hemtra.storage.records import Records
from hemtra.storage.scans import load_scan


@pytest.fixture
def block():
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    process = subprocess.Popen([sys.executable, "-m", "hemtra", "io-block", "--port", str(port)])
    time.sleep(3.0)
    yield port
    process.kill()
    process.wait()


def produce(demo_folder, tmp_path, parts, rate=0.0, port=None):
    """Times at which parts were through, and the records of all."""
    held, records = load_plan_file(demo_folder / PLAN_FILE), Records(str(tmp_path / "r.db"))
    feed = FolderFeed.of(demo_folder / TRAY, parts, rate)
    signaller = None if port is None else Signaller(held.plan.signals, ModbusOutput("127.0.0.1", port))
    through = []
    listeners = Listeners(lambda done: through.append(time.perf_counter()))
    workers = ProcessWorkers(held.plan, 2, sample=held.reference)
    run = Production(Setup(held.plan), feed, workers, records, signaller, listeners)
    run.start()
    run.wait()
    kept = records.parts_of(run.lot, most=10_000)
    records.close()
    return through, kept


def test_replay_of_the_demo_lot(demo_folder, tmp_path, note):
    """Reading, evaluating 24 balloons, and recording, on two cores; beside the first two on one."""
    plan, path = load_plan_file(demo_folder / PLAN_FILE).plan, sorted((demo_folder / TRAY).iterdir())[4]
    alone = []
    for _ in range(20):
        start = time.perf_counter()
        Engine(load_scan(path).data).run(plan)
        alone.append(time.perf_counter() - start)
    through, kept = produce(demo_folder, tmp_path, 240)
    assert [p.number for p in kept] == list(range(1, 241))
    rate = (len(through) - 24) / (through[-1] - through[23])
    one = statistics.median(alone[3:])
    note(
        f"replay on two cores: {rate:.1f} parts/s; reading and evaluating one part alone {1000 * one:.0f} ms,"
        f" so {rate * one:.2f} times one core"
    )


def test_from_scan_to_signal_at_four_parts_a_second(demo_folder, tmp_path, block, note):
    """As the records have it: from the moment a scan is complete until the block has its signals."""
    _, kept = produce(demo_folder, tmp_path, 120, rate=4.0, port=block)
    late = sorted(1000 * (p.signalled - p.scanned) for p in kept if p.signalled is not None)
    assert len(late) == 120
    note(
        f"scan to signal at 4 parts/s: median {statistics.median(late):.0f} ms,"
        f" 99 % under {late[int(0.99 * len(late)) - 1]:.0f} ms, greatest {late[-1]:.0f} ms"
    )
