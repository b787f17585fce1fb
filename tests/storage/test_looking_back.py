"""Looking back at many parts: pages against a plain search, trends, failures, and what two databases become."""

import sqlite3
import threading
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from alembic import command
from sqlalchemy import text
from sqlalchemy.event import listen

from hemtra.core.events import Event
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.gauge_mark import GaugeMark
from hemtra.core.plan.limits import Verdict
from hemtra.core.units import INCH
from hemtra.storage.records import Records, merging, opening, pages
from hemtra.storage.records.evidence import part_sheet, plan_of
from hemtra.storage.records.merging import merge
from hemtra.storage.records.opening import RecordsError
from hemtra.storage.records.pages import NOT_PASS, Filter, count, lot_views, page, revisions_of
from hemtra.storage.records.store import Counts, Lot
from hemtra.storage.records.trends import failures, not_passed, over_all, texts, trends
from lots import BEGAN, DAY, MINUTE, made_lot, part, two_rows


@pytest.fixture
def records(database):
    found = Records(database)
    yield found
    found.close()


# -- pages ----------------------------------------------------------------------------------------


@pytest.fixture
def many(records):
    """Three lots of 60 parts: some fail balloon 1, some 2, some are not measured; two plan revisions."""
    rng = np.random.default_rng(4)
    plans = two_rows(), two_rows(upper=0.35)
    made = []
    for k in range(3):
        lot = made_lot(records, f"lot {k}", [], started=BEGAN + k * DAY)
        for which in (0, 1):
            found = []
            for n in range(30):
                value = None if rng.random() < 0.1 else float(rng.choice([0.2, 0.25, 0.9], p=[0.5, 0.3, 0.2]))
                other = 0.9 if rng.random() < 0.15 else 0.0
                number = 30 * which + n + 1
                at = BEGAN + k * DAY + number * MINUTE
                serial = f"{'AB'[n % 2]}{k}-{number:03d}"
                found.append(part(number, plans[which], {1: value, 2: other}, at=at, serial=serial))
            keys = records.add_all(lot, found, records.revision(plans[which]))
            made += [
                replace(one, id=key, lot_id=lot.id, revision_id=which + 1)
                for one, key in zip(found, keys, strict=True)
            ]
    return made


FILTERS = [
    Filter(),
    Filter(verdicts=(Verdict.FAIL,)),
    Filter(verdicts=NOT_PASS),
    Filter(lots=(2,)),
    Filter(lots=(1, 3)),
    Filter(lots=(2,), verdicts=(Verdict.PASS,), serial="A"),
    Filter(balloon=1),
    Filter(balloon=2, verdicts=(Verdict.FAIL,), lots=(3,)),
    Filter(balloon=9),
    Filter(serial="B1-0"),
    Filter(serial="%"),
    Filter(revision=2, verdicts=NOT_PASS),
    Filter(since=BEGAN + DAY, until=BEGAN + 2 * DAY),
    Filter(since=BEGAN + DAY + 10 * MINUTE, balloon=1, revision=1),
]


@pytest.mark.parametrize("rare", [0, 20, 20_000])
def test_pages_hold_what_a_plain_search_finds_in_order_of_time(records, many, rare, monkeypatch):
    monkeypatch.setattr(pages, "RARE", rare)

    def holds(one, wanted):
        bad = {row.balloon for row in one.rows if row.verdict is not Verdict.PASS}
        return (
            (not wanted.lots or one.lot_id in wanted.lots)
            and (not wanted.verdicts or one.verdict in wanted.verdicts)
            and (wanted.balloon is None or wanted.balloon in bad)
            and one.serial.startswith(wanted.serial)
            and (wanted.since is None or one.recorded >= wanted.since)
            and (wanted.until is None or one.recorded < wanted.until)
            and (wanted.revision is None or one.revision_id == wanted.revision)
        )

    def walked(wanted):
        found, after = [], None
        while True:
            got = page(records, wanted, after, most=7)
            assert len(got.parts) <= 7
            found += got.parts
            after = got.more
            if after is None:
                return [one.id for one in found]

    for wanted in FILTERS:
        expected = sorted((one for one in many if holds(one, wanted)), key=lambda one: -one.recorded)
        assert walked(wanted) == [one.id for one in expected], wanted
        assert count(records, wanted) == len(expected), wanted


