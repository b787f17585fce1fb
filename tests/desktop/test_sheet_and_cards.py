"""The sheet's groups, search and menu, patterns, inputs, cut-outs and section zones, in the real window."""

import re

import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QGuiApplication, QImage
from PySide6.QtWidgets import QApplication, QFileDialog
from test_window import card, drag, retype

from hemtra.core.plan.document import Characteristic, Step
from hemtra.core.plan.limits import Verdict
from hemtra.core.zones.zone import RectangleZone
from hemtra.desktop.models.zone_drag import handle_pixels, pieces_of


def balloons(window) -> list[int]:
    return [row.row.balloon for row in window.workspaces["plan"].workspace.sheet.items]


def test_rows_are_grouped_searched_and_moved(demo, qtbot, settled):
    bench, sheet = demo.session.bench, demo.workspaces["plan"].workspace.sheet
    bench.select(6)
    settled(demo)
    retype(qtbot, card(demo).group, "Hub")
    settled(demo)
    assert balloons(demo)[:2] == [1, 2]
    assert balloons(demo)[-1] == 6, "a group of its own, below those without one"
    demo.trigger("characteristic.earlier")
    assert bench.document.plan.sheet[4].balloon == 6
    demo.trigger("sheet.find")
    qtbot.keyClicks(sheet.query, "hub")
    assert balloons(demo) == [7, 6]
    qtbot.keyClick(sheet, Qt.Key.Key_Escape)
    assert len(balloons(demo)) == 24
    retype(qtbot, card(demo).number, "3")
    assert bench.document.plan.characteristic(6) is not None, "3 is taken"
    retype(qtbot, card(demo).number, "60")
    assert bench.balloon == 60
    demo.trigger("sheet.renumber")
    assert [c.balloon for c in bench.document.plan.sheet] == list(range(1, 25))


def test_a_row_is_switched_off_hidden_and_counted_from_the_reference(demo, settled):
    bench, workspace = demo.session.bench, demo.workspaces["plan"].workspace
    bench.select(1)
    demo.trigger("characteristic.off")
    settled(demo)
    part = next(p for p in bench.tray.parts if p.name == "cover-03")
    assert 1 not in {c.balloon for c in part.result.characteristics}
    demo.trigger("edit.undo")
    demo.trigger("characteristic.hide")
    settled(demo)
    workspace.stage.grab()
    assert 1 not in {b.evaluated.balloon for b in workspace.stage.marks.balloons}
    workspace.rows.show_menu(1, workspace.mapToGlobal(QPoint(60, 60)))
    menu = QApplication.activePopupWidget()
    labels = [action.text() for action in menu.actions()]
    assert "Nominal from the reference part" in labels
    menu.close()
    demo.trigger("characteristic.nominal")
    settled(demo)
    assert bench.row.nominal == pytest.approx(4.01, abs=0.02)
    demo.trigger("characteristic.master")
    settled(demo)
    assert bench.shown.result.characteristics[0].value == pytest.approx(0.0, abs=1e-6)


def test_a_feature_is_repeated_from_numbers_typed(demo, qtbot, settled):
    bench, patterns = demo.session.bench, demo.workspaces["plan"].workspace.asked
    bench.select(11)
    settled(demo)
    demo.trigger("zone.grid-of")
    for name, text in (("columns", "2"), ("rows", "1"), ("dx", "x")):
        patterns.form.fields[name].setText(text)
    qtbot.keyClick(patterns.form.fields["dx"], Qt.Key.Key_Return)
    assert patterns.form is not None, "a word is no distance"
    patterns.form.fields["dx"].setText("-70")
    qtbot.keyClick(patterns.form.fields["dx"], Qt.Key.Key_Return)
    assert patterns.form is None
    assert bench.document.undo_label == "grid of Beside the pocket"
    demo.trigger("edit.undo")
    demo.trigger("zone.circle-of")
    qtbot.keyClick(patterns.form, Qt.Key.Key_Escape)
    assert patterns.form is None


def test_an_input_is_connected_from_the_list_and_on_the_stage(demo, settled):
    bench, workspace = demo.session.bench, demo.workspaces["plan"].workspace
    bench.select(1)
    settled(demo)
    buttons = card(demo).step_card.inputs
    assert buttons.buttons["point"].text() == "point: Boss NE top"
    buttons._fill("point")
    action = next(a for a in buttons.buttons["point"].menu().actions() if a.text() == "Hub top")
    action.trigger()
    settled(demo)
    assert bench.shown.result.characteristics[0].verdict is Verdict.FAIL
    card(demo).step_card.inputs.pick_wanted.emit("boss-ne", "point")
    assert "click what is to be its" in workspace.stage.prompt
    zone = bench.placed(bench.document.plan.step("boss-sw-top"))
    workspace.stage.place_picked.emit(zone.x + 4.2, zone.y)
    settled(demo)
    assert bench.document.plan.step("boss-ne").inputs["point"] == ("boss-sw-top",)
    workspace.connections.add_step_preparation("boss-sw-top", "smooth")
    settled(demo)
    assert bench.document.plan.step("boss-sw-top").inputs["data"] == ("smooth",)
    users = card(demo, "boss-sw-top").inputs
    users._fill_users()
    next(a for a in users.users.menu().actions() if a.text() == "Boss SW height").trigger()
    assert bench.balloon == 3


