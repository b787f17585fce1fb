"""Small promises of the line that only show when they are broken."""

import asyncio
import os
import signal
import subprocess
import sys

import numpy as np
import pytest

from hemtra.core.plan.limits import Verdict
from hemtra.core.station.io_and_storage import IoBlock
from hemtra.outputs import simulated_module
from hemtra.runtime.align import cloud_of
from hemtra.runtime.io_process import IoProcess, answers
from hemtra.runtime.lot_reevaluation import reevaluate
from hemtra.storage.records import Records
from hemtra.storage.records.lock_note import is_noted, note
from hemtra.storage.records.pages import Filter, page
from hemtra.virtual.demo import STATION
from lots import made_lot, part, two_rows


class Profiles:
    """What one sensor saw, as far as a cloud needs it."""

    def __init__(self, x, z):
        self.x, self.z = np.array(x, float), np.array(z, np.float32)


def test_a_cloud_lies_along_travel_about_the_middle_of_the_scan_without_gaps():
    seen = Profiles([[0.0, 1.0], [0.0, 1.0], [0.0, 1.0]], [[1.0, 2.0], [np.nan, 4.0], [5.0, 6.0]])
    found = cloud_of(seen, STATION)
    spacing = STATION.travel.spacing
    expected = [(0, -spacing, 1), (1, -spacing, 2), (1, 0, 4), (0, spacing, 5), (1, spacing, 6)]
    assert found == pytest.approx(np.array(expected, float))


def test_editing_is_locked_as_the_last_note_says_and_never_without_records(tmp_path):
    path = tmp_path / "r.db"
    assert is_noted(path) is False
    assert not path.exists()
    records = Records(str(path))
    assert is_noted(path) is False
    for locked in (True, False, True):
        note(records, locked=locked)
        assert is_noted(path) is locked
    records.close()
    path.write_bytes(b"no database")
    assert is_noted(path) is False


def test_a_part_whose_verdict_alone_is_another_is_listed(tmp_path):
    """Its rows read the same, but on record it was not measured, as its scan came too late."""
    records, plan = Records(str(tmp_path / "r.db")), two_rows()
    lot = made_lot(records, "lot", [0.2])
    odd = part(2, plan, {1: 0.2, 2: 0.0})
    records.add_all(lot, [type(odd)(**{**vars(odd), "verdict": Verdict.NOT_MEASURED})], records.revision(plan))
    found = reevaluate(records, lot, plan.edited(name="again"), lambda *_: True)
    assert [(one.part.number, one.now, one.rows) for one in found.changes] == [(2, Verdict.PASS, ())]
    assert len(page(records, Filter(lots=(lot.id,))).parts) == 2
    records.close()


def test_units_on_record_are_those_of_the_row_or_else_of_its_step(tmp_path):
    records, plan = Records(str(tmp_path / "r.db")), two_rows()
    own = plan.with_characteristic(plan.sheet[0].edited(unit="µm", lower=100.0, upper=300.0))
    bare = plan.with_characteristic(plan.sheet[0].edited(step=None))
    for one, unit in ((plan, "mm"), (own, "µm"), (bare, "")):
        key = records.revision(one)
        with records.reading() as db:
            query = f"select unit from characteristics where revision_id = {key} and balloon = 1"
            assert db.exec_driver_sql(query).scalar_one() == unit
    records.close()


def test_a_module_that_does_not_end_when_asked_is_ended():
    class Stubborn:
        ended = False

        def terminate(self):
            pass

        def wait(self, seconds):
            raise subprocess.TimeoutExpired("io-module", seconds)

        def kill(self):
            self.ended = True

    process = Stubborn()
    IoProcess(process).stop()
    assert process.ended


def test_nobody_answers_where_no_module_is(unused_port):
    assert answers(IoBlock(host="127.0.0.1", port=unused_port)) is False


def test_a_module_says_where_it_is_reached_and_ends_when_asked(unused_port):
    told = []

    def ready(port):
        told.append(port)
        asyncio.get_running_loop().call_soon(os.kill, os.getpid(), signal.SIGTERM)

    module = simulated_module.IoBlock().serve("127.0.0.1", unused_port, ready)
    asyncio.run(asyncio.wait_for(module, 30.0))
    assert told == [unused_port]


CHILD = """
import os, threading
from hemtra.runtime.family import end_with
end_with(os.getppid())
print(os.getpid(), flush=True)
threading.Event().wait(120)
"""
STARTER = f"""
import subprocess, sys
subprocess.Popen([sys.executable, "-c", {CHILD!r}])
sys.stdin.read()
"""


def test_a_process_ends_with_the_one_that_started_it_however_that_ends():
    starter = subprocess.Popen(
        [sys.executable, "-c", STARTER], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    )
    child = int(starter.stdout.readline())
    assert child != starter.pid
    starter.kill()
    assert starter.communicate(timeout=30)[0] == "", "its pipe closes once both are gone"
