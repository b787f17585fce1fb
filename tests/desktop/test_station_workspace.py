"""The Station workspace, driven with pointer and keys."""

import re

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt

from hemtra.desktop.documents import recovery
from hemtra.desktop.models.station_bench import NEW
from hemtra.desktop.station.fields import fields_of, pages_for
from hemtra.runtime.demo import STATION_FILE
from hemtra.storage.stations import load_station
from hemtra.virtual.demo import STATION

LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def at_station(window, settled, qtbot, demo_folder):
    """The Station workspace with the demo station."""
    window.session.stations.open(demo_folder / STATION_FILE)
    window.show_workspace("station")
    qtbot.waitUntil(lambda: window.session.station_bench.document.path is not None, timeout=120_000)
    seen(window, qtbot)
    return window


def seen(window, qtbot):
    workspace = window.workspaces["station"].page
    qtbot.waitUntil(lambda: workspace.idle and not window.session.tasks.running, timeout=120_000)


def drag(qtbot, window, label, by: QPoint):
    drawing = window.workspaces["station"].page.drawing
    pixels = drawing.scale.pixels  # which a drag may change
    start = next(h for h in drawing.handles.all() if h.label == label).at.toPoint()
    qtbot.mousePress(drawing, LEFT, pos=start)
    qtbot.mouseMove(drawing, start + by / 2)
    qtbot.mouseMove(drawing, start + by)
    qtbot.mouseRelease(drawing, LEFT, pos=start + by)
    seen(window, qtbot)
    return by.x() / pixels, -by.y() / pixels


def retype(qtbot, window, label, text):
    field = window.workspaces["station"].page.fields.show_field(label)
    field.setFocus()
    field.selectAll()
    qtbot.keyClick(field, Qt.Key.Key_Delete)
    qtbot.keyClicks(field, text)
    qtbot.keyClick(field, Qt.Key.Key_Return)
    seen(window, qtbot)


def choose(qtbot, window, label, value):
    box = window.workspaces["station"].page.fields.show_field(label)
    box.setCurrentIndex(box.findData(value))
    box.activated.emit(box.currentIndex())
    seen(window, qtbot)


def scan_trials(qtbot, window, count=1):
    panel, before = window.workspaces["station"].page.trial, len(window.session.bench.tray.parts)
    panel.count.setCurrentIndex(panel.count.findData(count))
    qtbot.mouseClick(panel.start, LEFT)
    qtbot.waitUntil(lambda: not panel.running, timeout=60_000)
    seen(window, qtbot)
    return window.session.bench.tray.parts[before:]


def test_what_is_dragged_in_the_drawing_is_the_station(at_station, qtbot):
    document = at_station.session.station_bench.document
    right, _ = drag(qtbot, at_station, "eye", QPoint(-30, 0))
    assert document.value.trigger.distance == pytest.approx(80 - right, abs=1.0)
    assert document.value.lead == 30.0, "the scan keeps its place on the part"
    _, up = drag(qtbot, at_station, "stand-off", QPoint(0, 20))
    assert document.value.sensor.stand_off == pytest.approx(195 + up, abs=1.0)
    left, _ = drag(qtbot, at_station, "scan length", QPoint(20, 0))
    assert document.value.length == pytest.approx(140 - left, abs=1.0)
    ends = document.value.length - document.value.lead
    right, _ = drag(qtbot, at_station, "delay", QPoint(12, 0))
    assert document.value.lead == pytest.approx(30 + right, abs=1.0)
    assert document.value.length - document.value.lead == pytest.approx(ends), "and ends where it did"
    right, _ = drag(qtbot, at_station, "lateral offset", QPoint(15, 0))
    assert document.value.sensor.x == pytest.approx(right, abs=1.0)
    at_station.trigger("edit.undo")
    _, up = drag(qtbot, at_station, "band to", QPoint(0, 30))
    assert document.value.sensor.band.z_high == pytest.approx(45 + 10 + up, abs=16)
    assert document.undo_label == "band to"
    for _ in range(5):
        at_station.trigger("edit.undo")
    assert document.value == STATION
    assert not document.unsaved


