"""Anchors in the real window: what follows what, new ones, deleted ones, and zones edited on a turned part."""

import math

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from test_window import LEFT, card, drag, pixel, retype, values

from hemtra.core.edits.anchors import followers
from hemtra.core.plan.document import Follow
from hemtra.desktop.models.zone_drag import handle_pixels


def test_a_zone_is_dragged_on_a_turned_part_and_moves_on_all(demo, qtbot, settled):
    """What the pointer moves on a part that lies turned is moved by the same in the part's own directions."""
    stage, bench = demo.workspaces["plan"].workspace.stage, demo.session.bench
    bench.tray.select(2)
    settled(demo)
    before = bench.document.plan.step("boss-ne-top").zone
    placed = bench.placed(bench.document.plan.step("boss-ne-top"))
    turn = math.radians(bench.shown.result.steps["outline"].value.rotation)
    assert abs(math.degrees(turn)) > 20
    assert math.dist((placed.x, placed.y), (before.x, before.y)) > 20
    # its zone is a ring
    turns = turn + np.radians((180, 172, 188, 164, 196, 202, 158))
    around = [(placed.x + 3.9 * math.cos(t), placed.y + 3.9 * math.sin(t)) for t in turns]
    # balloons lie over zones and are meant where they do
    x, y = next(p for p in around if stage.marks.balloon_under(stage.viewport.to_screen(*p)) is None)
    drag(qtbot, stage, pixel(stage, x, y), pixel(stage, x + 6.0, y))
    settled(demo)
    after = bench.document.plan.step("boss-ne-top").zone
    dx, dy = after.x - before.x, after.y - before.y
    assert dx == pytest.approx(6.0 * math.cos(turn), abs=0.5)
    assert dy == pytest.approx(-6.0 * math.sin(turn), abs=0.5)
    assert after.rotation == pytest.approx(0.0, abs=0.01)
    demo.trigger("edit.undo")
    settled(demo)
    assert bench.document.plan.step("boss-ne-top").zone == before


@pytest.mark.five_parts
def test_what_a_zone_follows_is_chosen_on_its_card(demo, settled):
    bench = demo.session.bench
    button = card(demo, "boss-ne-top").follow
    assert button.text() == "follows Cover outline (x, y, turn)"
    button.fill()
    labels = [action.text() for action in button.menu().actions()]
    assert labels[0] == "Follow nothing"
    assert "Follow Boss NE rim" in labels
    assert "Follow Boss NE height" not in labels
    button.menu().actions()[0].trigger()
    settled(demo)
    assert bench.document.plan.step("boss-ne-top").follow == Follow()
    # on parts that lie elsewhere the zone looks in the wrong place now
    assert bench.tray.agreement[0] < 5
    assert not bench.tray.parts[1].agrees
    demo.trigger("edit.undo")
    settled(demo)
    assert bench.tray.agreement == (5, 5)


@pytest.mark.five_parts
def test_a_new_anchor_is_put_between_and_followed(demo, settled):
    bench = demo.session.bench
    demo.workspaces["plan"].workspace.card.anchor_wanted.emit("boss-ne-top", "circle")
    settled(demo)
    plan = bench.document.plan
    assert plan.step("boss-ne-top").follow == Follow(x="circle", y="circle", rotation="outline")
    assert plan.step("circle").follow == Follow(x="outline", y="outline", rotation="outline")
    assert bench.selected_step == "circle"
    assert plan.step("circle").home is not None, "it has been found on the reference already"
    assert bench.tray.agreement == (5, 5)
    assert card(demo, "circle").header.tint == "anchor"
    demo.trigger("anchor.delete")
    settled(demo)
    assert bench.document.plan.step("boss-ne-top").follow == Follow(rotation="outline")
    bar = demo.message_bar
    assert "no anchor now" in bar.text.text()
    assert bench.tray.agreement[0] < 5
    demo.trigger("anchor.rebind")
    settled(demo)
    assert bench.document.plan.step("boss-ne-top").follow.x == "outline"
    assert bench.tray.agreement == (5, 5)


def test_an_anchor_in_use_otherwise_is_not_deleted(demo, settled):
    bench = demo.session.bench
    before = bench.document.plan
    demo.workspaces["plan"].workspace.card.follow_chosen.emit(
        "boss-ne-top", Follow(x="boss-ne-rim", y="boss-ne-rim")
    )
    settled(demo)
    bench.select(10)
    bench.select_step("boss-ne-rim")
    demo.trigger("anchor.delete")
    assert "is used by “Centre of the bosses”" in demo.message_bar.text.text()
    demo.trigger("edit.undo")
    settled(demo)
    assert bench.document.plan == before