def test_parts_of_the_same_moment_are_all_on_some_page(records):
    lot = made_lot(records, "at once", [])
    plan = two_rows()
    keys = records.add_all(lot, [part(k, plan, {1: 0.2, 2: 0.0}) for k in range(1, 10)], records.revision(plan))
    first = page(records, Filter(), most=4)
    second = page(records, Filter(), first.more, most=4)
    third = page(records, Filter(), second.more, most=4)
    assert [one.id for one in first.parts + second.parts + third.parts] == keys[::-1]
    assert third.more is None


def test_serials_are_compared_letter_by_letter_whatever_the_language(records):
    plan = two_rows()
    lot = made_lot(records, "serials", [])
    names = ["A1", "a1", "B1", "Ä1", "a-1", "A 2", "_1"]
    found = [part(k, plan, {1: 0.2, 2: 0.0}, serial=name) for k, name in enumerate(names, start=1)]
    records.add_all(lot, found, records.revision(plan))
    for begins, expected in (
        ("A", ["A1", "A 2"]),
        ("a", ["a1", "a-1"]),
        ("_", ["_1"]),
        ("Ä", ["Ä1"]),
        ("%", []),
    ):
        found_now = [one.serial for one in page(records, Filter(serial=begins)).parts]
        assert sorted(found_now) == sorted(expected), begins


def test_texts_of_any_length_and_kind_are_kept(records):
    """A code may hold what it likes; no database refuses a part for it."""
    plan = two_rows()
    lot = made_lot(records, "odd", [])
    odd = "x" * 400 + "\0é"
    found = [part(1, plan, {1: 0.2}, serial=odd, text=odd, unit="", source=odd, scan=odd)]
    (key,) = records.add_all(lot, found, records.revision(plan))
    kept = part_sheet(records, key)
    assert kept.part.serial.startswith("x" * 120)
    assert "\0" not in kept.part.serial
    made_lot(records, "n" * 300, [0.2])
    records.event(lot, Event("note", BEGAN, fields={"text": odd}))
    assert records.events_of(lot)[-1].text.startswith("x" * 120)


def test_lots_are_counted_and_revisions_are_those_that_were_used(records, many):
    views = lot_views(records)
    assert [view.lot.name for view in views] == ["lot 2", "lot 1", "lot 0"]
    for view in views:
        mine = [one.verdict for one in many if one.lot_id == view.lot.id]
        passed, failed = mine.count(Verdict.PASS), mine.count(Verdict.FAIL)
        assert view.counts == Counts(passed, failed, 60 - passed - failed)
    empty = made_lot(records, "nothing", [], started=BEGAN + 9 * DAY)
    assert lot_views(records)[0].counts == Counts(0, 0, 0, 0) == Counts()
    assert page(records, Filter(lots=(empty.id,))) == pages.Page([], None)
    assert {r.id for r in revisions_of(records)} == {1, 2}
    assert revisions_of(records, [empty.id]) == []
    single = made_lot(records, "single", [0.2], started=BEGAN + 10 * DAY)
    (revision,) = revisions_of(records, [single.id])
    assert revision.id == page(records, Filter(lots=(single.id,))).parts[0].revision_id


@pytest.mark.parametrize("nth", range(1, 9))
def test_what_a_line_writes_between_two_questions_is_not_half_seen(database, nth):
    plan = two_rows()
    with closing(Records(database)) as line, closing(Records(database)) as person:
        lot = made_lot(line, "lot", [0.2])
        made_lot(line, "beside it", [0.5])
        revision = line.revision(plan)
        line.add(lot, part(2, plan, {1: 0.25, 2: 0.0}), revision)
        asked = []

        def goes_on(*_):
            asked.append(1)
            if len(asked) == nth:
                line.add(lot, part(3, plan, {1: 0.9, 2: 0.0}), revision)

        listen(person._engine, "before_cursor_execute", goes_on)
        (trend,) = trends(person, [lot], 1)
        assert len(asked) >= nth, "each of its questions is tried"
        assert trend.values.tolist() in ([0.2, 0.25], [0.2, 0.25, 0.9])
        assert trend.parts.size == trend.values.size


