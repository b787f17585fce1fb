"""The real window, driven with pointer and keys."""

import errno

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox, QLabel, QLineEdit, QMenu, QPushButton

from hemtra import HeightMap, Scan, load_plan, save_plan, save_scan
from hemtra.core.plan.graph import preparation
from hemtra.desktop.documents import recovery
from hemtra.desktop.models.bench import ROW
from hemtra.desktop.models.zone_drag import handle_pixels
from hemtra.desktop.shell.command_search import CommandSearch, ShortcutsAndSymbols, matching
from hemtra.desktop.widgets import theme
from hemtra.runtime.demo import PLAN_FILE, TRAY

LEFT = Qt.MouseButton.LeftButton


def values(window):
    return {c.balloon: c for c in window.session.bench.shown.result.characteristics}


def pixel(stage, x, y) -> QPoint:
    return QPointF(*stage.viewport.to_screen(x, y)).toPoint()


def drag(qtbot, widget, start: QPoint, end: QPoint) -> None:
    qtbot.mousePress(widget, LEFT, pos=start)
    for share in (0.3, 0.7, 1.0):
        qtbot.mouseMove(widget, start + (end - start) * share)
    qtbot.mouseRelease(widget, LEFT, pos=end)


def card(window, link=ROW):
    """The card of a link of the lineage, opened by a click on its chip where it is not open."""
    workspace = window.workspaces["plan"].workspace
    if window.session.bench.card != link:
        QTest.mouseClick(workspace.lineage.chips[link], LEFT)
    return workspace.card.card


def retype(qtbot, field: QLineEdit, text: str) -> None:
    field.setFocus()
    field.selectAll()
    qtbot.keyClick(field, Qt.Key.Key_Delete)
    qtbot.keyClicks(field, text)
    qtbot.keyClick(field, Qt.Key.Key_Return)


def message(window) -> str:
    return window.message_bar.text.text() if window.message_bar.isVisible() else ""


@pytest.mark.five_parts
def test_demo_opens_with_all_parts_evaluated(demo):
    assert demo.session.bench.tray.agreement == (5, 5)
    assert [row.row.balloon for row in demo.workspaces["plan"].workspace.sheet.items] == list(range(1, 25))
    assert all(c.verdict == "PASS" for c in values(demo).values())
    assert demo.session.bench.balloon == 1
    assert not demo.session.bench.document.unsaved


