"""Lengths in inches on every screen, while plans, limits and records stay in millimetres."""

import pytest
from PySide6.QtCore import Qt
from test_records_workspace import looking, written  # noqa: F401
from test_window import card, retype, values

from hemtra.core.edits.sheet import with_balloon
from hemtra.core.plan.balloon import Balloon
from hemtra.core.units import MM
from hemtra.desktop.widgets import units


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


@pytest.mark.parametrize(
    ("words", "shown"),
    [
        ("3.71, below 3.90", "3,71, below 3,90"),
        ("<b>12.50 counts/mm</b> ± 0.25", "<b>12,50 counts/mm</b> ± 0,25"),
        ("x 1.5 … -2.25 mm (99.0 %).", "x 1,5 … -2,25 mm (99,0 %)."),
        ("Balloon 4.1 lies 0.5 mm off", "Balloon 4.1 lies 0,5 mm off"),
        ("4.1 Boss NE 3.71, below 3.90; 3.2 MB", "4.1 Boss NE 3,71, below 3,90; 3,2 MB"),
        ("“LOT 12.5” read 1.5 times", "“LOT 12.5” read 1,5 times"),
        ("version 1.2.3 of cover-1.5.x3p in /tmp/a.1.2/b", "version 1.2.3 of cover-1.5.x3p in /tmp/a.1.2/b"),
    ],
)
def test_a_decimal_comma_is_for_numbers_only(words, shown):
    units.use(MM, ",")
    assert units.signed(words) == shown
    units.use(MM)
    assert units.signed(words) == words


def test_a_plan_with_decimal_commas(demo, qtbot, settled):
    bench, workspace = demo.session.bench, demo.workspaces["plan"].workspace
    demo.session.show_numbers(MM, ",")
    settled(demo)
    row = workspace.sheet.row_of(1)
    assert row.tolerance.text() == "4,00 ±0,10"
    plan = bench.document.plan
    row.tolerance.editingFinished.emit()
    assert bench.document.plan is plan, "what is not typed anew is not edited"
    retype(qtbot, row.tolerance, "4,05 ±0,1")
    settled(demo)
    changed = bench.document.plan.characteristic(1)
    assert (changed.nominal, changed.lower, changed.upper) == (4.05, 3.95, 4.15)
    bench.document.edit("balloon", with_balloon(bench.document.plan, 1, Balloon.parse("4.1")))
    settled(demo)
    assert workspace.sheet.row_of(Balloon.parse("4.1")).accessibleName().startswith("4.1 Boss NE, 4,")
    demo.session.show_numbers(MM, ".")
    assert workspace.sheet.row_of(Balloon.parse("4.1")).tolerance.text() == "4.05 ±0.10"


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