LINES, PARTS, VIEWERS = 8, 20, 4


def test_eight_lines_write_at_once_while_four_people_look_back(server):
    """Each line keeps part after part, each in a transaction of its own; nobody ever sees half of one."""
    url, plan = server.fresh(), two_rows()
    with closing(Records(url)) as first:
        made_lot(first, "before", [0.2])
    begin, done = threading.Barrier(LINES + VIEWERS), threading.Event()

    def line(k):
        with closing(Records(url)) as mine:
            revision = mine.revision(plan)
            lot = mine.add_lot(Lot(0, f"line {k}", plan.name, BEGAN + k, BEGAN + DAY))
            begin.wait(30)
            for number in range(1, PARTS + 1):
                value = 0.9 if number % 5 == 0 else 0.2
                at = BEGAN + number * MINUTE + k
                mine.add(lot, part(number, plan, {1: value, 2: 0.0}, at=at, serial=f"L{k}-{number}"), revision)

    def person(k):
        looks, seen = 0, 0
        with closing(Records(url, create=False)) as mine:
            begin.wait(30)
            while not done.is_set() or not looks:
                counted = [view.counts for view in lot_views(mine)]
                for one in counted:
                    assert one.failed == (one.all - one.missing - one.passed)
                total = sum(one.all for one in counted)
                assert total >= seen, "what was there stays"
                seen, looks = total, looks + 1
                got = page(mine, Filter(verdicts=(Verdict.FAIL,)), most=5)
                assert all(row.verdict is Verdict.FAIL for row in got.parts)
                for one in got.parts[:1]:
                    assert [row.balloon for row in part_sheet(mine, one.id).rows] == [1, 2]
                chosen = mine.all_lots()
                for trend in trends(mine, chosen, 1):
                    assert set(np.unique(trend.values)) <= {0.2, 0.9}
                failures(mine, chosen)
        return looks

    with ThreadPoolExecutor(LINES + VIEWERS) as pool:
        people = [pool.submit(person, k) for k in range(VIEWERS)]
        lines = [pool.submit(line, k) for k in range(LINES)]
        try:
            for future in lines:
                future.result(120)
        finally:
            done.set()
        assert all(future.result(120) >= 1 for future in people)
    with closing(Records(url, create=False)) as after:
        for lot in after.all_lots():
            numbers = [one.number for one in after.parts_of(lot, most=1000)]
            expected = [1] if lot.name == "before" else list(range(1, PARTS + 1))
            assert sorted(numbers) == expected
        failed = {one.balloon: one.count for one in failures(after, after.all_lots()) if one.count}
        assert failed == {1: LINES * PARTS // 5}
        (trend,) = trends(after, after.all_lots(), 1)
        assert trend.values.size == LINES * PARTS + 1


# -- trends ---------------------------------------------------------------------------------------


def test_lots_that_were_written_beside_each_other_have_their_own_values(records):
    one, other = made_lot(records, "one", [0.1]), made_lot(records, "other", [0.9], started=BEGAN + DAY)
    made_lot(records, "", [0.2, None], lot=one, first=2)
    made_lot(records, "", [0.8], lot=other, first=2, started=BEGAN + DAY)
    (first,) = trends(records, [one], 1)
    np.testing.assert_array_equal(first.values, [0.1, 0.2, np.nan])
    np.testing.assert_array_equal(first.parts, [1, 3, 4])
    (both,) = trends(records, [other, one], 1)
    np.testing.assert_array_equal(both.values, [0.1, 0.2, np.nan, 0.9, 0.8])
    assert both.starts == ((0, "one"), (3, "other"))
    assert [(f.balloon, f.count, f.missing) for f in failures(records, [one])] == [(1, 1, 1), (2, 0, 0)]
    assert [f.verdict for f in failures(records, [one])] == [Verdict.NOT_MEASURED, Verdict.PASS]
    assert over_all(1, 1, 1) is Verdict.FAIL
    assert over_all(0, 0, 1) is Verdict.NOT_PROVEN, "what is not proven never counts as passed"
    assert not_passed(records, [other], 1) == {Verdict.FAIL: 2}
    assert not_passed(records, [one], 1) == {Verdict.NOT_MEASURED: 1}


def test_names_and_limits_that_changed_make_series_of_their_own_that_go_on_later(records):
    lot = made_lot(records, "changed", [0.2, 0.2])
    made_lot(records, "", [0.21], two_rows(upper=0.25), lot=lot, first=3)
    made_lot(records, "", [0.22, 0.23], lot=lot, first=4)
    made_lot(records, "", [0.24], two_rows(name="Height"), lot=lot, first=6)
    found = {(t.name, t.upper): t.values.tolist() for t in trends(records, [lot], 1)}
    assert found == {("Rise", 0.3): [0.2, 0.2, 0.22, 0.23], ("Rise", 0.25): [0.21], ("Height", 0.3): [0.24]}
    assert {(f.balloon, f.name, f.count) for f in failures(records, [lot])} == {
        (1, "Height", 0),
        (2, "Back", 0),
    }


def test_values_of_any_size_come_back(records):
    sizes = [0.1, -0.3, 1234.56789, None, 1e-9, 3.00000000049]
    lot = made_lot(records, "sizes", sizes)
    (trend,) = trends(records, [lot], 1)
    expected = [np.nan if size is None else size for size in sizes]
    np.testing.assert_allclose(trend.values, expected, rtol=0, atol=5.1e-10)
    vast = made_lot(records, "vast", [0.1, None, 1e15, -1e12], started=BEGAN + DAY)
    (trend,) = trends(records, [vast], 1)
    np.testing.assert_array_equal(trend.values, [0.1, np.nan, 1e15, -1e12])


def test_a_trend_knows_its_uncertainty_and_what_its_gauge_scatters(records):
    plan = two_rows()
    mark = GaugeMark(
        deviation=0.004,
        mean=0.2,
        unit="mm",
        categories=5,
        rule="aiag",
        deviations=6,
        good=10,
        usable=30,
        parts=10,
        operators=3,
        trials=3,
        made="2026-03-01",
    )
    kept = plan.with_characteristic(plan.sheet[0].edited(gauge=mark))
    lot = made_lot(records, "known", [])
    found = [part(k, kept, {1: 0.2, 2: 0.0}) for k in range(1, 5)]
    known = [
        replace(one, rows=[replace(row, u=u) for row in one.rows])
        for one, u in zip(found, (0.001, 0.001, 0.003, 0.003), strict=True)
    ]
    records.add_all(lot, known, records.revision(kept))
    (trend,) = trends(records, [lot], 1)
    assert trend.u == pytest.approx(np.sqrt((2 * 1e-6 + 2 * 9e-6) / 4))
    assert trend.gauge == 0.004
    inches = trend.in_unit(INCH)
    assert (inches.u, inches.gauge) == pytest.approx((trend.u / 25.4, 0.004 / 25.4))
    assert (inches.lower, inches.upper) == pytest.approx((trend.lower / 25.4, trend.upper / 25.4))
    assert replace(trend, lower=None).in_unit(INCH).lower is None
    (other,) = trends(records, [lot], 2)
    assert other.gauge is None
    (plain,) = trends(records, [made_lot(records, "plain", [0.2], started=BEGAN + DAY)], 1)
    assert (plain.u, plain.gauge) == (None, None)


def test_parts_with_a_value_that_is_not_proven_are_counted_by_themselves(records):
    plan = two_rows()
    unsure = plan.with_characteristic(plan.sheet[0].edited(uncertainty=0.01))
    lot = made_lot(records, "unsure", [0.2, 0.295, 0.305, 0.4, None], unsure)
    other = made_lot(records, "other", [0.295], unsure, started=BEGAN + DAY)
    assert (records.counts(lot).all, records.counts(lot).unproven) == (5, 2)
    assert records.counts(other).unproven == 1
    counts = Counts().with_part(Verdict.NOT_MEASURED, unproven=True).with_part(Verdict.PASS)
    assert (counts.all, counts.missing, counts.unproven) == (2, 1, 1)


def test_lots_of_one_part_or_none_have_a_trend_or_none(records):
    single, empty = made_lot(records, "one", [0.2]), made_lot(records, "none", [])
    (trend,) = trends(records, [single, empty], 1)
    assert trend.values.tolist() == [0.2]
    assert trends(records, [empty], 1) == []
    assert failures(records, [empty]) == []
    assert failures(records, []) == []


def test_what_reads_text_says_so_and_its_texts_are_counted(records):
    plan = two_rows()
    lot = made_lot(records, "codes", [])
    found = [part(k, plan, {1: 0.2, 2: 0.0}, text=f"RPC {k // 2}", unit="") for k in range(1, 6)]
    found.append(part(6, plan, {}, unit=""))
    records.add_all(lot, found, records.revision(plan))
    (trend,) = trends(records, [lot], 1)
    assert trend.reads
    told = texts(records, [lot], 1, most=2)
    assert told.found == (("RPC 1", 2), ("RPC 2", 2))
    assert told.kinds == 4, "the reason of the one that was not read counts too"


def test_a_number_without_a_unit_is_no_text(records):
    plan = two_rows()
    lot = made_lot(records, "counts", [])
    records.add_all(lot, [part(1, plan, {1: 0.2, 2: 0.0}, unit="")], records.revision(plan))
    (trend,) = trends(records, [lot], 1)
    assert (trend.reads, trend.values.tolist()) == (False, [0.2])


def test_a_share_of_many_values_is_a_number_whatever_stands_beside_it(records):
    plan = two_rows()
    lot = made_lot(records, "shares", [])
    records.add_all(lot, [part(1, plan, {1: 0.2, 2: 0.0}, text="92.4 %")], records.revision(plan))
    (trend,) = trends(records, [lot], 1)
    assert (trend.reads, trend.values.tolist()) == (False, [0.2])


# -- two databases --------------------------------------------------------------------------------


@pytest.fixture
def line(tmp_path):
    """The records of the computer at a line."""
    found = Records(str(tmp_path / "line.db"))
    yield found
    found.close()


def sheets(records):
    """Everything there is about each part, without keys."""
    found = {}
    for view in lot_views(records):
        for one in records.parts_of(view.lot):
            sheet = part_sheet(records, one.id)
            events = tuple((e.kind, e.text, e.time) for e in sheet.events)
            key = view.lot.name, view.lot.plan, view.lot.started, one.number
            found[key] = (one.serial, one.verdict, one.scanned, sheet.rows, events, sheet.digest, sheet.station)
    return found


def test_what_is_new_is_taken_over_once_and_the_other_is_left_alone(records, line, tmp_path):
    made_lot(records, "ours", [0.2, 0.9])
    shared = made_lot(records, "shared", [0.2], started=BEGAN + DAY)
    made_lot(line, "shared", [0.2, 0.21, None], started=BEGAN + DAY)
    lot = made_lot(line, "theirs", [0.9], two_rows(upper=0.5), started=BEGAN + 2 * DAY)
    line.event(lot, Event("tool change", BEGAN + 2 * DAY, 1, {"text": "a new one"}), part=4)
    line.event(lot, Event("link lost", BEGAN + 2 * DAY + 1))
    before, ours = sheets(line), sheets(records)
    told = []
    merged = merge(records, tmp_path / "line.db", lambda done, of, what: not told.append((done, of)))
    assert (merged.added, merged.known, merged.clashing, merged.finished) == (3, 1, 0, True)
    assert told[-1] == (4, 4)
    assert sheets(line) == before
    assert sheets(records) == {**ours, **before}
    theirs = next(view.lot for view in lot_views(records) if view.lot.name == "theirs")
    assert [(e.kind, e.number) for e in records.events_of(theirs)] == [("tool change", 1), ("link lost", None)]
    (trend,) = trends(records, [shared], 1)
    np.testing.assert_array_equal(trend.values, [0.2, 0.21, np.nan])
    again = merge(records, tmp_path / "line.db")
    assert (again.added, again.known) == (0, 4)
    assert len(records.events_of(theirs)) == 2
    assert "were here already" in again.words


def test_another_part_of_the_same_number_is_left_out_and_told(records, line, tmp_path):
    made_lot(records, "lot", [0.2, 0.2])
    lot = made_lot(line, "lot", [0.2])
    line.add(lot, part(2, two_rows(), {1: 0.9, 2: 0.0}, serial="another"), line.revision(two_rows()))
    merged = merge(records, tmp_path / "line.db")
    assert (merged.added, merged.known, merged.clashing) == (0, 1, 1)
    assert "already used" in merged.words
    assert [one.serial for one in records.parts_of(lot_views(records)[0].lot)] == ["S00001", "S00002"]


def test_a_merge_that_was_stopped_goes_on_where_it_was(records, line, tmp_path, monkeypatch):
    monkeypatch.setattr(merging, "CHUNK", 2)
    made_lot(line, "lot", [0.2] * 5)
    stopped = merge(records, tmp_path / "line.db", lambda done, of, what: done < 4)
    assert (stopped.added, stopped.finished) == (4, False)
    assert stopped.words.startswith("Stopped")
    assert merge(records, tmp_path / "line.db").added == 1
    assert sheets(records) == sheets(line)


def test_records_of_an_older_form_are_taken_over_from_a_copy(records, tmp_path):
    path = tmp_path / "old.db"
    old = Records(str(path))
    made_lot(old, "old", [0.2, 0.9])
    old.close()
    db = sqlite3.connect(path)
    for view in ("v_parts", "v_values"):
        db.execute(f"drop view {view}")
    for table in ("lines", "reevaluations", "reevaluated_parts", "packed_values"):
        db.execute(f"drop table {table}")
    db.execute("drop index parts_of_lot")
    for index in ("lot", "verdict_time", "revision"):
        db.execute(f"drop index parts_by_{index}")
    db.execute("drop index values_not_passed")
    for column in ("low", "high", "least", "greatest", "u"):
        db.execute(f"alter table part_values drop column {column}")
    db.execute("alter table characteristics drop column method")
    db.execute("alter table lots drop column packed")
    db.execute("alter table events drop column fields")
    db.execute("update alembic_version set version_num = '0001'")
    db.commit()
    db.execute("pragma journal_mode = delete")
    db.close()
    before = path.read_bytes()
    assert merge(records, path).added == 2
    assert path.read_bytes() == before
    Records(str(path)).close()
    with closing(sqlite3.connect(path)) as db:
        assert db.execute("select version_num from alembic_version").fetchone() == ("0010",)


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (b"SQLite format 3\0" + b"\xff" * 4000, "cannot be read|damaged"),
        (b"not records at all " * 100, "cannot be read|damaged"),
        (None, "no file"),
    ],
)
def test_what_cannot_be_taken_over_is_refused_and_nothing_changes(records, tmp_path, content, words):
    made_lot(records, "ours", [0.2])
    before = sheets(records)
    if content is not None:
        (tmp_path / "bad.db").write_bytes(content)
    with pytest.raises(RecordsError, match=words):
        merge(records, tmp_path / "bad.db")
    if (tmp_path / "records.db").is_file():
        with pytest.raises(RecordsError, match="open already"):
            merge(records, tmp_path / "records.db")
    assert sheets(records) == before