def test_numbers_are_typed_and_absurd_ones_refused(at_station, qtbot):
    document = at_station.session.station_bench.document
    retype(qtbot, at_station, "speed", "400")
    assert document.value.travel.speed == 400
    assert any("too fast" in w.text for w in at_station.session.station_bench.budget().warnings)
    for label, text in (
        ("circumference", "-160"),
        ("circumference", "0.0001"),
        ("counts per profile", "0"),
        ("counts per profile", "nan"),
        ("counts per profile", "inf"),
        ("speed", "fast"),
        ("delay", "1e9"),
        ("time", "1e9"),
        ("trigger queue limit", "0"),
        ("period", "0") if document.value.travel.clock == "internal" else ("speed", "-1"),
    ):
        before = document.value
        retype(qtbot, at_station, label, text)
        assert document.value == before, label
        assert at_station.message_bar.isVisible()
        at_station.message_bar.hide()
        assert at_station.is_enabled("edit.undo")


def test_one_click_puts_a_warning_right(at_station, qtbot):
    budget = at_station.workspaces["station"].page.budget
    assert "1 warning" in budget._count.text()
    qtbot.mouseClick(budget.fixes[0], LEFT)
    seen(at_station, qtbot)
    assert at_station.session.station_bench.document.value.travel.counts_per_profile == 1
    assert budget._count.text() == "all in order"
    assert at_station.is_enabled("edit.undo")


def test_the_live_profile_shows_what_the_station_does(at_station, qtbot):
    bench = at_station.session.station_bench
    before = bench.live
    assert np.nanmax(before.z) == pytest.approx(4.0, abs=0.2)
    qtbot.mouseClick(at_station.workspaces["station"].page.live.keep, LEFT)
    seen(at_station, qtbot)
    retype(qtbot, at_station, "band to", "2")
    assert np.nanmax(bench.live.z) <= 2.0
    kept = bench.reference
    near = np.abs(kept.x) < 30
    assert np.nanmedian(kept.z[near]) == pytest.approx(np.nanmedian(before.z[np.abs(before.x) < 30]), abs=0.01)
    retype(qtbot, at_station, "band to", "")
    assert bench.station.sensor.band.z_high is None
    at_station.workspaces["station"].page.live.place.setValue(-320)
    seen(at_station, qtbot)
    assert np.nanmax(bench.live.z) < 3.9, "no boss there"
    retype(qtbot, at_station, "time", "0.05")
    assert bench.live.valid.sum() < before.valid.sum() / 2, "too dark: points drop out"


def test_a_trial_scan_grows_and_goes_to_the_tray(at_station, qtbot, settled):
    grown = []
    bench = at_station.session.station_bench
    bench.trial_changed.connect(lambda: grown.append(bench.trial.taken if bench.trial else 0))
    box = at_station.workspaces["station"].page.trial.defect
    box.setCurrentIndex(box.findData("boss-short"))
    scan_trials(qtbot, at_station)
    assert len(set(grown)) >= 5
    assert grown == sorted(grown)
    part = at_station.session.bench.tray.current
    assert (part.name, part.tag) == ("trial-01", "bad")
    assert part.scan.station["name"] == "bench A"
    at_station.grab()
    qtbot.mouseClick(at_station.band.tabs["plan"], LEFT)
    settled(at_station)
    assert at_station.session.shown == "plan"


def test_a_resolution_typed_wrong_is_found_by_measuring(at_station, qtbot):
    retype(qtbot, at_station, "circumference", "176")
    at_station.trigger("station.encoder")
    task = at_station.workspaces["station"].page.encoder_task
    assert task.isVisible()
    assert not task.take.isEnabled()
    for text in ("", "0", "-", "1e9"):
        task.travel.setText(text)
        qtbot.mouseClick(task.move_line, LEFT)
        assert task.runs == [], text
    task.travel.setText("500")
    for _ in range(3):
        qtbot.mouseClick(task.move_line, LEFT)
    assert float(re.search(r"([\d.]+) % too long", task.message.text())[1]) == pytest.approx(10.0, abs=0.1)
    qtbot.mouseClick(task.take, LEFT)
    encoder = at_station.session.station_bench.document.value.travel.encoder
    assert encoder.counts_per_mm == pytest.approx(12.5, rel=5e-4)
    stated = at_station.session.station_bench.document.value.scales
    assert stated.y == pytest.approx(100.0 * task.found.error / task.found.counts_per_mm, rel=1e-2)
    assert at_station.workspaces["station"].page.fields.isVisible()
    at_station.trigger("edit.undo")
    assert at_station.session.station_bench.document.value.travel.encoder.circumference == 176
    assert at_station.session.station_bench.document.value.scales.y == 0.0


