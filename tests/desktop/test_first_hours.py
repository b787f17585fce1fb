"""The first hours: a tour that watches what is done, hints where nothing was measured, and empty states."""

import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from test_window import LEFT, drag, retype, values

from hemtra import Plan
from hemtra.desktop.models.zone_drag import handle_pixels
from hemtra.desktop.plan.panels.sheet import EMPTY
from hemtra.desktop.shell import tour as tours
from hemtra.desktop.shell.tour import END, STEPS

CTRL = Qt.KeyboardModifier.ControlModifier


def click_balloon(qtbot, stage, number):
    stage.grab()
    balloon = next(b for b in stage.marks.balloons if b.evaluated.balloon == number)
    qtbot.mouseClick(stage, LEFT, pos=QPointF(*balloon.place).toPoint())


@pytest.mark.five_parts
def test_the_tour_ticks_itself_off(demo, qtbot, settled, monkeypatch):
    monkeypatch.setattr(tours, "DEMO_PARTS", 5)
    workspace, tour = demo.workspaces["plan"].workspace, demo.tour
    stage, bench = workspace.stage, demo.session.bench
    bench.select(6)
    demo.trigger("help.tour")
    assert tour.isVisible()
    assert tour.text.text() == STEPS[0].words

    def at(number):
        settled(demo)
        assert tour.number == number
        assert tour.count.text().count("✓") == number

    stage.setFocus()
    qtbot.keyClick(stage, Qt.Key.Key_Space)
    at(0)
    qtbot.keyClick(stage, Qt.Key.Key_Space)
    at(1)
    click_balloon(qtbot, stage, 5)
    at(2)
    click_balloon(qtbot, stage, 1)
    at(2)
    QTest.mouseClick(workspace.lineage.chips["boss-ne-top"], LEFT)
    at(3)
    zone = stage.marks.selected_zone()
    corner = QPointF(*handle_pixels(zone, stage.viewport)["corner-2"]).toPoint()
    drag(qtbot, stage, corner, corner + QPoint(18, 12))
    at(4)
    qtbot.keyClick(stage, Qt.Key.Key_Z, CTRL)
    at(5)
    retype(qtbot, workspace.sheet.row_of(1).tolerance, "4.00 ±0.35")
    at(6)
    qtbot.keyClick(stage, Qt.Key.Key_4, Qt.KeyboardModifier.AltModifier)
    at(7)
    assert tour.text.text() == END
    assert not tour.skip.isVisible()


def test_steps_can_be_skipped_and_the_tour_begun_from_nothing(window, monkeypatch):
    asked = []
    monkeypatch.setattr(window.tour, "_trigger", asked.append)
    window.trigger("help.tour")
    assert asked == ["plan.demo"]
    for number in range(len(STEPS)):
        assert window.tour.number == number
        QTest.mouseClick(window.tour.skip, LEFT)
    assert window.tour.text.text() == END


def test_what_now_is_answered_by_a_click(demo, qtbot, settled):
    bench, workspace = demo.session.bench, demo.workspaces["plan"].workspace
    plan = bench.document.plan
    bench.select(11)
    settled(demo)
    assert workspace.mends.isHidden()
    floor = plan.step("pocket-floor")
    strict = floor.edited(
        params={**floor.params, "least_data": 100.0},
        zone=floor.zone.model_copy(update={"x": 27.0, "y": 9.0}),
    )
    bench.document.edit("strict", plan.with_step(strict))
    settled(demo)
    assert values(demo)[11].verdict == "NOT MEASURED"
    assert workspace.mends.isVisible()
    assert workspace.mends.text.text().startswith("11 is not measured: because of “Pocket floor”")
    accept, _ = workspace.mends.buttons
    qtbot.mouseClick(accept, LEFT)
    settled(demo)
    assert values(demo)[11].verdict != "NOT MEASURED"
    assert workspace.mends.isHidden()
    assert demo.session.bench.document.undo_label.startswith("accept")


def test_a_row_that_waits_leads_to_the_list(demo, qtbot, settled):
    bench, workspace = demo.session.bench, demo.workspaces["plan"].workspace
    plan = bench.document.plan
    bench.document.edit("loose", plan.with_characteristic(plan.sheet[0].edited(step=None)))
    settled(demo)
    (only,) = workspace.mends.buttons
    qtbot.mouseClick(only, LEFT)
    assert workspace.new.chooser.isVisible()
    workspace.new.leave()


def test_an_empty_sheet_says_how_to_begin(demo, settled):
    sheet = demo.workspaces["plan"].workspace.sheet
    assert not sheet.hint.isVisible()
    demo.session.bench.document.edit("nothing", Plan())
    settled(demo)
    assert sheet.hint.isVisible()
    assert sheet.hint.text() == EMPTY
