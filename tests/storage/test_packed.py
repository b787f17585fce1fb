"""Packed values of ended lots: the same answers as from the values themselves, and never an old one."""

import sqlite3
from contextlib import closing
from dataclasses import replace

import numpy as np
import pytest
from sqlalchemy import func, select

from hemtra.core.plan.limits import Verdict
from hemtra.storage.records import Records, packed
from hemtra.storage.records.merging import forwarded, merge
from hemtra.storage.records.opening import RecordsError
from hemtra.storage.records.packed import pack_ended, packed_lots
from hemtra.storage.records.schema import packed_values
from hemtra.storage.records.store import Lot
from hemtra.storage.records.trends import failures, not_passed, trends
from hemtra.storage.records.upkeep import archive, rescue
from lots import BEGAN, DAY, made_lot, part, two_rows


@pytest.fixture
def records(database):
    found = Records(database)
    yield found
    found.close()


def looked_back(records):
    """All that is read of lots: trends, failures, and what does not pass."""
    lots = records.all_lots()
    series = [
        (t.balloon, t.name, t.upper, t.starts, t.parts.tolist(), t.values)
        for balloon in (1, 2)
        for t in trends(records, lots, balloon)
    ]
    return series, failures(records, lots), [not_passed(records, lots, balloon) for balloon in (1, 2)]


def assert_alike(one, other):
    (series, *rest), (others, *also) = one, other
    assert rest == also
    assert [t[:-1] for t in series] == [t[:-1] for t in others]
    for t, u in zip(series, others, strict=True):
        assert t[-1] == pytest.approx(u[-1], abs=1e-9, nan_ok=True)


def is_packed(records):
    with records.reading() as db:
        return packed_lots(db, [lot.id for lot in records.all_lots()])


@pytest.fixture
def several(records):
    """Three lots written beside each other, under two revisions; the second row has many values on a part."""
    rng, plans = np.random.default_rng(12), (two_rows(), two_rows(upper=0.35))
    lots = [made_lot(records, f"lot {k}", [], started=BEGAN + k * DAY) for k in range(3)]
    for n in range(60):
        for lot in lots[: 1 + n % 3]:
            value = None if rng.random() < 0.1 else float(rng.normal(0.25, 0.1))
            plan = plans[n > 40]
            one = part(n + 1, plan, {1: value, 2: 0.1})
            verdict = Verdict.NOT_PROVEN if rng.random() < 0.2 else one.rows[1].verdict
            many = replace(one.rows[1], least=-rng.random(), greatest=rng.random(), verdict=verdict)
            records.add_all(lot, [replace(one, rows=(one.rows[0], many))], records.revision(plan))
    return lots


def test_what_is_packed_reads_as_the_values_do(records, several):
    before = looked_back(records)
    assert pack_ended(records) == 3
    assert is_packed(records) == {lot.id for lot in several}
    assert_alike(before, looked_back(records))
    assert pack_ended(records) == 0


def test_a_lot_with_parts_since_is_read_from_its_values_until_it_is_packed_anew(records, several):
    pack_ended(records)
    records.add_all(several[1], [part(99, two_rows(), {1: 7.0, 2: 0.0})], records.revision(two_rows()))
    assert is_packed(records) == {several[0].id, several[2].id}
    now = looked_back(records)
    assert 7.0 in now[0][0][-1]
    assert pack_ended(records) == 1
    assert_alike(now, looked_back(records))


def test_open_lots_and_empty_ones_are_not_packed_and_older_ones_only_when_asked(records):
    open_lot = records.open_lot("steps", "open")
    made_lot(records, "open", [0.2], lot=open_lot)
    made_lot(records, "empty", [])
    old = made_lot(records, "old", [0.2, 0.3])
    assert pack_ended(records, since=BEGAN + 2 * DAY) == 0
    assert pack_ended(records) == 1
    assert is_packed(records) == {old.id}