def test_a_tilted_sensor_is_levelled_on_the_belt(at_station, qtbot):
    retype(qtbot, at_station, "roll", "0.8")
    at_station.trigger("station.level")
    task = at_station.workspaces["station"].page.level_task
    qtbot.mouseClick(task.scan, LEFT)
    qtbot.waitUntil(lambda: task.found is not None, timeout=120_000)
    assert task.found.before.tilt == pytest.approx(0.8, abs=0.01)
    assert task.found.after.tilt < 0.005
    qtbot.mouseClick(task.take, LEFT)
    seen(at_station, qtbot)
    sensor = at_station.session.station_bench.document.value.sensor
    assert sensor.calibration.roll == pytest.approx(0.8, abs=0.01)
    live = at_station.session.station_bench.live
    ends = [np.nanmedian(live.z[np.abs(live.x - x) < 4]) for x in (-20, 20)]
    # 40 mm at 0.8° would be 0.56 mm; what is left is how the part itself lies
    assert ends[0] == pytest.approx(ends[1], abs=0.1)
    at_station.trigger("edit.undo")
    assert at_station.session.station_bench.document.value.sensor.calibration.is_none


def test_what_cannot_be_levelled_on_is_refused_with_the_reason(at_station, qtbot):
    at_station.trigger("station.level")
    task = at_station.workspaces["station"].page.level_task

    def told(words):
        qtbot.mouseClick(task.scan, LEFT)
        qtbot.waitUntil(lambda: words in task.message.text(), timeout=120_000)
        assert not task.take.isEnabled()

    task.on.setCurrentText("plate with a bump")
    told("not flat: its cells differ by")
    for field, number in zip(task.zone, ("-30", "0", "60", "60"), strict=True):
        field.setText(number)
    # beside the bump the plate is flat
    qtbot.mouseClick(task.scan, LEFT)
    qtbot.waitUntil(lambda: task.found is not None, timeout=120_000)
    for field, number in zip(task.zone, ("900", "0", "60", "60"), strict=True):
        field.setText(number)
    told("outside the scan")
    task.zone[2].setText("0")
    retype(qtbot, at_station, "stand-off", "900")
    at_station.trigger("station.level")
    told("Not levelled")


def test_a_station_is_saved_where_it_lies(at_station, qtbot, tmp_path):
    retype(qtbot, at_station, "part spacing", "450")
    at_station.session.stations.save(tmp_path / "mine.hstation")
    seen(at_station, qtbot)
    assert not at_station.session.station_bench.document.unsaved
    assert load_station(tmp_path / "mine.hstation").line.part_spacing == 450
    (tmp_path / "torn.hstation").write_text("{")
    at_station.session.stations.open(tmp_path / "torn.hstation")
    seen(at_station, qtbot)
    assert "torn.hstation is not a valid station file" in at_station.message_bar.text.text()
    assert at_station.session.station_bench.document.value.line.part_spacing == 450


def test_an_unsaved_station_comes_back_after_a_crash(at_station, qtbot):
    retype(qtbot, at_station, "part spacing", "555")
    qtbot.waitUntil(lambda: any(recovery.recovery_folder().glob("*.json")), timeout=120_000)
    (kept,) = recovery.recovery_folder().glob("*.json")
    kept.rename(kept.with_name("999999999-0.json"))
    at_station.session.station_bench.document.start_over(NEW, None, NEW)
    at_station.session.unsaved.offer()
    assert "Unsaved changes to “bench A”" in at_station.message_bar.text.text()
    at_station.trigger("recover.restore")
    document = at_station.session.station_bench.document
    assert document.value.line.part_spacing == 555
    assert document.unsaved
    assert document.path.name == STATION_FILE


def test_every_field_writes_what_is_chosen_or_typed():
    """Each of them once, on every page, with every choice."""
    for page in pages_for(STATION):
        for _, path in page.groups:
            for field in fields_of(STATION, path):
                setting, choices = field.setting, list(field.setting.choices)
                values = [v == "True" if isinstance(setting.value, bool) else v for v in choices]
                if field.name == "model":
                    values = ["Sim 60"]
                for value in values or [40.0 if setting.value is None else setting.value * 2]:
                    changed = field.write(STATION, value)
                    found = {f.name: f.setting.value for f in fields_of(changed, path)}
                    assert found[field.name] == value, field.name


