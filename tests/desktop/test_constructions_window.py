"""Features without a characteristic, and what is made of others, in the real window."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from test_window import LEFT, card, drag, message, pixel, values

from hemtra import Plan
from hemtra.core.marks import Polyline

CTRL = Qt.KeyboardModifier.ControlModifier


def click(qtbot, settled, demo, *places):
    stage = demo.workspaces["plan"].workspace.stage
    for x, y in places:
        qtbot.mouseClick(stage, LEFT, pos=pixel(stage, x, y))
    settled(demo)


def hover(qtbot, stage, x, y):
    """What is shown ahead of a click at a place."""
    qtbot.mouseMove(stage, pixel(stage, x, y) - QPoint(3, 3))
    qtbot.mouseMove(stage, pixel(stage, x, y))
    qtbot.waitUntil(lambda: stage.ahead is not None, timeout=120_000)
    stage.grab()
    return stage.ahead


def upper_edge(bench) -> int:
    """Points of the taught contour on the far edge of the part."""
    taught = bench.document.plan.step("outline").taught.columns
    return sum(abs(x) < 28 and y > 38 for x, y in zip(taught["x"], taught["y"], strict=True))


def test_an_outline_taught_on_an_empty_sheet_is_seen_and_can_be_worked_on(demo, qtbot, settled):
    bench, workspace = demo.session.bench, demo.workspaces["plan"].workspace
    bench.document.edit("nothing", Plan())
    settled(demo)
    demo.trigger("anchor.outline")
    qtbot.waitUntil(lambda: bool(bench.document.plan.steps), timeout=120_000)
    settled(demo)
    assert list(workspace.lineage.chips) == ["(scan)", "outline"]
    assert workspace.stage.marks.selected_zone().contains(np.array(0.0), np.array(0.0))
    contour = np.concatenate([strokes.ends for strokes in bench.shown.evidence["outline"].marks])
    assert np.ptp(contour[..., 0]) == pytest.approx(120.0, abs=2.0), "all of the cover's outline is drawn"
    # a cut-out and the eraser work at once
    demo.trigger("zone.cut")
    settled(demo)
    assert len(bench.document.plan.step("outline").zone.cut) == 1
    before = upper_edge(bench)
    qtbot.mouseClick(card(demo, "outline").rub, LEFT)
    drag(qtbot, workspace.stage, pixel(workspace.stage, -30, 40), pixel(workspace.stage, 30, 40))
    settled(demo)
    assert upper_edge(bench) < before / 2


@pytest.fixture
def through_bosses(demo, qtbot, settled):
    """The demo with a plane through three bosses, made by clicks and keys."""
    bench, workspace = demo.session.bench, demo.workspaces["plan"].workspace
    stage, new = workspace.stage, workspace.new
    qtbot.keyClick(stage, Qt.Key.Key_N)
    qtbot.keyClick(new.chooser, Qt.Key.Key_Equal)
    qtbot.keyClick(new.features, Qt.Key.Key_T)
    assert "in turn" in stage.prompt
    assert "L: list" in stage.prompt
    # too few are said so, and none is lost
    click(qtbot, settled, demo, (42, 22), (-42, 22))
    qtbot.keyClick(stage, Qt.Key.Key_Return)
    assert message(demo).endswith("2 clicked; click one more.")
    ahead = hover(qtbot, stage, -42, -22)
    assert ahead.text.startswith("Plane, Boss NE top – Boss NW top – Boss SW top")
    assert any(isinstance(mark, Polyline) for mark in ahead.marks)
    click(qtbot, settled, demo, (-42, -22))
    qtbot.keyClick(stage, Qt.Key.Key_Return)
    settled(demo)
    assert bench.row is None
    assert bench.card == bench.selected_step == "plane-through"
    assert workspace.card.card.step.kind == "plane-through"
    return demo


def test_the_distance_of_a_plane_to_one_of_three_spots(through_bosses, qtbot, settled):
    demo, bench = through_bosses, through_bosses.session.bench
    stage = demo.workspaces["plan"].workspace.stage
    demo.trigger("characteristic.from-planes")
    ahead = hover(qtbot, stage, 14, 0)
    assert ahead.text == "Hub plane"
    click(qtbot, settled, demo, (14, 0))
    menus = []
    monkey = pytest.MonkeyPatch()
    monkey.setattr("PySide6.QtWidgets.QMenu.popup", lambda menu, *at: menus.append(menu))
    qtbot.keyClick(stage, Qt.Key.Key_L)
    monkey.undo()
    names = {action.text(): action for action in menus[0].actions()}
    assert "Bore" not in names
    names["Plane, Boss NE top – Boss NW top – Boss SW top"].trigger()
    settled(demo)
    assert values(demo)[bench.balloon].value == pytest.approx(4.0, abs=0.05)
    # what is used stays, what is not goes
    bench.select_alone("plane-through")
    demo.trigger("anchor.delete")
    assert "is used by" in message(demo)
    demo.trigger("edit.undo")
    settled(demo)
    bench.select_alone("plane-through")
    demo.trigger("anchor.delete")
    settled(demo)
    assert "plane-through" not in {s.id for s in bench.document.plan.steps}


def test_features_are_gone_to_from_a_list(demo, settled):
    bench, workspace = demo.session.bench, demo.workspaces["plan"].workspace
    menu = workspace.connections.feature_menu()
    actions = {action.text(): action for action in menu.actions()}
    actions["Boss SE top"].trigger()
    assert (bench.balloon, bench.selected_step) == (4, "boss-se-top")
    plan = bench.document.plan
    bench.document.edit("without rows", plan.edited(sheet=plan.sheet[1:]))
    again = workspace.connections.feature_menu()
    actions = {action.text(): action for action in again.actions()}
    titles = [action.text() for action in again.actions() if action.isSeparator()]
    assert titles[0] == "No characteristic rests on"
    actions[plan.step("boss-ne").name].trigger()
    settled(demo)
    assert (bench.balloon, bench.card) == (None, "boss-ne")
