"""The Records workspace driven as its user does: find, follow a characteristic, open, re-evaluate, report."""

import shutil

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog

from hemtra import Scan, save_scan
from hemtra.core.events import Event
from hemtra.core.plan.limits import Verdict
from hemtra.runtime.feeds import Arrived
from hemtra.runtime.workers import evaluate
from hemtra.storage.records import Records, pages
from hemtra.storage.records.store import PartRecord
from lots import BEGAN, DAY, made_lot, two_rows
from makers import sloped

PLAN = two_rows()
BIG = 260
"""Parts of the largest lot: more than a page."""


@pytest.fixture(scope="module")
def written(tmp_path_factory):
    """A folder with records of four lots: one large, one whose limits changed, two scanned parts, one part."""
    folder = tmp_path_factory.mktemp("records")
    records = Records(str(folder / "line.db"))
    values = (0.2 + 0.01 * np.sin(np.arange(BIG))).tolist()
    values[100] = 0.9
    values[200] = None
    made_lot(records, "large", values)
    lot = made_lot(records, "changed", [0.2] * 30, started=BEGAN + DAY)
    made_lot(records, "", [0.2] * 10, two_rows(upper=0.25), lot=lot, first=31, started=BEGAN + DAY)
    lot = made_lot(records, "scanned", [], started=BEGAN + 2 * DAY)
    for number, rise in ((1, 0.2), (2, 0.4)):
        path = folder / f"{number}.x3p"
        save_scan(Scan(sloped(slope_x=rise / 2, noise=0.002)), path)
        found = evaluate(PLAN, Arrived(str(path), 1.0, 1.0, path=path), False)
        at = BEGAN + 2 * DAY + number
        part = PartRecord(
            number,
            found.verdict,
            found.reason,
            f"S{number}",
            found.rows,
            at,
            at,
            at,
            1.0,
            scan=str(path),
            recorded=at,
        )
        key = records.add(lot, part, records.revision(PLAN))
    records.event(lot, Event("link lost", at, 2), part=key)
    made_lot(records, "one", [0.2], started=BEGAN + 3 * DAY)
    records.close()
    return folder


@pytest.fixture
def looking(window, written, tmp_path, qtbot):
    """The workspace on a copy of these records."""
    for file in written.glob("line.db*"):
        shutil.copy(file, tmp_path / file.name)
    window.session.use_records(str(tmp_path / "line.db"))
    QTest.mouseClick(window.band.tabs["records"], Qt.MouseButton.LeftButton)
    look_up(window, qtbot)
    return window


def look_up(window, qtbot):
    """Wait until everything that was asked for has come."""
    records = window.workspaces["records"].page

    def there():
        return not window.session.tasks.running and records.records is not None and records.idle

    for _ in range(3):
        qtbot.waitUntil(there, timeout=120_000)
        qtbot.wait(1)


def choose(window, qtbot, name):
    """Click a lot in the list."""
    lots = window.workspaces["records"].page.lots
    row = next(k for k, r in enumerate(lots.rows) if hasattr(r, "lot") and r.lot.name == name)
    index = lots.held.index(row)
    lots.scrollTo(index)
    QTest.mouseClick(lots.viewport(), Qt.MouseButton.LeftButton, pos=lots.visualRect(index).center())
    look_up(window, qtbot)


def cells(window, column):
    """The texts of a column of the table of parts."""
    model = window.workspaces["records"].page.parts.parts
    return [model.index(row, column).data() for row in range(model.rowCount())]


def pick(box, text):
    """Choose an entry of a combo box as a click would."""
    index = next(k for k in range(box.count()) if box.itemText(k).startswith(text))
    box.setCurrentIndex(index)
    box.activated.emit(index)


def double_click(view, index):
    """On an item of a list or table; as with a mouse, a click comes before it."""
    at = view.visualRect(index).center()
    QTest.mouseClick(view.viewport(), Qt.MouseButton.LeftButton, pos=at)
    QTest.mouseDClick(view.viewport(), Qt.MouseButton.LeftButton, pos=at)