@pytest.mark.five_parts
def test_an_outline_makes_all_zones_move(demo, qtbot, settled):
    """From a plan that follows nothing: one action, and every part is found."""
    bench = demo.session.bench
    plan = bench.document.plan
    bare = plan.edited(
        steps=tuple(s.edited(follow=Follow(), home=None) for s in plan.steps if s.id != "outline")
    )
    bench.document.edit("nothing followed", bare)
    settled(demo)
    assert bench.tray.agreement[0] < 5
    demo.trigger("anchor.outline")
    qtbot.waitUntil(lambda: len(followers(bench.document.plan, "outline")) > 10, timeout=120_000)
    settled(demo)
    assert bench.tray.agreement == (5, 5)
    assert bench.document.plan.step("outline").taught.columns["x"]


def test_contour_is_rubbed_out_on_the_stage_and_comes_back(demo, qtbot, settled):
    bench, stage = demo.session.bench, demo.workspaces["plan"].workspace.stage
    bench.select_step("outline")
    settled(demo)

    def upper_edge() -> int:
        taught = bench.document.plan.step("outline").taught.columns
        return sum(abs(x) < 18 and y > 38 for x, y in zip(taught["x"], taught["y"], strict=True))

    count = upper_edge()
    assert count > 6
    qtbot.mouseClick(card(demo, "outline").rub, LEFT)
    assert "Drag to erase" in stage.prompt
    drag(qtbot, stage, pixel(stage, -20, 40), pixel(stage, 20, 40))
    settled(demo)
    assert upper_edge() < count / 2
    qtbot.keyClick(stage, Qt.Key.Key_Escape)
    assert stage.prompt == ""
    qtbot.mouseClick(card(demo, "outline").restore, LEFT)
    settled(demo)
    assert upper_edge() == count


@pytest.mark.five_parts
def test_another_reference_measures_the_same_and_can_be_undone(demo, qtbot, settled):
    bench = demo.session.bench
    first, before, found = bench.document.reference, bench.document.plan, values(demo)[1].value
    bench.tray.select(3)
    settled(demo)
    demo.trigger("tray.reference")
    qtbot.waitUntil(lambda: bench.document.reference is bench.tray.parts[3].scan, timeout=120_000)
    settled(demo)
    assert bench.tray.agreement == (5, 5)
    assert bench.document.plan != before
    bench.tray.select(0)
    settled(demo)
    assert values(demo)[1].value == pytest.approx(found, abs=0.003)
    demo.trigger("edit.undo")
    settled(demo)
    assert bench.document.reference is first
    assert bench.document.plan == before
    assert bench.tray.agreement == (5, 5)


@pytest.mark.five_parts
def test_the_outline_taught_on_nothing_says_so_and_loses_nothing(demo, settled):
    bench = demo.session.bench
    bench.select_step("outline")
    zone = bench.document.plan.step("outline").zone
    demo.workspaces["plan"].workspace.steps.set_zone(
        "outline", zone.model_copy(update={"x": 20.0, "y": 14.0, "width": 3.0, "height": 3.0})
    )
    settled(demo)
    reason = values(demo)[1].reason
    assert "because of “Cover outline”" in reason
    assert "too little contour" in reason
    demo.trigger("edit.undo")
    settled(demo)
    assert bench.tray.agreement == (5, 5)


def test_handles_lie_where_the_zone_is_on_this_part(demo, settled):
    bench, stage = demo.session.bench, demo.workspaces["plan"].workspace.stage
    bench.tray.select(4)
    settled(demo)
    placed = bench.placed(bench.document.plan.step("boss-ne-top"))
    corners = [handle_pixels(placed, stage.viewport)[f"corner-{k}"] for k in range(4)]
    middle = QPointF(sum(c[0] for c in corners) / 4, sum(c[1] for c in corners) / 4)
    assert stage.viewport.to_part(middle.x(), middle.y()) == pytest.approx((placed.x, placed.y), abs=1e-6)


@pytest.mark.five_parts
def test_parts_that_flip_are_listed_and_the_edit_can_be_taken_back(demo, qtbot, settled):
    panel = demo.workspaces["plan"].workspace.tray
    assert not panel.flips.isVisible()
    demo.workspaces["plan"].workspace.sheet.tolerance_typed.emit(6, "8.00 +0.00 -0.15")
    settled(demo)
    flipped = {part.name for part in demo.workspaces["plan"].workspace.evaluation.flips}
    truly = {p.name for p in demo.session.bench.tray.parts if p.agrees is False}
    assert flipped
    assert flipped == truly, "before the edit all agreed"
    assert panel.flips.text().startswith(f"{len(flipped)} changed:")
    qtbot.mouseClick(panel.flips, LEFT)
    settled(demo)
    assert demo.session.bench.tray.agreement == (5, 5)
    assert not panel.flips.isVisible(), "taking an edit back offers to take nothing else back"


def test_the_probe_reads_from_its_pin(demo, settled):
    stage = demo.workspaces["plan"].workspace.stage
    stage.pointer = stage.viewport.to_screen(42.0, 26.5)
    demo.trigger("view.pin")
    assert stage.probe.pinned == pytest.approx((42.0, 26.5))
    text = stage.probe.distance_text((45.0, 30.5), stage.data)
    assert "dx 3.00   dy 4.00" in text
    assert "53.1°" in text
    demo.trigger("view.pin")
    assert stage.probe.pinned is None


