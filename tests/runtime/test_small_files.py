"""The small files a line keeps beside its records: the mark on its belt, its log, the note of the lock."""

import json
import logging

import pytest

from hemtra.core.errors import HemtraError
from hemtra.core.plan.limits import CharacteristicResult, Verdict
from hemtra.core.station.io_and_storage import IoBlock
from hemtra.runtime.belt_mark import BeltMark
from hemtra.runtime.io_process import is_loopback, started
from hemtra.runtime.logs import begin_logging
from hemtra.runtime.reevaluation import differences
from hemtra.storage.records.lock_note import is_noted


def test_a_belt_is_clear_until_it_is_marked_and_may_be_cleared_twice():
    mark, other = BeltMark("bench A"), BeltMark("bench B")
    assert not mark.there
    mark.put()
    assert mark.there
    assert not other.there, "each line has a mark of its own"
    for _ in range(2):
        mark.take_away()
        assert not mark.there


@pytest.fixture
def log():
    """The log as it was before."""
    found = logging.getLogger("hemtra")
    handlers, level, propagates = list(found.handlers), found.level, found.propagate
    found.handlers = []
    yield found
    for handler in found.handlers:
        handler.close()
    found.handlers, found.level, found.propagate = handlers, level, propagates


def test_a_log_as_json_is_an_object_a_line_in_ascii_with_tracebacks(tmp_path, log):
    file = tmp_path / "logs" / "line.log"
    begin_logging("info", file, as_json=True, console=False)
    log.info("Teil geprüft", extra={"number": 7})
    try:
        raise ValueError("broken")
    except ValueError:
        log.exception("A fault")
    raw = file.read_bytes()
    assert raw.isascii()
    first, second = map(json.loads, raw.decode().splitlines())
    assert (first["text"], first["level"], first["number"]) == ("Teil geprüft", "info", 7)
    assert "traceback" not in first
    assert "ValueError: broken" in second["traceback"]


@pytest.mark.parametrize(("as_json", "begins"), [(True, "{"), (False, "2")])
def test_a_console_says_the_same_as_lines_or_as_objects(log, capsys, tmp_path, as_json, begins):
    begin_logging("info", tmp_path / "line.log", as_json=as_json)
    log.info("a part fell off")
    said = capsys.readouterr().err
    assert said.startswith(begins)
    assert "a part fell off" in said


def test_no_records_note_no_lock_and_none_are_made(tmp_path):
    assert not is_noted(tmp_path / "none.db")
    assert not (tmp_path / "none.db").exists()


def row(value, verdict, text=""):
    return CharacteristicResult(1, "Rise", "s", value, "mm", None, 0.0, 1.0, 2, verdict, "", None, text)


@pytest.mark.parametrize(
    ("then", "now", "same"),
    [
        (row(0.5, Verdict.PASS), row(0.5 + 1e-12, Verdict.PASS), True),
        (row(0.5, Verdict.PASS), row(0.501, Verdict.PASS), False),
        (row(0.5, Verdict.PASS), row(0.5, Verdict.NOT_MEASURED), False),
        (row(None, Verdict.NOT_MEASURED), row(None, Verdict.NOT_MEASURED), True),
        (row(None, Verdict.NOT_MEASURED), row(None, Verdict.NOT_PROVEN), False),
        (row(None, Verdict.NOT_MEASURED), row(0.5, Verdict.PASS), False),
        (row(1.0, Verdict.PASS, "A"), row(1.0, Verdict.PASS, "B"), False),
        (row(1000.0, Verdict.PASS), row(1000.0 + 5e-7, Verdict.PASS), True),
        (row(1000.0, Verdict.PASS), row(1000.0 + 5e-6, Verdict.PASS), False),
    ],
)
def test_what_is_not_as_it_was_recorded_is_told(then, now, same):
    assert (differences((then,), (now,)) == ()) is same


@pytest.mark.parametrize(
    "host", ["localhost", "127.0.0.1", "127.8.8.8", "::1", "192.168.1.5", "0.0.0.0", "plc"]
)
def test_only_this_computer_is_this_computer(host):
    assert is_loopback(host) is (host == "localhost" or host.startswith(("127.", "::1")))


def test_a_station_file_opens_no_port_to_other_computers(monkeypatch):
    monkeypatch.setattr("hemtra.runtime.io_process.answers", lambda io: False)
    with pytest.raises(HemtraError, match=r"other computers reach it.*hemtra io-module --host 0\.0\.0\.0"):
        started(IoBlock(host="0.0.0.0", simulated=True))
    assert started(IoBlock(host="0.0.0.0")) is None, "a real one is not started"
    assert started(IoBlock(simulated=True)) is None, "there is none"


def test_a_row_that_is_gone_is_told():
    assert differences((row(0.5, Verdict.PASS),), ()) == ("1 Rise is not evaluated now.",)