def test_it_opens_on_all_lots_with_what_fails_most_and_its_trend(looking):
    records = looking.workspaces["records"].page
    assert [r.lot.name for r in records.lots.rows[1:]] == ["one", "scanned", "changed", "large"]
    assert len(records.bench.chosen) == 4
    assert records.filters.message.text() == "303 parts"
    first = records.failures.rows[0]
    assert (first.balloon, first.count, first.missing) == (1, 3, 1)
    assert records.bench.trend.balloon == 1
    assert not records.report_button.isEnabled(), "a report is of one lot"
    looking.grab()


def test_filters_narrow_the_parts_and_all_parts_takes_them_away(looking, qtbot):
    filters = looking.workspaces["records"].page.filters
    pick(filters.verdict, "did not pass")
    look_up(looking, qtbot)
    assert cells(looking, 0) == ["2", "201", "101"]
    assert filters.message.text() == "3 of 303 parts"
    pick(filters.verdict, "NOT MEASURED")
    look_up(looking, qtbot)
    assert cells(looking, 0) == ["201"]
    pick(filters.verdict, "any")
    filters.serial.setFocus()
    QTest.keyClicks(filters.serial, "S0001")
    QTest.keyClick(filters.serial, Qt.Key.Key_Return)
    look_up(looking, qtbot)
    assert {text[:5] for text in cells(looking, 2)} == {"S0001"}
    QTest.mouseClick(filters.clear, Qt.MouseButton.LeftButton)
    look_up(looking, qtbot)
    assert filters.message.text() == "303 parts"
    assert filters.serial.text() == ""


def test_days_that_are_none_are_marked_and_ask_for_nothing(looking, qtbot):
    filters = looking.workspaces["records"].page.filters
    day = "2026-01-13"
    for typed, wrong in (("yesterday", True), ("2026-02-31", True), (day, False)):
        filters.since.setText(typed)
        QTest.keyClick(filters.since, Qt.Key.Key_Return)
        assert bool(filters.since.property("wrong")) is wrong, typed
        if wrong:
            assert looking.workspaces["records"].page.bench.filter.since is None
    filters.until.setText(day)
    QTest.keyClick(filters.until, Qt.Key.Key_Return)
    look_up(looking, qtbot)
    assert filters.message.text() == "40 of 303 parts", "a day from its first to its last second"


def test_more_parts_come_when_the_end_of_the_list_is_reached(looking, qtbot, monkeypatch):
    choose(looking, qtbot, "large")
    table = looking.workspaces["records"].page.parts
    assert table.parts.rowCount() == pages.PAGE
    table.scrollToBottom()
    qtbot.waitUntil(lambda: table.parts.rowCount() == BIG, timeout=120_000)
    assert cells(looking, 0) == [str(number) for number in range(BIG, 0, -1)]
    assert not table.parts.canFetchMore(table.rootIndex())


def test_a_revision_is_chosen_among_those_of_the_lot(looking, qtbot):
    choose(looking, qtbot, "changed")
    filters = looking.workspaces["records"].page.filters
    assert filters.revision.count() == 3
    filters.revision.setCurrentIndex(1)
    filters.revision.activated.emit(1)
    look_up(looking, qtbot)
    assert len(cells(looking, 0)) in (10, 30)
    choose(looking, qtbot, "one")
    assert filters.revision.currentIndex() == 0, "of another lot"
    assert cells(looking, 0) == ["1"]


def test_limits_that_changed_are_two_series_with_statistics_of_their_own(looking, qtbot):
    choose(looking, qtbot, "changed")
    trend = looking.workspaces["records"].page.trend
    shown = [(s.trend.upper, s.statistics.count) for s in looking.workspaces["records"].page.bench.trend.series]
    assert shown == [(0.3, 30), (0.25, 10)]
    assert trend.chosen == 1, "the newest"
    QTest.mouseClick(trend, Qt.MouseButton.LeftButton, pos=trend.chips()[0].center().toPoint())
    assert trend.chosen == 0
    looking.grab()


