"""The Station workspace, driven with pointer and keys."""

import re

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt

from hemtra.core.errors import HemtraError
from hemtra.desktop import recovery
from hemtra.desktop.model.station_bench import NEW
from hemtra.desktop.station.fields import fields_for
from hemtra.runtime.demo import STATION_FILE
from hemtra.storage.stations import load_station
from hemtra.virtual.demo import STATION

LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def at_station(window, settled, qtbot, demo_folder):
    """The Station workspace with the demo station."""
    window.stations.open(demo_folder / STATION_FILE)
    window.show_workspace("station")
    qtbot.waitUntil(lambda: window.station_bench.document.path is not None, timeout=10_000)
    seen(window, qtbot)
    return window


def seen(window, qtbot):
    workspace = window.station_workspace
    qtbot.waitUntil(lambda: workspace.idle and not window.tasks.running, timeout=20_000)


def drag(qtbot, window, label, by: QPoint):
    drawing = window.station_workspace.drawing
    start = next(h for h in drawing.handles() if h.label == label).at.toPoint()
    qtbot.mousePress(drawing, LEFT, pos=start)
    qtbot.mouseMove(drawing, start + by / 2)
    qtbot.mouseMove(drawing, start + by)
    qtbot.mouseRelease(drawing, LEFT, pos=start + by)
    seen(window, qtbot)
    return by.x() / drawing._scale, -by.y() / drawing._scale


def retype(qtbot, window, label, text):
    field = window.station_workspace.fields.widgets[label]
    field.setFocus()
    field.selectAll()
    qtbot.keyClicks(field, text)
    qtbot.keyClick(field, Qt.Key.Key_Return)
    seen(window, qtbot)


def test_what_is_dragged_in_the_drawing_is_the_station(at_station, qtbot):
    document = at_station.station_bench.document
    right, _ = drag(qtbot, at_station, "eye", QPoint(-30, 0))
    assert document.value.eye.distance == pytest.approx(80 - right, abs=1.0)
    _, up = drag(qtbot, at_station, "stand-off", QPoint(0, 20))
    assert document.value.sensor.stand_off == pytest.approx(195 + up, abs=1.0)
    left, _ = drag(qtbot, at_station, "scan length", QPoint(20, 0))
    assert document.value.travel.length == pytest.approx(140 - left, abs=1.0)
    _, up = drag(qtbot, at_station, "band to", QPoint(0, 30))
    assert document.value.sensor.band.z_high == pytest.approx(45 + 10 + up, abs=16)
    assert document.undo_label == "band to"
    for _ in range(4):
        at_station.trigger("edit.undo")
    assert document.value == STATION
    assert not document.unsaved


def test_numbers_are_typed_and_absurd_ones_refused(at_station, qtbot):
    document = at_station.station_bench.document
    retype(qtbot, at_station, "speed", "400")
    assert document.value.travel.speed == 400
    assert any("too fast" in w.text for w in at_station.station_bench.budget().warnings)
    for label, text in (
        ("circumference", "-160"),
        ("counts per profile", "0"),
        ("lead", "500"),
        ("exposure", "1e9"),
    ):
        before = document.value
        retype(qtbot, at_station, label, text)
        assert document.value == before, label
        assert at_station.message_bar.isVisible()
        at_station.message_bar.hide()


def test_one_click_puts_a_warning_right(at_station, qtbot):
    budget = at_station.station_workspace.budget
    assert "1 warning" in budget._count.text()
    qtbot.mouseClick(budget.fixes[0], LEFT)
    seen(at_station, qtbot)
    assert at_station.station_bench.document.value.travel.counts_per_profile == 1
    assert budget._count.text() == "all in order"
    assert at_station.actions_by_id["edit.undo"].isEnabled()


def test_the_live_profile_shows_what_the_station_does(at_station, qtbot):
    bench = at_station.station_bench
    before = bench.live
    assert np.nanmax(before.z) == pytest.approx(4.0, abs=0.2)
    at_station.trigger("station.reference")
    retype(qtbot, at_station, "band to", "2")
    assert np.nanmax(bench.live.z) <= 2.0
    assert bench.reference is before
    retype(qtbot, at_station, "exposure", "0.05")
    assert bench.live.valid.sum() < before.valid.sum() / 2, "too dark: points drop out"


def test_a_trial_scan_grows_and_goes_to_the_tray(at_station, qtbot, settled):
    grown = []
    at_station.station_bench.trial_changed.connect(lambda: grown.append(at_station.station_bench.trial.taken))
    box = at_station.station_workspace.trial.defect
    box.setCurrentIndex(box.findData("boss-short"))
    qtbot.mouseClick(at_station.station_workspace.trial.start, LEFT)
    qtbot.waitUntil(lambda: len(at_station.bench.tray.parts) == 1, timeout=20_000)
    seen(at_station, qtbot)
    assert len(grown) >= 10
    assert grown == sorted(grown)
    part = at_station.bench.tray.current
    assert (part.name, part.tag) == ("trial-01", "bad")
    assert part.scan.station["name"] == "bench A"
    at_station.grab()
    qtbot.mouseClick(at_station.band.tabs["plan"], LEFT)
    settled(at_station)
    assert at_station._pages.currentWidget() is at_station.plan_workspace


