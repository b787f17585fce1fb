"""The records database: what is kept, continued, refused, and never half written."""

import sqlite3

import pytest

from hemtra import Plan, inspect
from hemtra.core.plan.limits import Verdict
from hemtra.storage.records import Records
from hemtra.storage.records.opening import RecordsError
from hemtra.storage.records.store import SENT, Event, PartRecord
from hemtra.virtual.demo import STATION
from makers import sloped, step_plan


@pytest.fixture
def records(tmp_path):
    found = Records(str(tmp_path / "new" / "records.db"))
    yield found
    found.close()


def part(number, rows=(), verdict=Verdict.PASS, **more):
    return PartRecord(number, verdict, "", f"s{number}", rows, 1.0, 2.0, 3.0, 40.0, f"/in/{number}.x3p", **more)


def limited(lower, upper):
    plan = step_plan()
    return plan.with_characteristic(plan.sheet[0].edited(lower=lower, upper=upper))


def judged_rows(plan, rise=0.2):
    data = sloped(slope_x=rise / 2)
    return inspect(plan, data).characteristics


def test_a_part_is_kept_with_its_values_events_and_plan(records):
    plan = limited(0.1, 0.3)
    lot, revision = records.open_lot(plan.name), records.revision(plan)
    rows = judged_rows(plan)
    events = (Event("faulty scan", "half of it", 5.0, 1),)
    key = records.add(lot, part(1, rows, events=events), revision, records.station(STATION))
    (found,) = records.parts_of(lot)
    assert (found.id, found.number, found.serial, found.verdict) == (key, 1, "s1", Verdict.PASS)
    assert found.recorded > 1e9
    assert records.rows_of(found) == [(1, pytest.approx(0.2), Verdict.PASS, "")]
    assert records.events_of(lot) == [Event("faulty scan", "half of it", 5.0, 1)]
    assert '"lower": 0.1' in records.plan_text(revision)
    records.signalled({key: (SENT, 6.0)})
    records.keep_scan(key, "/kept/1.x3p")
    (found,) = records.parts_of(lot)
    assert (found.signal, found.signalled, found.scan) == (SENT, 6.0, "/kept/1.x3p")
    records.forget_scans(["/kept/1.x3p"])
    assert records.parts_of(lot)[0].scan is None


def test_a_plan_is_kept_once_and_again_when_a_limit_changes(records):
    plan = limited(0.1, 0.3)
    first = records.revision(plan)
    assert records.revision(plan) == first
    changed = plan.with_characteristic(plan.sheet[0].edited(upper=0.25))
    assert records.revision(changed) != first
    assert records.station(STATION) == records.station(STATION)


def test_lots_go_on_where_they_stopped_until_a_new_one_begins(records, tmp_path):
    revision = records.revision(step_plan())
    lot = records.open_lot("steps")
    assert records.next_number(lot) == 1
    for number in (1, 2):
        records.add(lot, part(number, verdict=Verdict.FAIL), revision)
    records.close()
    again = Records(str(tmp_path / "new" / "records.db"))
    same = again.open_lot("steps")
    assert (same.id, again.next_number(same), again.counts(same).failed) == (lot.id, 3, 2)
    other = again.open_lot("other plan")
    new = again.open_lot("steps", new=True)
    assert len({lot.id, other.id, new.id}) == 3
    assert again.next_number(new) == 1
    assert again.open_lot("steps", lot.name).id == lot.id
    assert {found.name for found in again.all_lots()} >= {lot.name, new.name}
    assert again.known_sources(tmp_path) == set()
    again.close()


def test_a_number_is_given_once_and_nothing_of_the_second_part_stays(records):
    plan = step_plan()
    lot, revision = records.open_lot("steps"), records.revision(plan)
    records.add(lot, part(1, judged_rows(plan)), revision)
    with pytest.raises(RecordsError, match="has a part 1 already"):
        records.add(lot, part(1, judged_rows(plan), events=(Event("x", "y", 1.0),)), revision)
    assert len(records.parts_of(lot)) == 1
    assert records.events_of(lot) == []


@pytest.mark.parametrize(
    ("make", "words"),
    [
        (lambda path: path.write_bytes(b"SQLite format 3\0" + b"\xff" * 4000), "is damaged"),
        (lambda path: path.write_text("these are no records, whatever their name may say" * 50), "is damaged"),
        (lambda path: _database(path, "create table mine (x)"), "of something else"),
        (lambda path: _newer(path), "newer Hemtra"),
        (lambda path: path.mkdir(), "cannot be opened"),
    ],
)
def test_what_cannot_be_used_is_refused_and_left_as_it_is(tmp_path, make, words):
    path = tmp_path / "records.db"
    make(path)
    before = path.read_bytes() if path.is_file() else b""
    with pytest.raises(RecordsError, match=words):
        Records(str(path))
    assert not path.is_file() or path.read_bytes() == before


def test_a_url_that_is_none_is_refused():
    with pytest.raises(RecordsError, match=r"is no database|cannot be kept"):
        Records("nowhere://")
    with pytest.raises(RecordsError, match="cannot be made"):
        Records("/proc/nowhere/records.db")


def _database(path, *statements):
    db = sqlite3.connect(path)
    for statement in statements:
        db.execute(statement)
    db.commit()
    db.close()


def _newer(path):
    Records(str(path)).close()
    _database(path, "update alembic_version set version_num = '9999'")


def test_an_empty_plan_has_a_revision_too(records):
    assert records.revision(Plan()) > 0