def test_lengths_are_typed_and_shown_in_inches(at_station, qtbot):
    at_station.trigger("view.unit")
    assert at_station.band.unit.text() == "in"
    field = at_station.workspaces["station"].page.fields.show_field("stand-off")
    assert field.text() == "7.6772"
    retype(qtbot, at_station, "stand-off", "8")
    assert at_station.session.station_bench.document.value.sensor.stand_off == pytest.approx(203.2)
    rows = at_station.session.station_bench.budget().rows
    assert rows[0].label == "counts per in"
    at_station.grab()
    at_station.trigger("view.unit")
    assert at_station.workspaces["station"].page.fields.show_field("stand-off").text() == "203.2"


def test_exposure_is_tuned_until_the_part_is_bright_enough(at_station, qtbot):
    at_station.trigger("station.exposure")
    task = at_station.workspaces["station"].page.exposure_task
    for target in ("", "5", "900"):
        task.target.setText(target)
        qtbot.mouseClick(task.look, LEFT)
        assert "from 10 to 240" in task.message.text()
    task.target.setText("60")
    qtbot.mouseClick(task.look, LEFT)
    qtbot.waitUntil(lambda: task.tuned is not None, timeout=120_000)
    assert "reaches intensity" in task.message.text()
    at_station.grab()
    qtbot.mouseClick(task.take, LEFT)
    exposure = at_station.session.station_bench.document.value.sensor.exposure
    assert exposure.by == "manual"
    assert exposure.time == pytest.approx(60 / 110, rel=0.1)
    at_station.trigger("station.exposure")
    task.target.setText("230")
    task.longest.setText("0.5")
    qtbot.mouseClick(task.look, LEFT)
    qtbot.waitUntil(lambda: task.tuned is not None and not task.tuned.reached, timeout=120_000)
    assert "stops at its longest" in task.message.text()
    qtbot.mouseClick(task.automatic, LEFT)
    seen(at_station, qtbot)
    assert at_station.session.station_bench.document.value.sensor.exposure.by == "automatic"
    assert "stops at its longest" in at_station.session.station_bench.exposure_message
    at_station.trigger("station.exposure")
    qtbot.mouseClick(task.two, LEFT)
    seen(at_station, qtbot)
    assert any("too fast" in w.text for w in at_station.session.station_bench.budget().warnings)


def test_two_sensors_are_aligned_and_scan_one_part(at_station, qtbot):
    at_station.trigger("station.align")
    assert "one sensor only" in at_station.message_bar.text.text()
    at_station.trigger("station.two")
    fields = at_station.workspaces["station"].page.fields
    assert {"Sensor 1", "Sensor 2", "Travel", "Trigger"} <= set(fields.tabs)
    retype(qtbot, at_station, "counts per profile", "4")
    fields.show_page(1)
    assert at_station.session.station_bench.sensor == 1
    qtbot.mouseClick(fields.tasks["align"], LEFT)
    task = at_station.workspaces["station"].page.align_task
    task.laid.setCurrentText("target out of view")
    qtbot.mouseClick(task.scan, LEFT)
    qtbot.waitUntil(lambda: "does not see the stepped wedge" in task.message.text(), timeout=60_000)
    task.laid.setCurrentText("target turned by 2°")
    qtbot.mouseClick(task.scan, LEFT)
    qtbot.waitUntil(lambda: task.found is not None, timeout=60_000)
    assert abs(task.found.before[0].step) > 0.5
    assert abs(task.found.after[0].step) < 0.005
    at_station.grab()
    qtbot.mouseClick(task.take, LEFT)
    seen(at_station, qtbot)
    document = at_station.session.station_bench.document
    for sensor in document.value.sensors:
        assert sensor.calibration.x == pytest.approx(sensor.hang.x, abs=0.02)
        assert sensor.calibration.roll == pytest.approx(sensor.hang.roll, abs=0.01)
    (part,) = scan_trials(qtbot, at_station)
    assert part.scan.data.extent[1] - part.scan.data.extent[0] > 230
    at_station.trigger("edit.undo")
    assert document.value.sensors[0].calibration.is_none


