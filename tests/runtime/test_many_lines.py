"""Lines that write to one place: parts spooled while a server is away, forwarded once; signs of life."""

import json
import threading
from dataclasses import replace

import pytest
from sqlalchemy import text
from test_cli import hemtra  # noqa: F401
from test_production import PLAN, Heard, folder_of

from hemtra import HemtraError
from hemtra.core.plan.document import ByProfile
from hemtra.runtime import heartbeat, uplink
from hemtra.runtime.heartbeat import Heartbeat
from hemtra.runtime.run_setup import RunRequest, begin
from hemtra.runtime.uplink import Uplink, is_server, spool_of
from hemtra.storage.records import Records
from hemtra.storage.records.evidence import part_sheet
from hemtra.storage.records.lines import LOST_AFTER, LineState, all_lines, forget, say
from hemtra.storage.records.opening import RecordsAway
from hemtra.virtual.demo import STATION
from lots import BEGAN, made_lot, part, two_rows

LINE = LineState("bench A", "pc 1", "steps", "lot 1", "runs", 10, 7, 0, 0.08, BEGAN)


@pytest.fixture
def away(tmp_path, monkeypatch):
    """Records that can be switched off, in place of a server."""

    class Server:
        url, up = str(tmp_path / "server.db"), True

    def opened(url, **how):
        if url == Server.url and not Server.up:
            raise RecordsAway("The server that holds records does not answer: connection refused.")
        return Records(url, **how)

    links = []

    def linked(spool, heard):
        links.append(Uplink(spool, Server.url, heard))
        return links[-1]

    monkeypatch.setattr(uplink, "Records", opened)
    Server.linked = staticmethod(linked)
    yield Server
    for link in links:
        link.close()


def spooled(tmp_path, values, lot_name="lot 1"):
    spool = tmp_path / "spool.db"
    records = Records(str(spool))
    made_lot(records, lot_name, values)
    return spool, records


def on_record(url):
    records = Records(url, create=False)
    try:
        return [
            (lot.name, one.number, one.serial, [row.value for row in part_sheet(records, one.id).rows])
            for lot in sorted(records.all_lots(), key=lambda lot: lot.id)
            for one in records.parts_of(lot)
        ]
    finally:
        records.close()


def test_what_waits_is_forwarded_in_order_once_the_server_is_back(tmp_path, away):
    away.up = False
    spool, records = spooled(tmp_path, [0.2, None, 0.4])
    events = []
    link = away.linked(spool, events.append)
    assert not link.once(0.0)
    assert not link.once(0.0)
    assert [event.kind for event in events] == ["server away"], "it is said once"
    assert "connection refused" in events[0].text
    assert link.waiting == 3
    away.up = True
    assert link.once(0.0)
    assert link.waiting == 0
    assert (events[1].kind, events[1].fields) == ("server back", {"count": 3})
    assert on_record(away.url) == on_record(str(spool))
    records.close()


def test_more_of_a_lot_and_then_of_another_follows_what_is_there(tmp_path, away):
    spool, records = spooled(tmp_path, [0.2, None, 0.4])
    events = []
    link = away.linked(spool, events.append)
    assert link.once(0.0)
    plan = two_rows()
    (lot,) = records.all_lots()
    records.add_all(lot, [part(4, plan, {1: 0.25, 2: 0.0})], records.revision(plan))
    made_lot(records, "lot 2", [0.3], started=BEGAN + 999.0)
    assert link.once(0.0)
    assert on_record(away.url) == on_record(str(spool))
    assert events == []
    records.close()


def test_a_program_that_ends_is_not_held_by_what_it_forwards(tmp_path, away):
    spool, records = spooled(tmp_path, [0.2])
    link = away.linked(spool, [].append)
    link.start()
    (thread,) = (one for one in threading.enumerate() if one.name == "uplink")
    assert thread.daemon
    link.finish()
    link.close()
    records.close()


def test_nothing_is_doubled_whatever_was_noted_as_sent(tmp_path, away):
    spool, records = spooled(tmp_path, [0.1 * k for k in range(8)])
    records.close()
    away.linked(spool, print).once(0.0)
    for noted in (None, "0\n", "3\n", "-5", "all of it"):
        file = spool.with_name(f"{spool.name}.forwarded")
        file.unlink() if noted is None else file.write_text(noted)
        link = away.linked(spool, print)
        assert link.once(0.0)
        assert link.waiting == 0
        assert on_record(away.url) == on_record(str(spool)), noted
    assert away.linked(spool, print).waiting == 0, "what is noted still holds at the next start"