def test_a_cut_out_is_dragged_by_its_own_handles(demo, qtbot, settled):
    bench, stage = demo.session.bench, demo.workspaces["plan"].workspace.stage
    bench.select(6)
    settled(demo)
    demo.trigger("zone.cut")
    settled(demo)
    step = bench.document.plan.step(bench.selected_step)
    before = step.zone.cut[0]
    (name, piece), *_ = pieces_of(bench.placed(step)).items()
    corner = handle_pixels(piece, stage.viewport)["corner-0"]
    drag(qtbot, stage, QPointF(*corner).toPoint(), (QPointF(*corner) + QPointF(-12, 12)).toPoint())
    settled(demo)
    after = bench.document.plan.step(step.id).zone
    assert name == "cut-0:"
    assert after.cut[0].width > before.width + 0.5
    assert (after.x, after.y, after.width) == (step.zone.x, step.zone.y, step.zone.width)


def test_a_zone_on_a_section_is_drawn_and_dragged(demo, qtbot, settled):
    bench, workspace = demo.session.bench, demo.workspaces["plan"].workspace
    plan = bench.document.plan
    zone = RectangleZone(x=0, y=22, width=110, height=1)
    new = (
        Step(id="cut", name="Cut", kind="section", zone=zone, follow=plan.step("boss-ne-top").follow),
        Step(id="top", name="Top", kind="extreme", inputs={"section": ("cut",)}, params={"which": "highest"}),
        Step(id="high", name="High", kind="height", inputs={"point": ("top",), "plane": ("plane-a",)}),
    )
    # the bores of the bosses are not seen, and could hold what is higher
    row = Characteristic(balloon=40, name="High", step="high", nominal=4, lower=3.9, upper=4.1)
    sheet = (*plan.sheet, row.edited(least_coverage=90.0))
    bench.document.edit("section", plan.edited(steps=(*plan.steps, *new), sheet=sheet))
    bench.select(40)
    bench.select_step("top")
    settled(demo)
    workspace.section.tools.buttons["zone"].click()
    settled(demo)
    assert bench.document.plan.step("top").zone.width == pytest.approx(55, abs=1)
    assert bench.shown.result.characteristics[-1].value < 3.9, "the bosses lie outside the middle half"
    section = workspace.section
    axes, zone = section.axes(), bench.document.plan.step("top").zone
    cut = bench.shown.result.steps["cut"].value
    right = section.zone._pixel(cut, float(zone.corners()[1][0]), float(zone.corners()[1][1]), axes.at)
    drag(
        qtbot, section, right.toPoint(), right.toPoint() + QPointF(section.frame().width() * 0.24, 0).toPoint()
    )
    settled(demo)
    assert bench.shown.result.characteristics[-1].value == pytest.approx(4.0, abs=0.1)
    retype(qtbot, section.tools.width_field, "3")
    assert bench.section_width == 3.0
    section.tools.buttons["y"].click()
    settled(demo)
    (ax, _), (bx, _) = bench.shown.line
    assert ax == pytest.approx(bx)
    section.tools.buttons["own"].click()
    settled(demo)
    assert bench.line is None


def test_a_tag_is_undone(demo, settled):
    part = demo.session.bench.tray.parts[0]
    demo.trigger("tray.tag")
    assert part.tag == "bad"
    demo.trigger("edit.undo")
    assert part.tag == "good"
    demo.trigger("edit.redo")
    assert part.tag == "bad"


def test_two_known_sizes_correct_a_row(demo, qtbot, settled):
    bench, asked = demo.session.bench, demo.workspaces["plan"].workspace.asked
    bench.select(6)
    settled(demo)
    before = bench.shown.result.characteristics[5].value
    demo.trigger("characteristic.correct")
    assert float(asked.form.fields["second"].text()) == pytest.approx(before, abs=1e-4)
    for name, text in (("first", "4"), ("first_is", "4,1"), ("second", "4"), ("second_is", "8")):
        asked.form.fields[name].setText(text)
    qtbot.keyClick(asked.form.fields["first"], Qt.Key.Key_Return)
    assert "two sizes that differ" in demo.message_bar.text.text()
    assert asked.form is not None, "what was refused can be put right"
    asked.form.fields["second"].setText("8")
    qtbot.keyClick(asked.form.fields["second"], Qt.Key.Key_Return)
    settled(demo)
    assert asked.form is None
    assert bench.shown.result.characteristics[5].value == pytest.approx(4.1 + (before - 4) * 3.9 / 4)
    demo.trigger("edit.undo")
    settled(demo)
    assert bench.shown.result.characteristics[5].value == before


