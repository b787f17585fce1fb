"""Beads along a path in the real window: strips, stretches, nodes, files and clicks."""

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QApplication
from test_window import card

from hemtra.core.marks import Dimension
from hemtra.core.zones.path_edits import moved_node
from hemtra.desktop.models.zone_drag import handle_pixels
from hemtra.runtime.demo import PLAN_FILE, TRAY
from hemtra.storage.drawings import load_drawing
from hemtra.storage.trays import TrayEntry, save_tray
from hemtra.virtual.cover_kernels import BEAD_HALF_Y, BEAD_LENGTH
from hemtra.virtual.demo import PARTS

LEFT, RIGHT = Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton
GOOD, BROKEN, WANDERING = (
    next(p for p in PARTS if p.defects == d) for d in ({}, {"bead-broken": None}, {"bead-wandering": None})
)


@pytest.fixture(scope="module")
def bead_demo(demo_folder, tmp_path_factory):
    """The demo with a good part, one with a broken bead, and one whose bead wanders."""
    folder = tmp_path_factory.mktemp("beads")
    parts = (GOOD, BROKEN, WANDERING)
    (folder / TRAY).mkdir()
    for name in (PLAN_FILE, *(f"{TRAY}/{part.file}" for part in parts)):
        (folder / name).symlink_to(demo_folder / name)
    save_tray(folder / PLAN_FILE, [TrayEntry(folder / TRAY / part.file, part.tag) for part in parts])
    return folder


@pytest.fixture
def beads(window, settled, bead_demo, qtbot):
    """A window with those parts, on the good one, its bead's offset selected."""
    window.session.plans.open(bead_demo / PLAN_FILE)
    qtbot.waitUntil(lambda: len(window.session.bench.tray.parts) == 3, timeout=120_000)
    settled(window)
    window.session.bench.select(20)
    settled(window)
    return window


def value(window, balloon):
    return next(c for c in window.session.bench.shown.result.characteristics if c.balloon == balloon)


def path_zone(window):
    return window.session.bench.document.plan.step("bead-path").zone


def on_stage(window, x, y) -> QPoint:
    return QPointF(*window.workspaces["plan"].workspace.stage.viewport.to_screen(x, y)).toPoint()


def hover(widget, x, y):
    at = QPointF(x, y)
    none = Qt.MouseButton.NoButton
    where = widget.mapToGlobal(at)
    event = QMouseEvent(QEvent.Type.MouseMove, at, where, none, none, Qt.KeyboardModifier.NoModifier)
    QApplication.sendEvent(widget, event)


def test_a_break_is_listed_and_a_click_goes_there(beads, settled, qtbot):
    workspace, true = beads.workspaces["plan"].workspace, BROKEN.cover.bead.stretches()[21][0]
    assert workspace.strips.isVisible()
    assert not workspace.strips.stretches.isVisible(), "nothing fails on the good part"
    beads.session.bench.tray.select(1)
    settled(beads)
    listed = workspace.strips.stretches
    # what is missing has no width and no height either
    assert [trouble.balloon for trouble in listed.troubles] == [18, 19, 21]
    assert (listed.troubles[2].start, listed.troubles[2].length) == (
        pytest.approx(true[0], abs=0.5),
        pytest.approx(true[1], abs=0.5),
    )
    before = workspace.stage.viewport.scale
    qtbot.mouseClick(listed.viewport(), LEFT, pos=listed.visualItemRect(listed.item(2)).center())
    settled(beads)
    shown = beads.session.bench.shown
    assert beads.session.bench.balloon == 21
    assert shown.at == pytest.approx(true[0] + true[1] / 2, abs=0.6)
    assert shown.along.absent[shown.along.nearest(shown.at)]
    assert workspace.stage.viewport.scale < before / 3
    middle = shown.along.path.curve.at(np.array([shown.at]))[0]
    assert (workspace.stage.viewport.x, workspace.stage.viewport.y) == (pytest.approx(tuple(middle), abs=1.0))