def test_a_locked_database_is_told_and_nothing_is_lost(records, line, tmp_path):
    made_lot(line, "lot", [0.2])
    records.close()
    ours = Records(str(tmp_path / "records.db"))
    ours.patience.seconds = 0.1
    holder = sqlite3.connect(tmp_path / "records.db")
    holder.execute("begin immediate")
    with pytest.raises(RecordsError, match="locked by another program"):
        merge(ours, tmp_path / "line.db")
    assert lot_views(ours) == [], "looking goes on beside the one that writes"
    holder.rollback()
    holder.close()
    assert merge(ours, tmp_path / "line.db").added == 1
    ours.close()


def test_a_revision_whose_kind_is_gone_has_its_sheet_and_says_why_no_more(records):
    lot = made_lot(records, "lot", [0.2])
    (one,) = records.parts_of(lot)
    with records.writing() as db:
        db.exec_driver_sql("update revisions set document = replace(document, '\"spot\"', '\"gone\"')")
    assert part_sheet(records, one.id).rows[0].value == 0.2
    with pytest.raises(Exception, match=r"cannot be evaluated here.*gone"):
        plan_of(records, one)
    with pytest.raises(RecordsError, match="no longer in the records"):
        part_sheet(records, 99)


def test_the_second_migration_can_be_run_on_the_first(tmp_path):
    from alembic.config import Config
    from sqlalchemy import create_engine, inspect

    engine, config = create_engine(f"sqlite:///{tmp_path / 'm.db'}"), Config()
    config.set_main_option("script_location", str(opening.MIGRATIONS))
    for target in ("0001", "head"):
        with engine.begin() as connection:
            config.attributes["connection"] = connection
            command.upgrade(config, target)
    names = {index["name"] for index in inspect(engine).get_indexes("parts")}
    engine.dispose()
    assert {"parts_by_lot", "parts_by_verdict_time", "parts_by_revision", "parts_by_serial"} <= names