def test_a_tolerance_may_count_from_what_the_reference_part_measures(demo, settled):
    rows, bench = demo.workspaces["plan"].workspace.rows, demo.session.bench
    assert rows.set_tolerance(6, "ref ±1 %")
    settled(demo)
    row = bench.document.plan.characteristic(6)
    measured = next(c for c in bench.tray.parts[0].result.characteristics if c.balloon == 6).value
    assert row.nominal == pytest.approx(measured, abs=0.006)
    assert (row.lower, row.upper) == pytest.approx((0.99 * row.nominal, 1.01 * row.nominal))
    assert not rows.set_tolerance(6, "ref and so on") or bench.document.plan.characteristic(6) == row
    settled(demo)
    assert bench.document.plan.characteristic(6) == row, "nonsense changes nothing"


def test_a_card_says_what_its_value_rests_on(demo, settled):
    bench = demo.session.bench
    bench.select(15)
    settled(demo)
    rests = card(demo).rests
    assert rests.isVisible()
    assert "seen 100.0 %" in rests.text()
    assert re.search(r"a perfect part would read 0\.00\d mm at this spacing and noise$", rests.text())
    bench.select(18)
    settled(demo)
    assert "perfect" not in card(demo).rests.text()
    assert card(demo).rests.text().startswith("min ")
    row = bench.document.plan.characteristic(15).edited(note="Measures otherwise since then.")
    bench.document.edit("note", bench.document.plan.with_characteristic(row))
    bench.select(15)
    settled(demo)
    assert card(demo).note.text() == "Measures otherwise since then."
    flatness = bench.document.plan.step("flange-flatness")
    near = flatness.edited(params={**flatness.params, "points": "near"})
    bench.document.edit("near", bench.document.plan.with_step(near))
    settled(demo)
    assert rests_of(demo).startswith("Takes points near the plane only, which does not prove form.")


def rests_of(window):
    return card(window).rests.text()


def test_a_click_cuts_a_feature_out_of_the_selected_zone(demo, settled):
    bench, workspace = demo.session.bench, demo.workspaces["plan"].workspace
    bench.select(15)
    bench.select_step("flange-n")
    settled(demo)
    before = bench.document.plan.step("flange-n").zone
    zone = bench.document.plan.step("flange-n").zone.model_copy(
        update={"width": 100.0, "height": 16.0, "y": 23.0}
    )
    bench.document.edit(
        "wide", bench.document.plan.with_step(bench.document.plan.step("flange-n").edited(zone=zone))
    )
    settled(demo)
    demo.trigger("zone.cut-feature")
    assert "click what does not belong" in workspace.stage.prompt
    workspace.stage.place_picked.emit(42.0, 22.0)
    settled(demo)
    (piece,) = bench.document.plan.step("flange-n").zone.cut
    assert piece.width == pytest.approx(14.0, abs=0.3), "the boss with a margin"
    demo.trigger("edit.undo")
    demo.trigger("edit.undo")
    settled(demo)
    assert bench.document.plan.step("flange-n").zone == before


def test_lengths_are_typed_in_the_unit_of_the_drawing(demo, qtbot, settled):
    bench = demo.session.bench
    field = card(demo, "boss-ne-top").numbers.fields["width"]
    retype(qtbot, field, "0.25 in")
    settled(demo)
    assert bench.document.plan.step("boss-ne-top").zone.width == 6.35
    row = demo.workspaces["plan"].workspace.sheet.row_of(1)
    retype(qtbot, row.tolerance, "0.1575 ±0.004 in")
    settled(demo)
    limits = bench.document.plan.characteristic(1)
    assert (limits.lower, limits.upper) == pytest.approx((3.8989, 4.1021))
    before = bench.document.plan
    retype(qtbot, row.tolerance, "4.00 ±50 µm")
    assert "not clear which unit 4.00 has" in demo.message_bar.text.text()
    assert bench.document.plan == before


def test_a_value_is_copied_and_the_stage_is_saved_as_a_picture(demo, settled, tmp_path, monkeypatch):
    bench = demo.session.bench
    bench.select(10)
    settled(demo)
    demo.trigger("characteristic.copy-value")
    value = next(c.value for c in bench.shown.result.characteristics if c.balloon == 10)
    assert float(QGuiApplication.clipboard().text()) == pytest.approx(value, rel=1e-5)
    stage = demo.workspaces["plan"].workspace.stage
    for suffix, kind in ((".png", ""), (".svg", ""), ("", "PDF (*.pdf)")):
        path = tmp_path / f"stage{suffix}"
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, to=path, k=kind: (str(to), k))
        demo.trigger("view.save-picture")
    image = QImage(str(tmp_path / "stage.png"))
    assert (image.width(), image.height()) == (2 * stage.width(), 2 * stage.height())
    assert len({image.pixel(x, 300) for x in range(0, image.width(), 7)}) > 20
    drawing = (tmp_path / "stage.svg").read_text()
    assert drawing.count("<text") >= 24, "balloons stay words"
    assert (tmp_path / "stage.pdf").read_bytes().startswith(b"%PDF")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "stage.bmp"), ""))
    demo.trigger("view.save-picture")
    assert "not in “.bmp”" in demo.message_bar.text.text()
