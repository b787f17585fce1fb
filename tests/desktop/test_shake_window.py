"""The shake test in the window: it fills as parts are through, and what may help is one click."""

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from hemtra.core.shake.shaking import Case
from hemtra.desktop.plan.panels import shake_window
from hemtra.desktop.plan.panels.shake_window import ShakeWindow

LEFT = Qt.MouseButton.LeftButton


def opened(window):
    window.trigger("plan.shake")
    return window.session.window.findChild(ShakeWindow)


def test_what_breaks_is_listed_and_its_mend_applied(demo, settled, monkeypatch):
    tried = [Case("moved", 5.0), Case("mirrored", 1.0), Case("spikes", 1.0)]
    monkeypatch.setattr(shake_window, "cases", lambda copies: tried)
    plan, parts = demo.session.bench.document.plan, demo.session.bench.tray.parts
    shaking = opened(demo)
    settled(demo)
    rows = {shaking.table.item(k, 0).text(): k for k in range(shaking.table.rowCount())}
    assert list(rows) == ["moved", "mirrored", "spikes"]
    assert shaking.table.item(rows["moved"], 1).text() == "5 mm"
    assert shaking.table.item(rows["mirrored"], 3).text() == "refused, as they must be"
    assert "isolated points" in shaking.table.item(rows["spikes"], 3).text()
    assert shaking.message.text() == f"{3 * len(parts)} copies of {len(parts)} of {len(parts)} parts"
    shaking.table.selectRow(rows["moved"])
    assert not shaking.mend.isVisible()
    shaking.table.selectRow(rows["spikes"])
    assert shaking.mend.text().startswith("Allow ")
    broken = shaking.chosen.balloon
    QTest.mouseClick(shaking.mend, LEFT)
    settled(demo)
    changed = demo.session.bench.document.plan
    assert changed.characteristic(broken).most_spikes > plan.characteristic(broken).most_spikes
    assert shaking.table.rowCount() == 3, "it is tried again at once"
    shaking.close()
    demo.trigger("edit.undo")
    assert demo.session.bench.document.plan == plan


def test_a_mend_of_another_plan_is_not_applied_over_what_was_done_since(demo, settled, monkeypatch):
    monkeypatch.setattr(shake_window, "cases", lambda copies: [Case("spikes", 1.0)])
    bench = demo.session.bench
    shaking = opened(demo)
    settled(demo)
    shaking.table.selectRow(0)
    changed = bench.document.plan.with_characteristic(bench.document.plan.characteristic(1).edited(name="New"))
    bench.document.edit("since", changed)
    QTest.mouseClick(shaking.mend, LEFT)
    assert bench.document.plan.characteristic(1).name == "New"
    assert shaking.message.text().startswith("The plan has changed since")
    QTest.mouseClick(shaking.again, LEFT)
    shaking.start()  # once more while the first is in progress, whose parts are not counted
    settled(demo)
    parts = len(bench.tray.parts)
    assert shaking.message.text() == f"{parts} copies of {parts} of {parts} parts"
    shaking.close()


def test_closing_it_ends_it(demo, settled):
    shaking = opened(demo)
    task = demo.session.tasks.running[-1]
    assert not shaking.again.isEnabled()
    QTest.keyClick(shaking, Qt.Key.Key_Escape)
    assert task.cancelled
    settled(demo)
    assert not demo.session.tasks.running