def test_what_breaks_off_in_the_middle_is_done_anew_and_whole(tmp_path, away, monkeypatch):
    spool, records = spooled(tmp_path, [0.1 * k for k in range(12)])
    records.close()
    monkeypatch.setattr("hemtra.storage.records.merging.CHUNK", 5)
    real, calls = Records.writing, []

    def breaking(self):
        calls.append(1)
        if self.name == away.url and len(calls) == 3:
            raise RecordsAway("The server that holds records does not answer: gone.")
        return real(self)

    events = []
    link = away.linked(spool, events.append)
    monkeypatch.setattr(Records, "writing", breaking)
    assert not link.once(0.0)
    left = link.waiting
    assert 0 < left < 12
    assert link.once(0.0)
    assert [event.kind for event in events] == ["server away", "server back"]
    assert events[1].fields == {"count": left}, "what was sent before is not counted again"
    assert on_record(away.url) == on_record(str(spool))


def test_a_part_is_forwarded_once_its_signal_was_given(tmp_path, away, monkeypatch):
    spool, records = spooled(tmp_path, [0.2, 0.3])
    monkeypatch.setattr(uplink.time, "time", lambda: BEGAN + 61.0)
    link = away.linked(spool, print)
    link.once(settle=2.0)
    assert [number for _, number, *_ in on_record(away.url)] == []
    link.once(settle=0.5)
    assert [number for _, number, *_ in on_record(away.url)] == [1]
    records.close()


def test_a_clock_that_was_set_back_lets_no_part_be_skipped(tmp_path, away, monkeypatch):
    """The second part seems younger than the third, and waits; so must the third."""
    spool, records = spooled(tmp_path, [0.2])
    (lot,), plan = records.all_lots(), two_rows()
    for number, at in ((2, BEGAN + 100.0), (3, BEGAN + 90.0)):
        records.add_all(lot, [part(number, plan, {1: 0.2, 2: 0.0}, at=at)], records.revision(plan))
    link = away.linked(spool, print)
    for now, numbers in ((101.0, [1]), (95.0, [1]), (103.0, [1, 2, 3])):
        monkeypatch.setattr(uplink.time, "time", lambda now=now: BEGAN + now)
        link.once(settle=2.0)
        assert [number for _, number, *_ in on_record(away.url)] == numbers
    records.close()


def test_parts_of_a_new_spool_are_not_taken_for_those_of_the_old(tmp_path, away):
    spool, records = spooled(tmp_path, [0.2])
    records.close()
    spool.with_name(f"{spool.name}.forwarded").write_text("500\n")
    assert away.linked(spool, print).once(0.0)
    assert on_record(away.url) == on_record(str(spool)) != []


def test_a_part_whose_place_another_has_is_said(tmp_path, away):
    spool, records = spooled(tmp_path, [0.2, 0.3])
    records.close()
    taken = Records(away.url)
    lot = made_lot(taken, "lot 1", [])
    plan = two_rows()
    taken.add_all(lot, [part(2, plan, {1: 0.9, 2: 0.0}, serial="X")], taken.revision(plan))
    taken.close()
    events = []
    assert away.linked(spool, events.append).once(0.0)
    assert [(event.kind, event.fields) for event in events] == [("not forwarded", {"count": 1})]
    assert [(number, serial) for _, number, serial, _ in on_record(away.url)] == [(1, "S00001"), (2, "X")]


@pytest.mark.parametrize(
    ("db", "serves"),
    [("postgresql+psycopg://h/d", True), ("sqlite:///a.db", False), ("a.db", False), ("/x/a.db", False)],
)
def test_only_servers_are_spooled_for(tmp_path, db, serves):
    assert is_server(db) is serves
    one, two = spool_of(tmp_path, db, "line 1"), spool_of(tmp_path, db, "line 2")
    assert one != two
    secret = "postgresql+psycopg://me:{}@h/d"
    assert spool_of(tmp_path, secret.format("a"), "l") == spool_of(tmp_path, secret.format("b"), "l")


def test_a_line_goes_on_while_its_server_is_away_and_says_so(tmp_path, away, monkeypatch):
    """From the start on: the server comes while the line runs."""
    monkeypatch.setattr("hemtra.runtime.run_setup.is_server", lambda db: db == away.url)
    monkeypatch.setattr("hemtra.runtime.run_setup.records_folder", lambda: tmp_path / "own")
    monkeypatch.setattr(uplink, "EVERY", 0.01)
    monkeypatch.setattr(uplink, "SETTLE", 0.0)
    away.up = False
    heard, came = Heard(), threading.Event()

    def told(event):
        heard.events.append(event)
        if event.kind == "server away":
            away.up = True
        came.set()

    asked = RunRequest(replay=folder_of(tmp_path / "in", [0.2, 0.5, 0.2]), db=away.url, jobs=0)
    run = begin(PLAN, None, asked, replace(heard.listeners, event=told))
    assert came.wait(20)
    run.start()
    assert run.wait(60)
    run.records.close()
    assert [d.record.number for d in heard.done] == [1, 2, 3]
    assert [(number, rows[0]) for _, number, _, rows in on_record(away.url)] == [
        (1, pytest.approx(0.2, abs=1e-4)),
        (2, pytest.approx(0.5, abs=1e-4)),
        (3, pytest.approx(0.2, abs=1e-4)),
    ]
    assert {event.kind for event in heard.events} >= {"server away", "server back"}
    records = Records(away.url, create=False)
    (line,) = all_lines(records)
    assert (line.name, line.shown, line.parts, line.passed, line.waiting) == (
        "steps, replay",
        "stopped",
        3,
        2,
        0,
    )
    records.close()