def test_sensors_are_added_and_taken_away(at_station, qtbot):
    fields, document = at_station.workspaces["station"].page.fields, at_station.session.station_bench.document
    fields.show_page(0)
    qtbot.mouseClick(fields.tabs["+ sensor"], LEFT)
    seen(at_station, qtbot)
    assert len(document.value.sensors) == 2
    assert not any("view" in w.text for w in at_station.session.station_bench.budget().warnings)
    at_station.grab()
    fields.show_page(1)
    qtbot.mouseClick(fields.tabs["− sensor"], LEFT)
    seen(at_station, qtbot)
    assert [sensor.x for sensor in document.value.sensors] == [0.0]


def test_scales_are_corrected_by_what_is_known(at_station, qtbot):
    retype(qtbot, at_station, "z scale error", "-1.5")
    retype(qtbot, at_station, "x scale error", "2")
    retype(qtbot, at_station, "circumference", "163.2")
    at_station.trigger("station.encoder")
    qtbot.mouseClick(at_station.workspaces["station"].page.encoder_task.artefact, LEFT)
    task = at_station.workspaces["station"].page.correct_task
    assert task.isVisible()
    qtbot.mouseClick(task.scan, LEFT)
    qtbot.waitUntil(lambda: task.picture.data is not None, timeout=120_000)

    def click(x, y):
        qtbot.mouseClick(task.picture, LEFT, pos=task.picture.pixel(x, y).toPoint())

    for x, y in ((-47, 0), (47, 0), (-20.4, -18.4), (20.4, -18.4), (-20.4, 22.5)):
        click(x, y)
    assert len(task.discs) == 3
    task.high.setText("")
    task.high.editingFinished.emit()
    assert "Type the true heights" in task.message.text()
    assert not task.take.isEnabled()
    task.high.setText("9")
    task.high.editingFinished.emit()
    at_station.grab()
    qtbot.mouseClick(task.take, LEFT)
    seen(at_station, qtbot)
    station = at_station.session.station_bench.document.value
    assert station.sensor.calibration.gain_z == pytest.approx(1 / 0.985, rel=2e-3)
    assert station.sensor.calibration.gain_x == pytest.approx(1 / 1.02, rel=4e-3)
    assert station.travel.encoder.counts_per_mm == pytest.approx(12.5, rel=4e-3)


def test_trial_parts_pass_and_one_becomes_the_reference(at_station, qtbot, settled):
    retype(qtbot, at_station, "counts per profile", "8")
    retype(qtbot, at_station, "part spacing", "150")
    parts = scan_trials(qtbot, at_station, 5)
    assert [part.name for part in parts] == [f"trial-{k:02d}" for k in range(1, 6)]
    panel = at_station.workspaces["station"].page.trial
    assert "219 profiles" in panel.message.text()
    qtbot.mouseClick(panel.reference, LEFT)
    qtbot.waitUntil(lambda: at_station.session.bench.document.reference is parts[-1].scan)


def test_what_goes_wrong_on_the_line_is_said_and_loses_nothing(at_station, qtbot):
    retype(qtbot, at_station, "counts per profile", "8")
    retype(qtbot, at_station, "time limit", "1.2")
    panel = at_station.workspaces["station"].page.trial
    for mishap, words in (
        ("encoder jumps", "the encoder jumped"),
        ("sensor stops", "stopped delivering"),
        ("points missing", "1279 points instead of 1280"),
    ):
        panel.mishap.setCurrentIndex(panel.mishap.findData(mishap))
        assert [part.tag for part in scan_trials(qtbot, at_station)] in ([], ["unknown"])
        assert words in at_station.message_bar.text.text()
    panel.mishap.setCurrentIndex(panel.mishap.findData("stops"))
    (part,) = scan_trials(qtbot, at_station)
    assert "faulty" in panel.message.text()
    assert " of 219 profiles in " in panel.message.text()
    assert part.tag == "unknown"
    panel.mishap.setCurrentIndex(0)
    retype(qtbot, at_station, "band to", "-20")
    choose(qtbot, at_station, "trigger", "height")
    assert scan_trials(qtbot, at_station) == []
    assert "No scan triggered" in at_station.message_bar.text.text()