@pytest.mark.parametrize("fields", ["null", "'[1]'", "'{'", "''"])
def test_events_without_sound_fields_keep_their_words(records, fields):
    lot = records.open_lot("plan", "old")
    records.event(lot, Event("new lot", BEGAN, fields={"lot": "old"}))
    with records.writing() as db:
        db.exec_driver_sql(f"update events set fields = {fields}, text = 'In other words.'")
    (found,) = records.events_of(lot)
    assert (found.kind, found.text) == ("new lot", "In other words.")


def test_views_say_in_words_what_the_tables_hold(records):
    plan = two_rows()
    sheet = tuple(
        row.edited(balloon=Balloon.parse(name)) for row, name in zip(plan.sheet, ("4.1", "12a"), strict=True)
    )
    plan = plan.edited(sheet=(sheet[0].edited(nominal=0.2), sheet[1]))
    lot = made_lot(records, "viewed", [])
    found = [
        part(1, plan, {Balloon.parse("4.1"): 0.25, Balloon.parse("12a"): 0.0}, at=BEGAN + 0.25, serial="S1"),
        part(2, plan, {Balloon.parse("4.1"): 0.9}, serial="S2"),
    ]
    records.add_all(lot, found, records.revision(plan))
    with records.reading() as db:
        parts = db.execute(text("SELECT * FROM v_parts ORDER BY number")).mappings().all()
        values = db.execute(text("SELECT * FROM v_values ORDER BY number, balloon DESC")).mappings().all()
    assert [(one["lot"], one["serial"], one["verdict"]) for one in parts] == [
        ("viewed", "S1", "PASS"),
        ("viewed", "S2", "NOT MEASURED" if found[1].verdict is Verdict.NOT_MEASURED else str(found[1].verdict)),
    ]
    assert parts[0]["scanned"] == "2026-01-12T08:00:00.250Z"
    assert [(one["balloon"], one["verdict"]) for one in values] == [
        ("4.1", "PASS"),
        ("12a", "PASS"),
        ("4.1", "FAIL"),
        ("12a", "NOT MEASURED"),
    ]
    assert values[0]["deviation"] == pytest.approx(0.05)
    assert (values[0]["lower"], values[0]["upper"], values[0]["unit"]) == (0.1, 0.3, "mm")


def test_the_queries_of_the_manual_can_be_asked(records):
    """As they stand there, of SQLite and PostgreSQL alike."""
    made_lot(records, "asked", [0.2, 0.9, None])
    page_text = (Path(__file__).parents[2] / "docs" / "records.md").read_text()
    queries = page_text.partition("```sql\n")[2].partition("```")[0].split(";\n")
    with records.reading() as db:
        found = [db.execute(text(query)).all() for query in queries if query.strip()]
    assert len(found) == 10
    assert [(row[0], row[1]) for row in found[0]] == [("asked", 3)]
    assert float(found[0][0][2]) == pytest.approx(100.0 / 3.0)
    assert found[1] == [("1", "Rise", 1)]