def test_a_resolution_typed_wrong_is_found_by_measuring(at_station, qtbot):
    retype(qtbot, at_station, "circumference", "176")
    at_station.trigger("station.encoder")
    task = at_station.station_workspace.encoder_task
    assert task.isVisible()
    assert not task.take.isEnabled()
    for text in ("", "0", "-", "1e9"):
        task.travel.setText(text)
        qtbot.mouseClick(task.move_line, LEFT)
        assert task.runs == [], text
    task.travel.setText("500")
    for _ in range(3):
        qtbot.mouseClick(task.move_line, LEFT)
    assert float(re.search(r"([\d.]+) % too long", task.told.text())[1]) == pytest.approx(10.0, abs=0.1)
    qtbot.mouseClick(task.take, LEFT)
    encoder = at_station.station_bench.document.value.travel.encoder
    assert encoder.counts_per_mm == pytest.approx(12.5, rel=5e-4)
    assert at_station.station_workspace.fields.isVisible()
    at_station.trigger("edit.undo")
    assert at_station.station_bench.document.value.travel.encoder.circumference == 176


def test_a_tilted_sensor_is_levelled_on_the_belt(at_station, qtbot):
    retype(qtbot, at_station, "roll", "0.8")
    at_station.trigger("station.level")
    task = at_station.station_workspace.level_task
    qtbot.mouseClick(task.scan, LEFT)
    qtbot.waitUntil(lambda: task.found is not None, timeout=20_000)
    assert task.found.before.tilt == pytest.approx(0.8, abs=0.01)
    assert task.found.after.tilt < 0.005
    qtbot.mouseClick(task.take, LEFT)
    seen(at_station, qtbot)
    sensor = at_station.station_bench.document.value.sensor
    assert sensor.levelling.roll == pytest.approx(0.8, abs=0.01)
    live = at_station.station_bench.live
    ends = [np.nanmedian(live.z[np.abs(live.x - x) < 4]) for x in (-20, 20)]
    # 40 mm at 0.8° would be 0.56 mm; what is left is how the part itself lies
    assert ends[0] == pytest.approx(ends[1], abs=0.1)
    at_station.trigger("edit.undo")
    assert at_station.station_bench.document.value.sensor.levelling.is_none
    # a sensor that sees nothing cannot be levelled, and says so
    retype(qtbot, at_station, "stand-off", "900")
    at_station.trigger("station.level")
    qtbot.mouseClick(task.scan, LEFT)
    qtbot.waitUntil(lambda: "Not levelled" in task.told.text(), timeout=20_000)
    assert not task.take.isEnabled()


def test_a_station_is_saved_where_it_lies(at_station, qtbot, tmp_path):
    retype(qtbot, at_station, "part spacing", "450")
    at_station.stations.save(tmp_path / "mine.hstation")
    seen(at_station, qtbot)
    assert not at_station.station_bench.document.unsaved
    assert load_station(tmp_path / "mine.hstation").eye.part_spacing == 450
    (tmp_path / "torn.hstation").write_text("{")
    at_station.stations.open(tmp_path / "torn.hstation")
    seen(at_station, qtbot)
    assert "torn.hstation is no station" in at_station.message_bar.text.text()
    assert at_station.station_bench.document.value.eye.part_spacing == 450


def test_an_unsaved_station_comes_back_after_a_crash(at_station, qtbot):
    retype(qtbot, at_station, "part spacing", "555")
    qtbot.waitUntil(lambda: any(recovery.recovery_folder().glob("*.json")), timeout=5_000)
    (kept,) = recovery.recovery_folder().glob("*.json")
    kept.rename(kept.with_name("999999999-0.json"))
    at_station.station_bench.document.start_over(NEW, None, NEW)
    at_station.unsaved.offer()
    assert "Unsaved changes to “bench A”" in at_station.message_bar.text.text()
    at_station.trigger("recover.restore")
    document = at_station.station_bench.document
    assert document.value.eye.part_spacing == 555
    assert document.unsaved
    assert document.path.name == STATION_FILE


def test_every_field_reads_back_what_it_wrote():
    for _, fields in fields_for(STATION):
        for field in fields:
            if field.choices is None:
                value = field.read(STATION)
                changed = field.write(STATION, 40.0 if value is None else value * 2)
                assert field.read(changed) == (40.0 if value is None else value * 2), field.label
    with pytest.raises(HemtraError, match="speed cannot be that"):
        STATION.with_part("travel", speed=-1)