def test_the_trend_is_looked_at_closer_and_a_click_on_a_part_opens_it(looking, qtbot):
    choose(looking, qtbot, "large")
    records, trend = looking.workspaces["records"].page, looking.workspaces["records"].page.trend
    whole = trend.view
    QTest.keyClick(trend, Qt.Key.Key_Plus)
    assert trend.view[1] - trend.view[0] < whole[1] - whole[0]
    QTest.keyClick(trend, Qt.Key.Key_Home)
    trend.zoom(20.0, 100.5 / BIG)
    spot = trend.chart.shown(100, 0.9)
    near, k = trend.part_near(spot)
    assert near.values[k] == 0.9
    trend.grab()
    QTest.mouseMove(trend, spot.toPoint())
    QTest.mouseClick(trend, Qt.MouseButton.LeftButton, pos=spot.toPoint())
    look_up(looking, qtbot)
    assert records.pages.currentWidget() is records.part
    assert "Part 101 of large · FAIL" in records.part.title.text()
    assert "scan not stored" in records.part.missing.text()
    assert records.part.pictures.currentIndex() == 1
    QTest.keyClick(records.part.sheet, Qt.Key.Key_Escape)
    assert records.pages.currentIndex() == 0
    QTest.keyClick(trend, Qt.Key.Key_Home)
    assert trend.view == whole


def test_a_drag_of_the_trend_goes_along_and_opens_nothing(looking, qtbot):
    choose(looking, qtbot, "large")
    records, trend = looking.workspaces["records"].page, looking.workspaces["records"].page.trend
    trend.zoom(8.0)
    before, start = trend.view, trend.frame.center().toPoint()
    QTest.mousePress(trend, Qt.MouseButton.LeftButton, pos=start)
    QTest.mouseMove(trend, start + QPointF(-60, 0).toPoint())
    QTest.mouseRelease(trend, Qt.MouseButton.LeftButton, pos=start + QPointF(-60, 0).toPoint())
    assert trend.view[0] > before[0]
    assert trend.view[1] - trend.view[0] == pytest.approx(before[1] - before[0])
    assert records.pages.currentIndex() == 0


@pytest.mark.parametrize("zoomed", [False, True])
def test_a_stretch_of_the_trend_is_marked_and_looked_at_closer(looking, qtbot, zoomed):
    choose(looking, qtbot, "large")
    trend = looking.workspaces["records"].page.trend
    if zoomed:
        trend.zoom(2.0)
    (first, last), frame = trend.view, trend.frame
    start, end = (QPointF(frame.left() + share * frame.width(), 80).toPoint() for share in (0.75, 0.25))
    shift = Qt.KeyboardModifier.ShiftModifier if zoomed else Qt.KeyboardModifier.NoModifier
    QTest.mousePress(trend, Qt.MouseButton.LeftButton, shift, start)
    QTest.mouseMove(trend, end)
    QTest.mouseRelease(trend, Qt.MouseButton.LeftButton, shift, end)
    wide = last - first
    assert trend.view == pytest.approx((first + wide / 4, last - wide / 4), abs=wide / 100)
    QTest.mouseDClick(trend, Qt.MouseButton.LeftButton, pos=frame.center().toPoint())
    assert trend.view[1] - trend.view[0] >= BIG


def test_a_part_with_its_scan_is_seen_as_it_was(looking, qtbot):
    choose(looking, qtbot, "scanned")
    records, table = looking.workspaces["records"].page, looking.workspaces["records"].page.parts
    index = table.parts.index(0, 0)
    double_click(table, index)
    look_up(looking, qtbot)
    part = records.part
    assert "Part 2 of scanned · FAIL" in part.title.text()
    assert part.notes.text() == "link lost: The I/O module does not answer; check its power, cable and address."
    assert part.pictures.currentIndex() == 0
    assert part.bench.balloon == 1, "what failed is shown first"
    assert part.bench.shown.result.characteristics[0].value == part.seen.sheet.rows[0].value
    assert {"up", "down"} <= set(part.bench.shown.evidence)
    before = part.bench.document.plan
    zone = part.bench.placed(before.step("up"))
    part.bench.select_step("up")
    at = QPointF(*part.stage.viewport.to_screen(zone.x, zone.y)).toPoint()
    QTest.mousePress(part.stage, Qt.MouseButton.LeftButton, pos=at)
    QTest.mouseMove(part.stage, at + QPointF(40, 40).toPoint())
    QTest.mouseRelease(part.stage, Qt.MouseButton.LeftButton, pos=at + QPointF(40, 40).toPoint())
    assert part.bench.document.plan is before, "evidence is looked at and never moved"
    looking.grab()
    QTest.keyClick(part.sheet, Qt.Key.Key_PageDown)
    look_up(looking, qtbot)
    assert "Part 1 of scanned · PASS" in part.title.text()
    assert not part.notes.isVisible()