def test_the_section_follows_the_pointer_on_the_strips_and_the_stage(beads, settled, qtbot):
    beads.session.bench.tray.select(2)
    settled(beads)
    strips, true = beads.workspaces["plan"].workspace.strips.strips, WANDERING.cover.bead.stretches()[20][0]
    worst = beads.session.bench.shown.at
    assert true[0] < worst < true[0] + true[1], "at first it is looked at where it is worst"
    top, height = strips.span_of(20)
    hover(strips, strips.pixel_at(100.0), top + height / 2)
    settled(beads)
    assert beads.session.bench.shown.at == pytest.approx(100.0, abs=2.0)
    assert beads.workspaces["plan"].workspace.section.titles()[0].startswith("Across the path")
    told = [m.text for m in beads.session.bench.shown.across if isinstance(m, Dimension)]
    true = WANDERING.cover.bead.table()[round(100.0 / BEAD_LENGTH * 3286)]
    assert sorted(float(text.split()[0]) for text in told) == pytest.approx([true[1], true[0]], abs=0.15)
    QApplication.sendEvent(strips, QEvent(QEvent.Type.Leave))
    settled(beads)
    assert beads.session.bench.shown.at == worst
    qtbot.keyClick(strips, Qt.Key.Key_Home)
    settled(beads)
    assert beads.session.bench.shown.at == 0.0
    x, y = beads.session.bench.shown.along.path.curve.at(np.array([120.0]))[0]
    qtbot.mouseClick(beads.workspaces["plan"].workspace.stage, LEFT, pos=on_stage(beads, x, y))
    settled(beads)
    assert beads.session.bench.shown.at == pytest.approx(120.0, abs=1.0)


def test_a_dragged_node_takes_the_offset_with_it_until_undo(beads, settled, qtbot):
    stage, before = beads.workspaces["plan"].workspace.stage, path_zone(beads)
    assert beads.session.bench.selected_step == "bead-path"
    assert value(beads, 20).verdict == "PASS"
    zone = beads.session.bench.placed(beads.session.bench.document.plan.step("bead-path"))
    node = QPointF(*handle_pixels(zone, stage.viewport)["node-0"]).toPoint()
    qtbot.mousePress(stage, LEFT, pos=node)
    for far in (2, 4):
        qtbot.mouseMove(stage, node + QPoint(0, far))
    qtbot.mouseRelease(stage, LEFT, pos=node + QPoint(0, 4))
    settled(beads)
    moved = 4 * stage.viewport.scale
    assert value(beads, 20).verdict == "FAIL"
    assert abs(value(beads, 20).value) == pytest.approx(moved, abs=0.4)
    assert beads.session.bench.tray.agreement[0] == 2, "the good part fails now"
    beads.trigger("edit.undo")
    settled(beads)
    assert path_zone(beads) == before
    assert value(beads, 20).verdict == "PASS"


def test_nodes_are_typed_put_in_taken_out_and_the_path_turned_round(beads, settled, qtbot):
    workspace = beads.workspaces["plan"].workspace
    numbers = card(beads, "bead-path").numbers
    start = path_zone(beads)
    numbers.node.activated.emit(1)
    field = numbers.fields["x"]
    field.setFocus()
    field.selectAll()
    qtbot.keyClicks(field, "52.5")
    qtbot.keyClick(field, Qt.Key.Key_Return)
    settled(beads)
    assert path_zone(beads).node_places()[1] == pytest.approx((52.5, -BEAD_HALF_Y), abs=1e-3)
    beads.trigger("edit.undo")
    beads.trigger("path.reverse")
    settled(beads)
    assert path_zone(beads).node_places()[1] == pytest.approx(start.node_places()[-1], abs=1e-3)
    beads.trigger("edit.undo")
    place = start.curve().at(np.array([20.0]))[0]
    menu = workspace.paths.menu(-1, tuple(place))
    next(a for a in menu.actions() if a.text() == "Node here").trigger()
    settled(beads)
    assert len(path_zone(beads).nodes) == len(start.nodes) + 1
    assert beads.session.bench.node == 1
    assert value(beads, 20).verdict == "PASS"
    beads.trigger("path.less")
    settled(beads)
    assert path_zone(beads).node_places() == pytest.approx(start.node_places(), abs=1e-3)
    qtbot.mouseClick(workspace.stage, RIGHT, pos=on_stage(beads, *place))
    offered = QApplication.activePopupWidget()
    assert [a.text() for a in offered.actions()] == ["Node here", "Reverse", "Open it"]
    offered.close()