# -- signs of life --------------------------------------------------------------------------------


def test_a_sign_of_life_takes_the_place_of_the_one_before(database):
    records = Records(database)
    say(records, LINE)
    say(records, replace(LINE, parts=11, passed=8))
    say(records, replace(LINE, host="pc 2", state="paused"))
    assert [(one.host, one.shown, one.parts) for one in all_lines(records)] == [
        ("pc 1", "runs", 11),
        ("pc 2", "paused", 10),
    ], "two lines of one name on two computers are two"
    assert all_lines(records)[0].share == pytest.approx(8 / 11)
    with records.writing() as db:
        db.execute(text(f"update lines set seen = seen - {LOST_AFTER + 1.0} where host = 'pc 1'"))
    lost = all_lines(records)[0]
    assert (lost.shown, lost.state) == ("lost", "runs")
    assert lost.age == pytest.approx(LOST_AFTER + 1.0, abs=5.0)
    say(records, replace(LINE, state="stopped"))
    with records.writing() as db:
        db.execute(text(f"update lines set seen = seen - {LOST_AFTER + 1.0} where host = 'pc 1'"))
    assert all_lines(records)[0].shown == "stopped", "what was stopped is not lost"
    forget(records, lost)
    assert [one.host for one in all_lines(records)] == ["pc 2"]
    records.close()


def test_signs_come_until_the_end_and_stop_nothing(tmp_path, monkeypatch):
    monkeypatch.setattr(heartbeat, "EVERY", 0.001)
    said, enough = [], threading.Event()

    def keep(records, line):
        said.append(line.state)
        if len(said) == 2:
            raise HemtraError("the records are away")
        if len(said) >= 4:
            enough.set()

    monkeypatch.setattr(heartbeat, "say", keep)
    beat = Heartbeat(lambda: object(), lambda: LINE)
    beat.start()
    assert enough.wait(20)
    beat.stop()
    assert set(said[:-1]) == {"runs"}
    assert said[-1] == "stopped"
    nowhere = Heartbeat(lambda: None, lambda: pytest.fail("there is nobody to say it to"))
    nowhere.start()
    nowhere.stop()


@pytest.mark.parametrize("by_profile", [None, ByProfile()])
def test_a_line_that_keeps_its_own_records_is_listed_in_them_with_the_parts_it_was_asked_for(
    tmp_path, by_profile
):
    heard = Heard()
    asked = RunRequest(parts=1, db=str(tmp_path / "r.db"), jobs=0)
    run = begin(PLAN.edited(by_profile=by_profile), STATION, asked, heard.listeners)
    run.start()
    assert run.wait(120)
    run.records.close()
    records = Records(str(tmp_path / "r.db"), create=False)
    (line,) = all_lines(records)
    assert (line.shown, line.parts, len(heard.done)) == ("stopped", 1, 1)
    told = [event.text for event in heard.events if event.kind == "ends evened"]
    assert [text.startswith("This plan measures each profile") for text in told] == [True] * bool(by_profile)
    records.close()


def test_lines_are_listed_on_the_command_line(hemtra, tmp_path):  # noqa: F811
    db = tmp_path / "r.db"
    records = Records(str(db))
    say(records, LINE)
    code, out, _ = hemtra("records", "lines", "--db", db)
    assert code == 0
    assert "bench A" in out
    assert "70.0 %" in out
    with records.writing() as held:
        held.execute(text("update lines set seen = 0"))
    code, out, _ = hemtra("records", "lines", "--db", db, "--json")
    assert code == 1
    assert json.loads(out)["state"] == "lost"
    records.close()
    assert hemtra("records", "lines", "--db", tmp_path / "none.db")[0] == 2


def test_indices_answer_what_is_asked_of_millions(database):
    """By the plan of the database itself, where it is told not to read all."""
    records = Records(database)
    made_lot(records, "lot", [0.2] * 30)
    asked = {
        "select id from parts where lot_id = 1 order by id limit 5": ("parts_of_lot",),
        "select id from parts where revision_id = 1 and lot_id = 1": ("revision", "lot"),
        "select id from parts where serial = 'S00001'": ("parts_by_serial",),
        "select id from parts where lot_id = 1 and verdict = 1 order by recorded desc limit 9": (
            "parts_by_verdict",
        ),
        "select part_id from part_values where characteristic_id = 1 and verdict <> 0": ("values_not_passed",),
    }
    with records.reading() as db:
        server = db.dialect.name == "postgresql"
        if server:
            db.execute(text("set enable_seqscan = off"))
        for query, names in asked.items():
            explained = "\n".join(
                map(str, db.execute(text(f"explain {'' if server else 'query plan '}{query}")))
            )
            assert any(name in explained for name in names), (query, explained)
            assert "SCAN parts" not in explained.replace("SCAN parts USING", "")
    records.close()