def test_packing_that_breaks_off_leaves_nothing_half_believed(records, several, monkeypatch):
    before, real, tries = looked_back(records), packed.insert, []

    def broken(table):
        tries.append(table)
        if len(tries) == 2:
            raise RecordsError("The disk is full.")
        return real(table)

    monkeypatch.setattr(packed, "insert", broken)
    with pytest.raises(RecordsError):
        pack_ended(records)
    assert is_packed(records) == set()
    assert_alike(before, looked_back(records))
    monkeypatch.undo()
    assert pack_ended(records, lambda done, of, what: done < 2) == 2
    assert_alike(before, looked_back(records))


def test_packed_values_go_with_their_lot_and_are_there_in_the_archive(tmp_path):
    records = Records(str(tmp_path / "records.db"))
    made_lot(records, "old", [0.2, 0.4, None])
    new = made_lot(records, "new", [0.2], started=BEGAN + 9 * DAY)
    pack_ended(records)
    archive(records, BEGAN + 5 * DAY, tmp_path / "old.db")
    with records.reading() as db:
        assert set(db.execute(select(packed_values.c.lot_id)).scalars()) == {new.id}
    with closing(Records(str(tmp_path / "old.db"))) as held:
        assert len(is_packed(held)) == 1
        assert trends(held, held.all_lots(), 1)[0].values == pytest.approx([0.2, 0.4, np.nan], nan_ok=True)
    records.close()


def test_rescued_records_do_not_believe_what_was_packed(tmp_path):
    path = tmp_path / "records.db"
    with closing(Records(str(path))) as records:
        made_lot(records, "lot", [0.2, 0.4, 0.3])
        pack_ended(records)
    with closing(sqlite3.connect(path)) as db:
        db.execute("delete from part_values where part_id = 2")
        db.commit()
    rescue(path, tmp_path / "saved.db")
    with closing(Records(str(tmp_path / "saved.db"))) as saved:
        assert is_packed(saved) == set()
        assert trends(saved, saved.all_lots(), 1)[0].values.tolist() == pytest.approx([0.2, 0.3])


def test_what_is_merged_is_packed(records, tmp_path):
    with closing(Records(str(tmp_path / "line.db"))) as line:
        made_lot(line, "lot", [0.2, 0.3])
        pack_ended(line)
    merge(records, tmp_path / "line.db")
    assert len(is_packed(records)) == 1


def test_a_server_hears_that_a_lot_ended_and_packs_it(records, tmp_path):
    with closing(Records(str(tmp_path / "spool.db"))) as spool:
        first = spool.open_lot("steps", "first")
        made_lot(spool, "first", [0.2, 0.3], lot=first)
        with spool.reading() as source:
            last, _ = forwarded(records, source, 0, np.inf)
        made_lot(spool, "second", [0.2], lot=spool.open_lot("steps", "second", new=True))
        with spool.reading() as source:
            forwarded(records, source, last, np.inf)
        there = {lot.name: lot.ended for lot in spool.all_lots()}
    ended = {lot.name: lot.ended for lot in records.all_lots()}
    assert ended == there
    assert ended["first"] > first.started
    assert ended["second"] is None
    assert len(is_packed(records)) == 1
    with records.reading() as db:
        assert db.execute(select(func.sum(packed_values.c.count))).scalar() == 4


def test_a_lot_named_again_is_open_and_packed_once_it_has_ended(records):
    lot = records.open_lot("steps", "lot")
    made_lot(records, "lot", [0.2], lot=lot)
    records.open_lot("steps", "next", new=True)
    assert pack_ended(records) == 1
    assert isinstance(records.open_lot("steps", "lot"), Lot)
    made_lot(records, "lot", [0.9], lot=lot, first=2)
    assert pack_ended(records) == 0
    assert trends(records, [lot], 1)[0].values.tolist() == pytest.approx([0.2, 0.9])