def test_what_no_longer_gives_its_numbers_says_so(looking, qtbot, written, tmp_path):
    path = written / "2.x3p"
    kept = path.read_bytes()
    try:
        save_scan(Scan(sloped(slope_x=0.25 / 2)), path)
        records = looking.workspaces["records"].page
        choose(looking, qtbot, "scanned")
        records.open_part(records.bench.parts[0].id)
        look_up(looking, qtbot)
        assert "Re-evaluation differs: 1 Rise gives 0.25" in records.part.notes.text()
        assert records.part.seen.sheet.rows[0].verdict is Verdict.FAIL
    finally:
        path.write_bytes(kept)


def test_a_double_click_on_what_fails_lists_its_parts(looking, qtbot):
    records = looking.workspaces["records"].page
    index = records.failures.held.index(0)
    double_click(records.failures, index)
    look_up(looking, qtbot)
    assert cells(looking, 0) == ["2", "201", "101"]
    assert records.filters.balloon.currentData() == 1


def test_failed_parts_go_to_the_tray_with_one_click(looking, qtbot):
    choose(looking, qtbot, "scanned")
    told = []
    looking.session.notifications.notified.connect(lambda notice: told.append(notice.text))
    QTest.mouseClick(looking.workspaces["records"].page.tray_button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(looking.session.bench.tray.parts) == 1, timeout=120_000)
    assert looking.session.bench.tray.parts[0].path.name == "2.x3p"
    assert told == ["1 of 1 parts go to the tray of the Plan workspace."]
    choose(looking, qtbot, "large")
    QTest.mouseClick(looking.workspaces["records"].page.tray_button, Qt.MouseButton.LeftButton)
    look_up(looking, qtbot)
    assert "None of the 2 parts has a scan" in told[-1]


def test_a_lot_is_evaluated_by_the_present_plan_and_lists_what_changes(looking, qtbot, monkeypatch, tmp_path):
    records = looking.workspaces["records"].page
    choose(looking, qtbot, "scanned")
    assert not records.reevaluate_button.isEnabled(), "there is no plan yet"
    closer = PLAN.with_characteristic(PLAN.sheet[0].edited(lower=0.1, upper=0.5))
    looking.session.bench.document.open(closer, None, None)
    QTest.mouseClick(records.reevaluate_button, Qt.MouseButton.LeftButton)
    look_up(looking, qtbot)
    assert records.pages.currentWidget() is records.reevaluated
    table = records.reevaluated.table
    assert [table.item(0, column).text() for column in range(4)] == ["2", "S2", "FAIL", "PASS"]
    assert table.rowCount() == 1
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "c.csv"), ""))
    QTest.mouseClick(records.reevaluated.save_button, Qt.MouseButton.LeftButton)
    look_up(looking, qtbot)
    assert len((tmp_path / "c.csv").read_text().splitlines()) == 2
    QTest.mouseClick(records.reevaluated.tray_button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(looking.session.bench.tray.parts) == 1, timeout=120_000)
    looking.grab()
    records.reevaluated._open(0)
    look_up(looking, qtbot)
    assert "Part 2 of scanned" in records.part.title.text()