def test_mistakes_show_in_a_trial_scan_with_the_task_that_helps(at_station, qtbot):
    """Each mistake once: tilt, encoder, delay, too fast, nobody aligned."""
    retype(qtbot, at_station, "counts per profile", "8")
    document, bar = at_station.session.station_bench.document, at_station.message_bar

    for label, text, words in (
        ("roll", "0.8", "tilted by 0.80°"),
        ("circumference", "176", "88.0 mm long and is 80"),
        ("delay", "95", "begins within the part"),
        ("scan length", "80", "ends within the part"),
    ):
        before = document.value
        retype(qtbot, at_station, label, text)
        scan_trials(qtbot, at_station)
        assert words in bar.text.text(), label
        document.edit("back", before)
        bar.hide()
    retype(qtbot, at_station, "speed", "3000")
    scan_trials(qtbot, at_station)
    assert "missed: too fast" in at_station.workspaces["station"].page.trial.message.text()
    at_station.trigger("station.two")
    retype(qtbot, at_station, "counts per profile", "8")
    scan_trials(qtbot, at_station)
    assert "align them" in bar.text.text()
    at_station.trigger("station.align")
    assert at_station.workspaces["station"].page.align_task.isVisible()


def test_a_scan_is_started_by_hand_and_a_line_stopped(at_station, qtbot):
    retype(qtbot, at_station, "counts per profile", "4")
    retype(qtbot, at_station, "scan length", "20")
    retype(qtbot, at_station, "delay", "0")
    choose(qtbot, at_station, "trigger", "manual")
    panel = at_station.workspaces["station"].page.trial
    panel.count.setCurrentIndex(panel.count.findData(20))
    qtbot.mouseClick(panel.start, LEFT)
    qtbot.mouseClick(panel.by_hand, LEFT)
    qtbot.waitUntil(lambda: len(at_station.session.bench.tray.parts) == 1, timeout=120_000)
    qtbot.mouseClick(panel.start, LEFT)
    qtbot.waitUntil(lambda: not panel.running, timeout=120_000)
    seen(at_station, qtbot)
    assert at_station.session.bench.tray.parts[0].scan.data.shape[0] == 62


def test_from_an_empty_station_to_a_correct_scan(window, settled, qtbot):
    """Choose the sensor, aim, measure the encoder, level, set eye, delay and length, scan five parts."""
    window.trigger("station.show")
    seen(window, qtbot)
    document, workspace = window.session.station_bench.document, window.workspaces["station"].page
    budget = window.session.station_bench.budget
    assert any("too fast" in w.text or "unevenly" in w.text for w in budget().warnings)
    choose(qtbot, window, "model", "Sim 130")
    retype(qtbot, window, "stand-off", "195")
    window.trigger("station.encoder")
    for _ in range(3):
        qtbot.mouseClick(workspace.encoder_task.move_line, LEFT)
    qtbot.mouseClick(workspace.encoder_task.take, LEFT)
    retype(qtbot, window, "counts per profile", "4")
    window.trigger("station.level")
    qtbot.mouseClick(workspace.level_task.scan, LEFT)
    qtbot.waitUntil(lambda: workspace.level_task.found is not None, timeout=120_000)
    qtbot.mouseClick(workspace.level_task.take, LEFT)
    retype(qtbot, window, "eye", "60")
    retype(qtbot, window, "delay", "70")
    assert any("front, which is cut off" in w.text for w in budget().warnings)
    retype(qtbot, window, "delay", "30")
    retype(qtbot, window, "scan length", "100")
    assert any("before the part does" in w.text for w in budget().warnings)
    retype(qtbot, window, "scan length", "140")
    retype(qtbot, window, "speed", "150")
    # only the rows are still farther apart than the points, which is the user's to choose
    assert [w.text[:11] for w in budget().warnings] == ["Round holes"]
    parts = scan_trials(qtbot, window, 5)
    assert len(parts) == 5
    for part in parts:
        data = part.scan.data
        flange = data.z[np.ix_(np.abs(data.y - 28) < 1.0, np.abs(data.x) < 20)]
        assert np.nanmedian(flange) == pytest.approx(0.0, abs=0.15)
        rows = np.flatnonzero((np.abs(data.z[:, np.abs(data.x) < 20]) < 0.6).any(axis=1))
        assert (rows[-1] - rows[0]) * data.grid.dy == pytest.approx(80.0, abs=1.0)
    assert document.unsaved
