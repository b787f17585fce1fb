"""Lengths in inches on every screen, while plans, limits and records stay in millimetres."""

import pytest
from PySide6.QtCore import Qt
from test_records_workspace import looking, written  # noqa: F401
from test_window import card, retype, values


@pytest.fixture
def inches(demo, settled):
    """The demo shown in inches; millimetres again afterwards, since that is remembered."""
    demo.trigger("view.unit")
    settled(demo)
    yield demo
    demo.trigger("view.unit")


def test_the_plan_in_inches(inches, qtbot, settled):
    bench, workspace = inches.session.bench, inches.workspaces["plan"].workspace
    plan, row = bench.document.plan, workspace.sheet.row_of(1)
    assert inches.band.unit.text() == "in"
    assert row.tolerance.text() == "0.1575 ±0.0039 in"
    assert row.accessibleName().endswith(f"{values(inches)[1].value / 25.4:.4f} in, PASS")
    # what is not typed anew is not edited, though it was rounded
    row.tolerance.editingFinished.emit()
    card(inches).tolerance.editingFinished.emit()
    assert bench.document.plan is plan
    retype(qtbot, workspace.sheet.row_of(1).tolerance, "0.160 ±0.002 in")
    settled(inches)
    changed = bench.document.plan.characteristic(1)
    assert (changed.nominal, changed.lower, changed.upper) == (4.064, 4.0132, 4.1148)
    assert values(inches)[1].verdict == ("PASS" if values(inches)[1].value >= 4.0132 else "FAIL")
    # without a unit a number is in mm, as in a plan
    retype(qtbot, workspace.sheet.row_of(1).tolerance, "4.00 ±0.10")
    assert bench.document.plan.characteristic(1).upper == 4.1
    assert workspace.section.titles()[0].endswith(" in long")
    assert " in" in workspace.lineage.chips["boss-ne-top"].link.values[0]
    words = workspace.stage.probe.read_out((25.4, -12.7), workspace.stage.data, "")
    assert words.startswith("x 1.0000   y -0.5000")
    inches.trigger("view.unit")
    assert workspace.sheet.row_of(1).tolerance.text() == "4.00 ±0.10"
    inches.trigger("view.unit")


def test_a_trend_of_records_in_inches(looking, qtbot):  # noqa: F811
    page = looking.workspaces["records"].page
    before = page.bench.trend.series[-1]
    assert before.trend.unit == "mm"
    looking.trigger("view.unit")
    shown = page.trend.shown.series[-1]
    assert shown.trend.unit == "in"
    assert shown.trend.upper * 25.4 == pytest.approx(before.trend.upper)
    assert shown.statistics.mean * 25.4 == pytest.approx(before.statistics.mean)
    assert shown.statistics.cpk == before.statistics.cpk
    page.trend.grab()
    model = page.parts.model()
    titles = [model.headerData(k, Qt.Orientation.Horizontal) for k in range(model.columnCount())]
    assert "limiting characteristic (in mm)" in titles, "reasons stand as they were recorded"
    assert page.bench.trend.series[-1] is before, "what was asked of the records stays as it is"
    looking.trigger("view.unit")
    assert page.trend.shown.series[-1].trend.unit == "mm"
