"""The window of all lines: what each does, what it fails most, and one that is gone is forgotten."""

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from sqlalchemy import text

from hemtra.desktop.records.lines_window import EMPTY, LinesWindow
from hemtra.storage.records import Records
from hemtra.storage.records.lines import LineState, say
from lots import BEGAN, made_lot, two_rows


def test_lines_are_shown_with_what_they_fail_most_and_lost_ones_forgotten(window, settled, tmp_path):
    window.trigger("records.lines")
    lines = window.session.window.findChild(LinesWindow)
    settled(window)
    assert lines.message.text() == EMPTY
    records = Records(str(tmp_path / "r.db"))
    made_lot(records, "lot 1", [0.2, 0.9, 0.9, 0.2])
    plan = two_rows().name
    say(records, LineState("bench A", "pc 1", plan, "lot 1", "runs", 4, 2, 0, 0.08, BEGAN))
    say(records, LineState("bench B", "pc 2", plan, "none", "runs", 0, 0, 3, 0.0, BEGAN))
    with records.writing() as db:
        db.execute(text("update lines set seen = 0 where name = 'bench B'"))
    window.session.use_records(str(tmp_path / "r.db"))
    lines.look()
    settled(window)
    cells = [[lines.table.item(row, column).text() for column in range(10)] for row in range(2)]
    assert cells[0] == ["bench A", "pc 1", "runs", plan, "lot 1", "4", "50.0 %", "1 Rise: 2", "80 ms", "0"]
    assert cells[1] == ["bench B", "pc 2", "lost", plan, "none", "0", "–", "", "–", "3"]
    lines.table.selectRow(0)
    assert not lines.drop.isEnabled(), "one that runs is not forgotten"
    lines.table.selectRow(1)
    QTest.mouseClick(lines.drop, Qt.MouseButton.LeftButton)
    settled(window)
    assert [one.line.name for one in lines.shown] == ["bench A"]
    records.close()
    lines.close()