@pytest.mark.five_parts
def test_dragging_a_zone_off_its_boss_fails_it_and_undo_brings_it_back(demo, qtbot, settled):
    stage, before = demo.workspaces["plan"].workspace.stage, demo.session.bench.document.plan
    assert demo.session.bench.selected_step == "boss-ne-top"
    drag(qtbot, stage, pixel(stage, 42 - 3.8, 22), pixel(stage, 42 - 3.8, 5))
    settled(demo)
    zone = demo.session.bench.document.plan.step("boss-ne-top").zone
    assert (zone.x, zone.y) == (pytest.approx(42, abs=0.3), pytest.approx(5, abs=0.3))
    # it lies on the rim of the pocket now
    assert values(demo)[1].verdict == "FAIL"
    assert abs(values(demo)[1].value) < 3
    assert demo.session.bench.document.unsaved
    assert demo.session.bench.tray.agreement == (2, 5), (
        "every good part fails now, and every bad one still does"
    )
    assert "Undo zone of Boss NE top" in [item.text() for item in demo.actions()]
    qtbot.keyClick(stage, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    settled(demo)
    assert demo.session.bench.document.plan == before
    assert demo.session.bench.tray.agreement == (5, 5)


def test_handles_resize_and_rotate(demo, qtbot, settled):
    stage, bench = demo.workspaces["plan"].workspace.stage, demo.session.bench
    bench.select(11)
    bench.select_step("pocket-floor")
    settled(demo)
    zone = bench.document.plan.step("pocket-floor").zone
    corner = QPointF(*handle_pixels(zone, stage.viewport)["corner-2"]).toPoint()
    drag(qtbot, stage, corner, corner + QPoint(-20, 10))
    settled(demo)
    smaller = bench.document.plan.step("pocket-floor").zone
    assert smaller.width == pytest.approx(zone.width - 20 * stage.viewport.scale, abs=0.4)
    stalk = QPointF(*handle_pixels(smaller, stage.viewport)["rotate"]).toPoint()
    drag(qtbot, stage, stalk, stalk + QPoint(30, 4))
    settled(demo)
    turned = bench.document.plan.step("pocket-floor").zone
    assert -80 < turned.rotation < -15
    assert (turned.x, turned.y) == (smaller.x, smaller.y)
    qtbot.keyClick(stage, Qt.Key.Key_Right)
    settled(demo)
    assert bench.document.plan.step("pocket-floor").zone.x == pytest.approx(
        turned.x + stage.viewport.scale, abs=2e-3
    )


def test_typing_limits_changes_the_verdict_and_nonsense_does_not(demo, qtbot, settled):
    sheet = demo.workspaces["plan"].workspace.sheet
    row = sheet.row_of(1)
    assert row.tolerance.isVisible()
    retype(qtbot, row.tolerance, "4.00 +0.005 -0.1")
    settled(demo)
    assert demo.session.bench.row.upper == 4.005
    assert values(demo)[1].verdict == "FAIL"
    assert demo.session.bench.tray.agreement[0] < 5
    retype(qtbot, row.tolerance, "about four")
    assert "is not a tolerance" in message(demo)
    assert row.tolerance.property("wrong")
    retype(qtbot, row.tolerance, "4.3 ... 3.9")
    assert "lies above" in message(demo)
    assert demo.session.bench.row.upper == 4.005
    demo.trigger("edit.undo")
    settled(demo)
    assert row.tolerance.text() == "4.00 ±0.10"


def test_a_step_by_n_and_two_clicks_is_evaluated_on_all_parts(demo, qtbot, settled):
    stage = demo.workspaces["plan"].workspace.stage
    stage.setFocus()
    qtbot.keyClick(stage, Qt.Key.Key_N)
    chooser = demo.workspaces["plan"].workspace.new.chooser
    assert chooser.isVisible()
    qtbot.keyClick(chooser, Qt.Key.Key_S)
    assert "first spot" in stage.prompt
    qtbot.mouseClick(stage, LEFT, pos=pixel(stage, -42, 26.3))
    assert "second spot" in stage.prompt
    qtbot.mouseClick(stage, LEFT, pos=pixel(stage, -25, 12))
    settled(demo)
    assert stage.prompt == ""
    row = demo.session.bench.row
    assert (row.balloon, row.nominal, row.lower, row.upper) == (25, 4.0, 3.9, 4.1)
    assert all(25 in {c.balloon for c in part.result.characteristics} for part in demo.session.bench.tray.parts)
    assert values(demo)[25].value == pytest.approx(4.0, abs=0.06)
    demo.trigger("characteristic.delete")
    settled(demo)
    assert demo.session.bench.document.plan.characteristic(25) is None
    assert demo.session.bench.balloon is None


def test_as_many_spots_as_there_are_until_enter(demo, qtbot, settled):
    stage = demo.workspaces["plan"].workspace.stage
    demo.trigger("characteristic.coplanarity")
    for x in (-42, 42):
        for y in (-22, 22):
            qtbot.mouseClick(stage, LEFT, pos=pixel(stage, x, y + 4.3))
            assert "Enter: finish" in stage.prompt
    qtbot.keyClick(stage, Qt.Key.Key_Return)
    settled(demo)
    row = demo.session.bench.row
    assert (row.balloon, row.lower) == (25, None)
    assert values(demo)[25].value == pytest.approx(values(demo)[5].value, abs=0.03)


def test_escape_leaves_and_a_click_beside_the_part_explains(demo, qtbot, settled):
    stage = demo.workspaces["plan"].workspace.stage
    demo.trigger("characteristic.height")
    qtbot.keyClick(stage, Qt.Key.Key_Escape)
    assert stage.prompt == ""
    demo.trigger("characteristic.height")
    qtbot.mouseClick(stage, LEFT, pos=QPoint(2, stage.height() - 2))
    settled(demo)
    assert "outside the scan" in message(demo)
    assert not demo.session.bench.document.unsaved


@pytest.mark.five_parts
def test_space_steps_through_the_tray_and_tags_can_be_changed(demo, qtbot, settled):
    stage, tray = demo.workspaces["plan"].workspace.stage, demo.workspaces["plan"].workspace.tray
    stage.setFocus()
    qtbot.keyClick(stage, Qt.Key.Key_Space)
    qtbot.keyClick(stage, Qt.Key.Key_Space)
    settled(demo)
    assert demo.session.bench.tray.current.name == "cover-03"
    assert values(demo)[1].verdict == "FAIL"
    card = tray.cards[2]
    qtbot.mouseClick(card, LEFT, pos=card.tag_box().center().toPoint())
    assert demo.session.bench.tray.parts[2].tag == "not measurable"
    assert demo.session.bench.tray.agreement == (4, 5), "it fails, so it was measured"
    qtbot.mouseClick(card, LEFT, pos=card.tag_box().center().toPoint())
    assert demo.session.bench.tray.parts[2].tag == "unknown"
    assert demo.session.bench.tray.agreement == (4, 4)
    qtbot.mouseClick(tray.cards[0], LEFT, pos=QPoint(20, 20))
    assert demo.session.bench.tray.current.name == "cover-01"


def test_parameters_are_edited_on_the_card_of_a_link(demo, qtbot, settled):
    take = card(demo, "boss-ne-top").fields["take"]
    assert isinstance(take, QComboBox)
    take.setCurrentIndex(take.findData("percentile"))
    take.activated.emit(take.currentIndex())
    settled(demo)
    assert demo.session.bench.document.plan.step("boss-ne-top").params["take"] == "percentile"
    retype(qtbot, card(demo, "boss-ne-top").fields["percentile"], "150")
    settled(demo)
    assert "parameter “percentile”" in message(demo)
    assert card(demo, "boss-ne-top").fields["percentile"].text() == "50"
    retype(qtbot, card(demo, "plane-a").fields["band_from"], "100")
    assert demo.session.bench.selected_step == "plane-a"
    assert "band must end above" in message(demo)


def test_a_card_stands_beside_the_section_and_gives_its_place_back(demo, qtbot, settled):
    bench, workspace = demo.session.bench, demo.workspaces["plan"].workspace
    stage, wide = workspace.stage.geometry(), workspace.section.width()
    assert not workspace.card.isVisible()
    assert card(demo, "boss-ne-top").step.id == bench.selected_step
    settled(demo)
    assert workspace.stage.geometry() == stage, "never over the stage"
    assert workspace.section.width() < wide - 300
    bench.select(6)
    assert workspace.card.card.step.id == "hub-top", "the card goes along with the row"
    qtbot.keyClick(workspace.sheet, Qt.Key.Key_Escape)
    settled(demo)
    assert not workspace.card.isVisible()
    assert workspace.section.width() == wide
    chip = workspace.lineage.chips["(scan)"]
    qtbot.mouseClick(chip, LEFT)
    assert bench.card == "(scan)"
    qtbot.mouseClick(chip, LEFT)
    assert bench.card is None


def test_stage_and_section_have_most_of_the_window(demo, settled):
    workspace = demo.workspaces["plan"].workspace
    demo.resize(1280, 800)

    def share():
        return sum(v.width() * v.height() for v in (workspace.stage, workspace.section)) / (1280 * 800)

    for row in demo.session.bench.document.plan.sheet:
        demo.session.bench.select(row.balloon)
        settled(demo)
        beside = workspace.strips.width() * workspace.strips.height() if workspace.strips.isVisible() else 0
        assert share() + beside / (1280 * 800) >= 0.55, row.name
        area = workspace.sheet.scroll_area
        assert all(not item.visibleRegion().isEmpty() for item in workspace.sheet.items)
        assert area.verticalScrollBar().maximum() == 0, "all rows are seen"
    demo.session.bench.select(11)
    card(demo, demo.session.bench.selected_step)
    assert share() >= 0.47


def test_the_section_follows_its_line(demo, qtbot, settled):
    stage, bench = demo.workspaces["plan"].workspace.stage, demo.session.bench
    (x0, y0), (_, y1) = bench.shown.line
    assert y0 == y1 == pytest.approx(22, abs=0.5)
    drag(qtbot, stage, pixel(stage, 20, y0), pixel(stage, 20, 0))
    settled(demo)
    (_, moved), _ = bench.shown.line
    assert moved == pytest.approx(0, abs=0.4)
    # it crosses the pocket now
    assert np.nanmin(bench.shown.profile.z[(bench.shown.profile.x - 35 + x0) ** 2 < 25]) < -2.4
    bench.select(2)
    settled(demo)
    assert bench.shown.line[0][1] == pytest.approx(22, abs=0.5), "another characteristic, another cut"


def test_legend_wheel_and_double_click_change_the_view(demo, qtbot):
    stage = demo.workspaces["plan"].workspace.stage
    legend, before = stage.legend, stage.legend.span
    top = QPoint(legend.width() - 10, 22)
    drag(qtbot, legend, top, top + QPoint(0, 60))
    assert legend.span[1] < before[1] - 1
    assert legend.span[0] == before[0]
    qtbot.mouseDClick(legend, LEFT, pos=top)
    assert legend.span == before
    scale = stage.viewport.scale
    at = QPointF(200, 150)
    turn = QWheelEvent(
        at, stage.mapToGlobal(at), QPoint(), QPoint(0, 240), LEFT, Qt.KeyboardModifier.NoModifier,
        Qt.ScrollPhase.NoScrollPhase, False,
    )  # fmt: skip
    QApplication.sendEvent(stage, turn)
    assert stage.viewport.scale < scale * 0.8
    qtbot.mouseDClick(stage, LEFT, pos=QPoint(100, 250))
    assert stage.viewport.scale == pytest.approx(scale)
    stage.setFocus()
    qtbot.keyClick(stage, Qt.Key.Key_I)
    assert demo.session.bench.colour == "intensity"
    assert not legend.isVisible()


def test_balloons_select_their_characteristic(demo, qtbot, settled):
    stage = demo.workspaces["plan"].workspace.stage
    stage.grab()
    eleven = next(b for b in stage.marks.balloons if b.evaluated.balloon == 11)
    qtbot.mouseClick(stage, LEFT, pos=QPointF(*eleven.place).toPoint())
    assert demo.session.bench.balloon == 11
    qtbot.keyClick(demo.workspaces["plan"].workspace.sheet, Qt.Key.Key_Down)
    assert demo.session.bench.balloon == 12


@pytest.mark.five_parts
def test_save_reopen_and_tray_beside_it(demo, settled, tmp_path, qtbot):
    row = demo.workspaces["plan"].workspace.sheet.row_of(1)
    retype(qtbot, row.tolerance, "4.00 ±0.20")
    demo.session.bench.tray.tag(demo.session.bench.tray.parts[1], "unknown")
    path = tmp_path / "mine.hplan"
    demo.session.plans.save_to(path)
    settled(demo)
    assert not demo.session.bench.document.unsaved
    assert load_plan(path).characteristic(1).upper == 4.2
    demo.session.plans.open(path)
    qtbot.waitUntil(
        lambda: demo.session.bench.document.path == path and len(demo.session.bench.tray.parts) == 5,
        timeout=120_000,
    )
    settled(demo)
    assert [p.tag for p in demo.session.bench.tray.parts[:3]] == ["good", "unknown", "bad"]
    assert demo.session.settings.recent[0] == str(path)


def test_a_save_that_fails_says_so_and_keeps_everything(demo, settled, tmp_path, monkeypatch, qtbot):
    retype(qtbot, demo.workspaces["plan"].workspace.sheet.row_of(1).tolerance, "4.00 ±0.20")
    path = tmp_path / "mine.hplan"
    save_plan(load_plan(demo.session.bench.document.path), path)
    before = path.read_bytes()

    def full(*args):
        raise OSError(errno.ENOSPC, "full")

    monkeypatch.setattr("os.fsync", full)
    demo.session.plans.save_to(path)
    settled(demo)
    monkeypatch.undo()
    assert "mine.hplan was not saved: the disk" in message(demo)
    assert demo.session.bench.document.unsaved
    assert path.read_bytes() == before


@pytest.mark.five_parts
@pytest.mark.parametrize("content", [b"PK torn", b""])
def test_a_file_that_cannot_be_opened_leaves_the_open_one(demo, settled, tmp_path, content):
    (tmp_path / "bad.hplan").write_bytes(content)
    before = demo.session.bench.document.plan
    demo.session.plans.open(tmp_path / "bad.hplan")
    settled(demo)
    assert "bad.hplan is damaged" in message(demo)
    assert demo.session.bench.document.plan is before
    assert len(demo.session.bench.tray.parts) == 5


def test_scans_alone_start_a_plan_and_odd_ones_are_told(window, settled, qtbot, tmp_path, small_demo):
    assert window.workspaces["plan"].page.currentIndex() == 0, "the empty state teaches"
    save_scan(Scan(HeightMap(np.full((9, 9), np.nan))), tmp_path / "empty.x3p")
    (tmp_path / "torn.x3p").write_bytes(b"PK")
    window.session.plans.add_scans(
        [small_demo / TRAY / "cover-01.x3p", tmp_path / "torn.x3p", tmp_path / "empty.x3p"]
    )
    qtbot.waitUntil(lambda: len(window.session.bench.tray.parts) == 2, timeout=120_000)
    settled(window)
    assert "torn.x3p is damaged" in message(window)
    assert window.workspaces["plan"].page.currentIndex() == 1
    stage = window.workspaces["plan"].workspace.stage
    window.trigger("characteristic.height")
    qtbot.mouseClick(stage, LEFT, pos=pixel(stage, 42, 26.3))
    settled(window)
    assert window.session.bench.row.nominal == 4.0
    assert values(window)[1].verdict == "PASS"
    window.session.bench.tray.select(1)
    settled(window)
    assert values(window)[1].verdict == "NOT MEASURED"
    assert "empty.x3p" in message(window)
    assert "no data at all" in message(window)


@pytest.mark.five_parts
def test_unsaved_work_comes_back_after_a_crash(demo, settled, qtbot):
    retype(qtbot, demo.workspaces["plan"].workspace.sheet.row_of(1).tolerance, "4.00 ±0.25")
    qtbot.waitUntil(lambda: recovery.own_file().exists(), timeout=120_000)
    recovery.own_file().rename(recovery.own_file().with_name("999999999-0.json"))
    demo.session.bench.document.open(load_plan(demo.session.bench.document.path), None, None)
    demo.session.unsaved.offer()
    assert "Unsaved changes to “rain-pump cover”" in message(demo)
    restore = next(b for b in demo.message_bar.findChildren(QPushButton) if b.text() == "Restore")
    qtbot.mouseClick(restore, LEFT)
    qtbot.waitUntil(lambda: len(demo.session.bench.tray.parts) == 5, timeout=120_000)
    settled(demo)
    assert demo.session.bench.row.upper == 4.25
    assert demo.session.bench.document.unsaved
    assert demo.session.bench.document.reference.name == "reference.x3p", (
        "the plan's own, not a part of the tray"
    )
    assert recovery.find() is None


def test_opening_another_plan_does_not_lose_unsaved_work(demo, settled, qtbot, small_demo):
    retype(qtbot, demo.workspaces["plan"].workspace.sheet.row_of(1).tolerance, "4.00 ±0.25")
    demo.session.plans.open(small_demo / PLAN_FILE)
    qtbot.waitUntil(lambda: not demo.session.bench.document.unsaved, timeout=120_000)
    settled(demo)
    left = recovery.own_file(0)
    assert '\\"upper\\": 4.25' in left.read_text()
    retype(qtbot, demo.workspaces["plan"].workspace.sheet.row_of(1).tolerance, "4.00 ±0.26")
    demo.close()
    assert left.exists()
    assert '\\"upper\\": 4.26' in recovery.own_file(1).read_text()


def test_command_search_finds_and_does(demo, qtbot, settled):
    demo.trigger("help.search")
    search = next(w for w in QApplication.topLevelWidgets() if isinstance(w, CommandSearch) and w.isVisible())
    qtbot.keyClicks(search.query, "dark")
    qtbot.keyClick(search.query, Qt.Key.Key_Return)
    assert theme.current() is theme.DARK
    demo.trigger("view.dark")
    assert theme.current() is theme.LIGHT
    assert demo.session.settings.dark is False
    demo.trigger("help.search")
    search = next(w for w in demo.findChildren(CommandSearch) if w.isVisible())
    qtbot.keyClick(search.query, Qt.Key.Key_Escape)
    # a list of all commands each time it is asked for would stay until the window closes
    qtbot.waitUntil(lambda: not demo.findChildren(CommandSearch))


def test_keys_and_signs_can_stay_open_beside_the_work(demo, qtbot):
    demo.trigger("help.keys")
    page = next(w for w in demo.findChildren(ShortcutsAndSymbols) if w.isVisible())
    told = " ".join(label.text() for label in page.findChildren(QLabel))
    assert "never counts as PASS" in told
    assert all(a.title in told for a in demo.actions_by_id.values() if a.keys)
    demo.session.bench.tray.step(1)
    page.close()


def test_everything_paints_on_every_part_and_characteristic(demo, settled):
    """Evidence of every kind is drawn on good and bad parts alike; Qt warnings fail this test."""
    for place, index in enumerate((2, 4)):
        demo.session.bench.tray.select(index)
        for row in demo.session.bench.document.plan.sheet[place % 2 :: 3]:
            demo.session.bench.select(row.balloon)
            settled(demo)
            shot = demo.grab().toImage()
            assert shot.width() == demo.width()
    assert demo.session.bench.shown.evidence


def test_demo_file_is_what_the_window_opened(demo, small_demo):
    assert demo.session.bench.document.path == small_demo / PLAN_FILE


def test_preparation_is_chosen_on_the_stage_and_seen_before_and_after(demo, qtbot, settled):
    tools, stage = demo.workspaces["plan"].workspace.stage.tools, demo.workspaces["plan"].workspace.stage
    document = demo.session.bench.document

    def choose(text, under=""):
        tools.fill_menu()
        menu = tools.menu
        if under:
            menu = next(a for a in menu.actions() if under in a.text()).menu()
        next(a for a in menu.actions() if a.text() == text).trigger()
        settled(demo)

    choose("Remove", under="Glare")
    raw = stage.data
    assert not tools.before.isVisible()
    choose("Add: Height band")
    choose("Add: Smooth")
    assert tools.before.isVisible()
    assert [step.kind for step in preparation(document.plan)] == ["height-band", "smooth"]
    demo.session.bench.select(6)
    settled(demo)
    changed = document.plan.step("height-band").edited(params={"low": -3.0, "high": 5.0})
    document.edit("band", document.plan.with_step(changed))
    settled(demo)
    row = next(j for j in demo.session.bench.shown.result.characteristics if j.balloon == 6)
    assert row.verdict == "NOT MEASURED", "the hub lies above the band"
    assert np.nanmax(stage.data.z) <= 5.0
    demo.session.bench.select(1)
    settled(demo)
    assert np.nanmax(demo.session.bench.shown.profile.z) <= 5.0
    qtbot.mouseClick(tools.before, Qt.MouseButton.LeftButton)
    assert stage.data is raw
    qtbot.mouseClick(tools.before, Qt.MouseButton.LeftButton)
    choose("Earlier", under="Smooth")
    assert [step.kind for step in preparation(document.plan)] == ["smooth", "height-band"]
    choose("Remove", under="Height band")
    choose("Remove", under="Smooth")
    assert document.plan.prepared is None
    assert stage.data is raw
    for _ in range(7):
        demo.trigger("edit.undo")
    settled(demo)
    assert not document.unsaved


def test_zones_take_other_shapes_and_cut_outs(demo, qtbot, settled):
    bench, stage = demo.session.bench, demo.workspaces["plan"].workspace.stage
    bench.select(1)
    bench.select_step("boss-ne-top")
    settled(demo)

    def zone():
        return bench.document.plan.step("boss-ne-top").zone

    def used():
        settled(demo)
        return dict(bench.shown.result.steps["boss-ne-top"].outcome.facts)

    def pull(handle, by):
        at = QPointF(*handle_pixels(zone(), stage.viewport)[handle]).toPoint()
        qtbot.mousePress(stage, Qt.MouseButton.LeftButton, pos=at)
        qtbot.mouseMove(stage, at + by / 2)
        qtbot.mouseMove(stage, at + by)
        qtbot.mouseRelease(stage, Qt.MouseButton.LeftButton, pos=at + by)
        settled(demo)

    demo.trigger("zone.ellipse")
    whole = used()
    demo.trigger("zone.ring")
    assert zone().shape == "ring"
    before = zone().inner
    pull("inner", QPoint(12, 0))
    assert zone().inner > before
    assert used() != whole
    demo.trigger("zone.polygon")
    nodes = len(zone().nodes)
    demo.trigger("zone.node")
    assert len(zone().nodes) == nodes + 1
    outline = zone().outline()[0]
    pull("node-0", QPoint(10, 0))
    moved = zone().outline()[0]
    assert moved[0] - outline[0] == pytest.approx(10 * stage.viewport.scale, abs=0.2)
    demo.trigger("zone.cut")
    assert len(zone().cut) == 1
    demo.grab()
    demo.trigger("zone.copy")
    bench.select_step("plane-a")
    demo.trigger("zone.mirror-x")
    assert bench.document.plan.step("plane-a").zone.x == 0
    bench.select(2)
    bench.select_step("boss-nw-top")
    demo.trigger("zone.paste")
    pasted = bench.document.plan.step("boss-nw-top").zone
    assert (pasted.shape, len(pasted.cut), pasted.x) == ("polygon", 1, -42)
    demo.trigger("zone.whole")
    assert bench.document.plan.step("boss-nw-top").zone.cut == ()
    settled(demo)
    while document_undoable(demo):
        demo.trigger("edit.undo")
    settled(demo)
    assert not bench.document.unsaved


def test_zones_are_typed_in_numbers(demo, qtbot, settled):
    bench = demo.session.bench
    bench.select(1)
    bench.select_step("boss-ne-top")
    settled(demo)

    def type_in(name, text):
        field = card(demo, "boss-ne-top").numbers.fields[name]
        field.setFocus()
        field.selectAll()
        qtbot.keyClicks(field, text)
        qtbot.keyClick(field, Qt.Key.Key_Return)
        settled(demo)
        return field.text()

    assert type_in("x", "41.5") == "41.5"
    type_in("width", "8")
    zone = bench.document.plan.step("boss-ne-top").zone
    assert (zone.x, zone.width, zone.height) == (41.5, 8.0, 10.0)
    assert type_in("width", "-3") == "8", "refused, and told why"
    assert demo.message_bar.isVisible()
    assert type_in("height", "wide") == "10"
    assert bench.document.undo_label == "zone width"


@pytest.mark.parametrize("kind", ["level", "smooth", "fill", "spikes", "height-band"])
def test_every_preparation_has_a_card(demo, settled, kind):
    demo.workspaces["plan"].workspace.steps.prepare("add", kind)
    demo.session.bench.select(1)
    settled(demo)
    assert card(demo, kind).facts.text()


def document_undoable(window):
    return bool(window.session.bench.document.undo_label)


def test_every_action_is_in_the_menu_by_its_group(demo):
    menu = QMenu(demo)
    demo.fill_menu(menu)
    groups = {action.text(): action.menu() for action in menu.actions()}
    assert set(groups) == {action.group for action in demo.actions_by_id.values()}
    shown = {(group, item.text()) for group, held in groups.items() for item in held.actions()}
    assert shown >= {(action.group, action.title) for action in demo.actions_by_id.values()} - {
        ("Edit", "Undo"),  # says what
        ("Edit", "Redo"),
    }
    recent = next(a.menu() for a in groups["Plan"].actions() if a.text() == "Recent plans")
    assert recent.actions()[0].text().endswith(PLAN_FILE)


def test_commands_are_unique_and_found_by_their_words(window):
    actions = window.actions_by_id.values()
    keys = [a.keys for a in actions if a.keys]
    assert len(set(keys)) == len(keys)
    assert [a.id for a in matching(actions, "next part")] == ["tray.next"]
    assert matching(actions, "two clicks")[0].id == "characteristic.step"
    assert matching(actions, "xyzzy") == []
    assert len(matching(actions, "")) == len(actions)
