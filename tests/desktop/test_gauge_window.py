"""A gauge study in the window: from files and from records, graded, drawn, kept in the plan, reported."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from hemtra import HeightMap, Plan, Scan, save_plan, save_scan
from hemtra.desktop.plan.panels.gauge_window import GaugeWindow
from hemtra.desktop.widgets.numbers_form import NumbersForm
from hemtra.storage.records import Records
from lots import BEGAN, DAY, part
from makers import sloped, step_plan

LEFT = Qt.MouseButton.LeftButton
PARTS = {"p1": 0.16, "p2": 0.20, "p3": 0.24}
OPERATORS = {"Ada": 0.0, "Ben": 0.01}


@pytest.fixture
def steps(window, settled, tmp_path):
    """A plan of one rise is open, whose gauge takes two tenths of its tolerance."""
    plan = step_plan()
    plan = plan.with_characteristic(plan.sheet[0].edited(lower=0.1, upper=0.3))
    base = sloped()
    save_plan(plan, tmp_path / "rise.hplan", Scan(base, "reference", "R1"))
    window.session.plans.open(tmp_path / "rise.hplan")
    settled(window)
    return window


def opened(window, settled):
    window.trigger("plan.gauge")
    settled(window)
    return window.session.window.findChild(GaugeWindow)


def presented(folder):
    """Three parts by two operators twice; the second reads 10 µm more."""
    base = sloped()
    x = np.broadcast_to(base.x, base.shape)
    for name, rise in PARTS.items():
        for operator, more in OPERATORS.items():
            for trial, noise in ((1, -0.001), (2, 0.001)):
                z = np.array(base.z)
                z[x > 0] += rise + more + noise
                grid = base.grid
                file = folder / operator / f"{name}-{trial}.x3p"
                file.parent.mkdir(exist_ok=True, parents=True)
                save_scan(Scan(HeightMap(z, None, grid.dx, grid.dy, grid.x0, grid.y0), name, name), file)


def test_a_folder_of_scans_is_graded_drawn_and_kept(steps, settled, tmp_path):
    presented(tmp_path / "study")
    gauge = opened(steps, settled)
    assert gauge.message.text().startswith("Present about ten parts")
    assert not gauge.keep.isEnabled()
    gauge.study_files(tmp_path / "study")
    settled(steps)
    cells = [gauge.table.item(0, column).text() for column in range(gauge.table.columnCount())]
    assert cells[:3] == ["1", "Rise", "mm"]
    assert (cells[5], cells[8], cells[9]) == ("0.0072", "21.5", "usable")
    assert gauge.message.text() == "3 parts, 2 operators, 2 trials; verdicts agree in 100.0 %"
    assert [one.name for one in gauge.chart.chart.series] == ["Ada", "Ben"]
    gauge.rule.setCurrentIndex(gauge.rule.findData("iso22514"))
    assert gauge.table.item(0, 9).text() == "good"
    QTest.mouseClick(gauge.keep, LEFT)
    document = steps.session.bench.document
    row = document.plan.characteristic(1)
    assert (row.gauge.rule, row.gauge.grade(row.lower, row.upper)) == ("iso22514", "good")
    assert (
        "Gauge: good, takes 14.3 % of the tolerance (3 parts × 2 operators × 2 trials"
        in steps.workspaces["plan"].workspace.sheet.items[0].toolTip()
    )
    gauge.save_report(tmp_path / "study.pdf")
    settled(steps)
    assert gauge.message.text().startswith("Saved as ")
    assert (tmp_path / "study.pdf").read_bytes().startswith(b"%PDF")


def test_rows_whose_limits_are_too_narrow_for_the_gauge_are_found(steps, settled, tmp_path):
    presented(tmp_path / "study")
    gauge = opened(steps, settled)
    gauge.study_files(tmp_path / "study")
    settled(steps)
    QTest.mouseClick(gauge.keep, LEFT)
    gauge.close()
    document, sheet = steps.session.bench.document, steps.workspaces["plan"].workspace.sheet
    row = document.plan.characteristic(1)
    document.edit("narrow", document.plan.with_characteristic(row.edited(lower=0.195, upper=0.205)))
    steps.trigger("sheet.not-capable")
    assert [item.grade for item in sheet.items] == ["not capable"]
    sheet.search_for("usable")
    assert sheet.items == []


def test_grades_are_not_kept_over_what_was_done_since(steps, settled, tmp_path):
    presented(tmp_path / "study")
    gauge = opened(steps, settled)
    gauge.study_files(tmp_path / "study")
    settled(steps)
    document = steps.session.bench.document
    changed = document.plan.with_characteristic(document.plan.characteristic(1).edited(name="New"))
    document.edit("since", changed)
    QTest.mouseClick(gauge.keep, LEFT)
    assert document.plan.characteristic(1).gauge is None
    assert gauge.message.text().startswith("The plan has changed since")


def test_the_selected_part_becomes_the_master_part(steps, settled):
    document = steps.session.bench.document
    steps.session.bench.tray.select(0)
    settled(steps)
    steps.trigger("plan.master-part")
    form = steps.findChild(NumbersForm)
    form.fields["hours"].setText("0")
    QTest.keyClick(form.fields["share"], Qt.Key.Key_Return)
    assert document.plan.master_part is None, "no hours at all are refused"
    steps.trigger("plan.master-part")
    form = next(f for f in steps.findChildren(NumbersForm) if f.isVisible())
    form.fields["hours"].setText("12")
    form.fields["shifts"].setText("6 o'clock")
    QTest.keyClick(form.fields["share"], Qt.Key.Key_Return)
    assert document.plan.master_part is None
    assert form.said.text().endswith(": write times of the day, as 6:00 14:00.")
    form.fields["share"].setText("nan")
    form.fields["shifts"].setText("6:00 14:00")
    QTest.keyClick(form.fields["share"], Qt.Key.Key_Return)
    assert document.plan.master_part is None
    assert form.said.text().endswith(": write a number.")
    form.fields["share"].setText("10,0")
    QTest.keyClick(form.fields["share"], Qt.Key.Key_Return)
    kept = document.plan.master_part
    assert (kept.serial, kept.hours, kept.share) == ("R1", 12.0, 10.0)
    assert [shift.hour for shift in kept.shifts] == [6, 14]
    steps.trigger("plan.no-master-part")
    assert document.plan.master_part is None


def test_ticked_lots_are_studied_from_the_records(steps, settled, tmp_path):
    plan: Plan = steps.session.bench.document.plan
    records = Records(str(tmp_path / "line.db"))
    for k, (operator, more) in enumerate(OPERATORS.items()):
        lot = records.open_lot(plan.name, operator, new=True)
        read = [(name, rise + more + noise) for noise in (-0.001, 0.001) for name, rise in PARTS.items()]
        found = [
            part(number, plan, {1: value}, serial=name, at=BEGAN + k * DAY)
            for number, (name, value) in enumerate(read, start=1)
        ]
        records.add_all(lot, found, records.revision(plan))
    records.close()
    steps.session.use_records(str(tmp_path / "line.db"))
    gauge = opened(steps, settled)
    assert [gauge.lots.item(k).text() for k in range(gauge.lots.count())] == ["Ben", "Ada"]
    assert not gauge.recorded.isEnabled()
    for k in range(gauge.lots.count()):
        gauge.lots.item(k).setCheckState(Qt.CheckState.Checked)
    QTest.mouseClick(gauge.recorded, LEFT)
    settled(steps)
    assert gauge.table.item(0, 9).text() == "usable"
    assert (gauge.study.parts, gauge.study.operators, gauge.study.trials) == (3, 2, 2)
    QTest.keyClick(gauge, Qt.Key.Key_Escape)


def test_a_guided_study_runs_by_itself_and_ends_in_grades(steps, settled, tmp_path, monkeypatch):
    """The simulated line presents its parts; here they are rises, which take no simulator."""
    rises = iter(0.2 + 0.001 * k for k in range(100))

    def scan(number, operator, trial, again):
        base = sloped()
        z = np.array(base.z)
        z[:, base.x > 0] += next(rises)
        g = base.grid
        return Scan(HeightMap(z, None, g.dx, g.dy, g.x0, g.y0))

    monkeypatch.setattr("hemtra.runtime.guided_study.scan_presented", scan)
    gauge = opened(steps, settled)
    guided = gauge.open_guided()
    guided.begin()
    assert guided.message.text() == "Choose a folder for the study."
    guided.folder.setText(str(tmp_path / "study"))
    guided.parts.setValue(2)
    guided.trials.setValue(2)
    guided.begin()
    settled(steps)
    assert guided.asked.text() == "All parts were presented; the grades are in the gauge study."
    assert guided.log.count() == 12
    assert gauge.message.text().startswith("2 parts, 3 operators, 2 trials")
    # a run is asked for again from the list, and the grades follow
    guided.log.setCurrentRow(3)
    chosen = guided.log.item(3).text().partition(":")[0]
    QTest.mouseClick(guided.repeat, LEFT)
    settled(steps)
    assert guided.log.item(0).text().startswith(chosen)
    guided.close()
    gauge.close()


def test_a_guided_study_that_was_left_is_offered_to_continue(steps, settled, tmp_path, qtbot):
    """With scans that arrive in a folder: what comes is the part that was asked for."""
    (tmp_path / "in").mkdir()
    gauge = opened(steps, settled)
    guided = gauge.open_guided()
    guided.source.setCurrentIndex(guided.source.findData("folder"))
    guided.folder.setText(str(tmp_path / "study"))
    guided.begin()
    assert guided.message.text() == "Choose the folder that the sensor's program saves scans in."
    guided.incoming.setText(str(tmp_path / "in"))
    guided.begin()
    qtbot.waitUntil(lambda: guided.asked.text().startswith("Present part"))
    save_scan(Scan(sloped()), tmp_path / "in/1.x3p")
    qtbot.waitUntil(lambda: guided.log.count() == 1)
    first = guided.log.item(0).text().partition(":")[0]
    guided.close()
    settled(steps)
    again = gauge.open_guided()
    again.source.setCurrentIndex(again.source.findData("folder"))
    again.incoming.setText(str(tmp_path / "in"))
    again.folder.setText(str(tmp_path / "study"))
    again.begin()
    qtbot.waitUntil(lambda: again.asked.text().startswith("Present part"))
    assert again.run.study.taken[0].part == first.split()[1].rstrip(",")
    assert again.run.study.left == 89
    again.close()
    settled(steps)
    gauge.close()