def test_reports_and_exports_are_saved_where_asked(looking, qtbot, monkeypatch, tmp_path):
    records = looking.workspaces["records"].page
    choose(looking, qtbot, "scanned")
    asked = (
        ("lot.pdf", "PDF (*.pdf)"),
        ("lot", "Table, one row a part (*.csv)"),
        ("part.pdf", ""),
        ("fa.xlsx", ""),
    )
    files = iter(asked)
    monkeypatch.setattr(
        QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / (found := next(files))[0]), found[1])
    )
    QTest.mouseClick(records.report_button, Qt.MouseButton.LeftButton)
    look_up(looking, qtbot)
    QTest.mouseClick(records.export_button, Qt.MouseButton.LeftButton)
    look_up(looking, qtbot)
    records.open_part(records.bench.parts[0].id)
    look_up(looking, qtbot)
    QTest.mouseClick(records.part.report, Qt.MouseButton.LeftButton)
    look_up(looking, qtbot)
    QTest.mouseClick(records.part.first_article, Qt.MouseButton.LeftButton)
    look_up(looking, qtbot)
    assert (tmp_path / "fa.xlsx").read_bytes().startswith(b"PK")
    for name in ("lot.pdf", "part.pdf"):
        assert (tmp_path / name).read_bytes().startswith(b"%PDF")
    assert len((tmp_path / "lot.csv").read_text().splitlines()) == 3
    assert looking.message_bar.isVisible()


def test_records_of_another_computer_are_taken_over(looking, qtbot, tmp_path):
    other = Records(str(tmp_path / "other.db"))
    made_lot(other, "theirs", [0.2, 0.9], started=BEGAN + 5 * DAY)
    other.close()
    records = looking.workspaces["records"].page
    records.record_actions.merge(tmp_path / "other.db")
    look_up(looking, qtbot)
    assert "2 parts merged" in looking.message_bar.text.text()
    assert records.lots.rows[1].lot.name == "theirs"


def test_damaged_records_say_so_and_those_that_are_open_stay(looking, qtbot, tmp_path, window):
    records = looking.workspaces["records"].page
    (tmp_path / "bad.db").write_bytes(b"SQLite format 3\0" + b"\xff" * 4000)
    records.open(str(tmp_path / "bad.db"))
    qtbot.waitUntil(lambda: "is damaged" in looking.message_bar.text.text(), timeout=120_000)
    records.show_now()
    look_up(looking, qtbot)
    assert len(records.lots.rows) == 5


def test_without_records_it_says_what_to_do(window, qtbot, tmp_path):
    window.session.use_records(str(tmp_path / "new" / "records.db"))
    window.show_workspace("records")
    look_up(window, qtbot)
    records = window.workspaces["records"].page
    assert records.pages.currentWidget() is records.empty
    assert "Start a line in the Run workspace" in records.empty.text()
    assert not records.export_button.isEnabled()
    (tmp_path / "bad.db").write_text("no database" * 100)
    window.workspaces["records"].page.stop()
    window.session.use_records(str(tmp_path / "bad.db"))
    window.show_workspace("records")
    qtbot.waitUntil(lambda: "is damaged" in records.empty.text(), timeout=120_000)


def test_operators_look_back_and_letters_change_no_plan(demo, qtbot, written, tmp_path):
    shutil.copy(written / "line.db", tmp_path / "line.db")
    demo.session.use_records(str(tmp_path / "line.db"))
    demo.show_workspace("records")
    look_up(demo, qtbot)
    tag, shown = demo.session.bench.tray.current.tag, demo.session.bench.tray.current
    demo.workspaces["records"].page.trend.setFocus()
    for key in (Qt.Key.Key_T, Qt.Key.Key_Space, Qt.Key.Key_Delete):
        QTest.keyClick(demo.workspaces["records"].page.trend, key)
    assert (demo.session.bench.tray.current, demo.session.bench.tray.current.tag) == (shown, tag)
    plan = demo.session.bench.document.plan
    demo.session.bench.document.edit("limit", plan.with_characteristic(plan.sheet[0].edited(upper=4.2)))
    QTest.keyClick(demo.workspaces["records"].page.trend, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert demo.session.bench.document.plan.sheet[0].upper == 4.2, "undo belongs to the Plan workspace"
    demo.session.lock.locked = True
    demo.refresh()
    demo.show_workspace("run")
    QTest.mouseClick(demo.band.tabs["records"], Qt.MouseButton.LeftButton)
    look_up(demo, qtbot)
    assert demo.workspaces["records"].page.isVisible()
    assert not demo.workspaces["records"].page.tray_button.isEnabled()
    assert demo.workspaces["records"].page.export_button.isEnabled()
    demo.session.lock.locked = False
