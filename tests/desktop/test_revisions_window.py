"""Revisions in the window: saved with what was done, compared, tried on parts and lots, and gone back to."""

import pytest
from PySide6.QtCore import Qt
from test_window import message

from hemtra import load_plan
from hemtra.storage.records import Records
from hemtra.storage.revisions import read_revisions
from lots import made_lot


@pytest.fixture
def saved(demo, settled, tmp_path):
    """The demo saved twice more: with another limit, then with a zone moved and the limit back."""
    bench, path = demo.session.bench, tmp_path / "pump.hplan"
    demo.session.plans.save_to(path)
    settled(demo)
    plan = bench.document.plan
    bench.document.edit("limits of Boss NE", plan.with_characteristic(plan.sheet[0].edited(upper=4.005)))
    demo.session.plans.save()
    settled(demo)
    zone = plan.step("pocket-floor").zone
    moved = plan.step("pocket-floor").edited(zone=zone.model_copy(update={"x": zone.x - 2}))
    bench.document.edit("zone of Pocket floor", plan.with_step(moved))
    demo.session.plans.save("floor off the wall")
    settled(demo)
    return demo, path


def cells(table):
    return [[table.item(k, c).text() for c in range(table.columnCount())] for k in range(table.rowCount())]


def test_saves_are_revisions_with_what_was_done(saved):
    demo, path = saved
    comments = [r.comment for r in read_revisions(path)]
    # the demo's own file has no revisions, and nothing was done before the first save
    assert comments[-2:] == ["limits of Boss NE", "floor off the wall"]
    assert load_plan(path) == demo.session.bench.document.plan


def test_two_are_compared_tried_and_gone_back_to(saved, qtbot, settled, tmp_path):
    demo, path = saved
    bench = demo.session.bench
    records = Records(str(tmp_path / "line.db"))
    made_lot(records, "monday", [4.003, 4.05], plan=bench.document.plan)
    records.close()
    demo.session.use_records(str(tmp_path / "line.db"))
    closed = demo.workspaces["plan"].commands.document.show_revisions()
    closed.close()  # while it is still being read
    window = demo.workspaces["plan"].commands.document.show_revisions()
    settled(demo)
    # it opens on what the last save changed
    assert "floor off the wall" in window.after.currentText()
    assert [line[2] for line in cells(window.changes)] == ["limits", "uncertainty worked out", "zone"]
    assert [line[:3] for line in cells(window.verdicts)] == [
        [p.name, "FAIL", "PASS"] for p in bench.tray.parts if p.name in ("cover-01", "cover-02")
    ]
    window.changes.selectRow(2)
    window.overlay.grab()
    before, after = window.overlay.zones()
    assert before["pocket-floor"] != after["pocket-floor"]
    assert sum(before[i] != after[i] for i in before) == 1
    # on recorded parts of a lot
    window.lots.setCurrentIndex(1)
    window.lots.activated.emit(1)
    settled(demo)
    assert window.message.text().startswith("Lot monday: ")
    # back to the revision before, as an edit that undo takes back
    qtbot.mouseClick(window.back, Qt.MouseButton.LeftButton)
    settled(demo)
    number = [r.number for r in read_revisions(path)][-2]
    assert bench.document.plan.sheet[0].upper == 4.005
    assert f"as in revision {number} now" in message(demo)
    assert bench.document.unsaved
    demo.trigger("edit.undo")
    settled(demo)
    assert bench.document.plan.sheet[0].upper == 4.1


def test_a_plan_without_revisions_says_what_makes_one(demo, settled):
    demo.session.plans.new()
    window = demo.workspaces["plan"].commands.document.show_revisions()
    settled(demo)
    assert "each save makes one" in window.trouble.text()
    assert not window.back.isEnabled()
    window.close()