def test_a_radius_too_large_is_refused_in_words(beads, settled):
    before = path_zone(beads)
    beads.workspaces["plan"].workspace.paths._ask_radius("bead-path", 1)
    beads.workspaces["plan"].workspace.asked.form.wanted.emit({"radius": 60.0})
    assert "rounded more than their sides are long" in beads.message_bar.text.text()
    assert path_zone(beads) == before


@pytest.mark.parametrize("suffix", [".dxf", ".csv"])
def test_a_path_goes_out_to_a_file_and_comes_back(beads, settled, tmp_path, qtbot, suffix):
    files, whole = beads.workspaces["plan"].workspace.path_files, path_zone(beads)
    path = tmp_path / f"bead{suffix}"
    files.write(path)
    settled(beads)
    assert load_drawing(path).paths[0].length == pytest.approx(whole.curve().length, abs=0.05)
    shifted = moved_node(whole, 0, 0.0, -3.0)
    plan = beads.session.bench.document.plan
    beads.session.bench.document.edit("away", plan.with_step(plan.step("bead-path").edited(zone=shifted)))
    settled(beads)
    assert value(beads, 20).verdict != "PASS"
    files.read(path)
    qtbot.waitUntil(lambda: files.chooser is not None, timeout=120_000)
    chooser = files.chooser
    chooser.place.setCurrentIndex(chooser.place.findText("in the frame of “Cover outline”"))
    chooser.taken.emit()
    settled(beads)
    assert value(beads, 20).verdict == "PASS", "its drawing has the part's own origin"
    assert path_zone(beads).closed


def test_a_damaged_drawing_changes_nothing(beads, settled, tmp_path):
    (tmp_path / "bad.dxf").write_bytes(b"0\nSECTION\n2\nENT")
    before = beads.session.bench.document.plan
    beads.workspaces["plan"].workspace.path_files.read(tmp_path / "bad.dxf")
    settled(beads)
    assert "bad.dxf" in beads.message_bar.text.text()
    assert beads.session.bench.document.plan is before


@pytest.mark.parametrize("clicks", [1, 5])
def test_a_bead_asked_for_by_clicks_gets_its_path(beads, settled, qtbot, clicks):
    bench, workspace = beads.session.bench, beads.workspaces["plan"].workspace
    curve = bench.shown.along.path.curve
    for balloon in range(18, 23):
        bench.select(balloon)
        beads.trigger("characteristic.delete")
    settled(beads)
    places = curve.at(np.arange(clicks) * curve.length / 5 if clicks > 1 else np.array([150.0]))
    if clicks > 1:
        # its straight sides only: corner to corner along the lower side
        places = curve.at(np.linspace(5.0, 35.0, clicks))
    workspace.new.begin("bead-width")
    for x, y in places:
        qtbot.mouseClick(workspace.stage, LEFT, pos=on_stage(beads, x, y))
    qtbot.keyClick(workspace.stage, Qt.Key.Key_Return)
    settled(beads)
    row = bench.row
    assert row.name.endswith("width")
    assert value(beads, row.balloon).value == pytest.approx(GOOD.cover.bead.truth()[18], abs=0.25)
    found = bench.shown.along.path.curve
    assert found.length == pytest.approx(curve.length if clicks == 1 else 30.0, abs=1.0)
    assert found.closed == (clicks == 1)