def test_a_duplicate_has_a_balloon_and_a_feature_of_its_own(demo, settled):
    bench = demo.session.bench
    bench.select(6)
    demo.trigger("characteristic.duplicate")
    settled(demo)
    assert bench.balloon == 25
    assert values(demo)[25].value == pytest.approx(values(demo)[6].value)
    new = bench.document.plan.step(bench.row.step)
    assert new.inputs["plane"] == ("plane-a",), "the datum stays shared"
    assert new.inputs["point"] != ("hub-top",)
    demo.trigger("edit.undo")
    settled(demo)
    assert bench.document.plan.characteristic(25) is None


def test_a_folder_without_scans_is_told(demo, tmp_path):
    demo.session.plans.add_folder(tmp_path)
    assert "holds no scans" in demo.message_bar.text.text()


def test_a_height_band_is_typed_on_the_card_and_nonsense_is_told(demo, qtbot, settled):
    bench, panel = demo.session.bench, demo.workspaces["plan"].workspace.card
    low, high = (card(demo, "boss-ne-top").numbers.band[name] for name in ("low", "high"))
    retype(qtbot, low, "3,5")
    settled(demo)
    band = bench.document.plan.step("boss-ne-top").zone.band
    assert (band.low, band.high, band.words) == (3.5, None, "above 3.5 mm")
    assert values(demo)[1].verdict == "PASS"
    said = card(demo, "boss-ne-top").numbers.counted_from
    assert said.isVisible()
    assert said.text() == "These heights count from z = 0 of the station."
    retype(qtbot, high, "4.4")
    settled(demo)
    band = bench.document.plan.step("boss-ne-top").zone.band
    assert (band.low, band.high) == (3.5, 4.4)
    assert values(demo)[1].verdict == "PASS"
    retype(qtbot, high, "3")
    assert "height band must end above" in demo.message_bar.text.text()
    assert bench.document.plan.step("boss-ne-top").zone.band == band
    panel.band_typed.emit("boss-ne-top", (9.0, 9.5))
    settled(demo)
    assert "no data in the height band" in values(demo)[1].reason
    panel.band_typed.emit("boss-ne-top", None)
    settled(demo)
    assert bench.document.plan.step("boss-ne-top").zone.band is None


@pytest.mark.five_parts
def test_a_limit_is_dragged_on_its_bar_and_says_how_many_parts_would_flip(demo, qtbot, settled):
    row, panel = demo.workspaces["plan"].workspace.sheet.row_of(6), demo.workspaces["plan"].workspace.tray
    bar, (low, high) = row._bar(), (7.85 - 0.1, 8.15 + 0.1)

    def on_bar(z: float):
        return QPointF(bar.left() + (z - low) / (high - low) * bar.width(), bar.center().y()).toPoint()

    qtbot.mousePress(row, LEFT, pos=on_bar(8.15))
    qtbot.mouseMove(row, on_bar(7.95))
    good = [part for part in demo.session.bench.tray.parts if part.tag == "good"]
    hubs = [next(c.value for c in part.result.characteristics if c.balloon == 6) for part in good]
    truly = sum(hub > 7.95 for hub in hubs)
    assert truly
    assert panel.aside.text() == f"{truly} verdicts change"
    assert demo.session.bench.document.plan.characteristic(6).upper == 8.15, "nothing is changed yet"
    qtbot.mouseRelease(row, LEFT, pos=on_bar(7.95))
    settled(demo)
    assert demo.session.bench.document.plan.characteristic(6).upper == pytest.approx(7.95, abs=0.02)
    assert len(demo.workspaces["plan"].workspace.evaluation.flips) == truly
    demo.trigger("edit.undo")
    settled(demo)
    assert demo.session.bench.tray.agreement == (5, 5)


def test_a_list_starts_the_sheet_and_a_click_binds_a_row(demo, qtbot, settled, tmp_path):
    bench, stage = demo.session.bench, demo.workspaces["plan"].workspace.stage
    (tmp_path / "list.csv").write_text("balloon;name;nominal;lower;upper\n30;Boss again;4,00;-0,10;+0,10\n")
    demo.workspaces["plan"].commands.import_requirements(tmp_path / "list.csv")
    qtbot.waitUntil(lambda: bench.document.plan.characteristic(30) is not None)
    settled(demo)
    bench.select(30)
    settled(demo)
    assert "no feature assigned" in values(demo)[30].reason
    demo.trigger("characteristic.height")
    qtbot.mouseClick(stage, LEFT, pos=pixel(stage, -42, 26.3))
    settled(demo)
    assert bench.balloon == 30
    assert values(demo)[30].value == pytest.approx(4.0, abs=0.06)
    assert bench.document.plan.characteristic(30).upper == 4.1
