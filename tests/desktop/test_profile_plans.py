"""Plans that go profile by profile, in the real window."""

import pytest
from layout_audit import resize
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication
from test_window import card

from hemtra.desktop.models.tray import verdict_changes
from hemtra.runtime.demo import RUNNER_PLAN_FILE, RUNNER_TRAY
from hemtra.storage.trays import TrayEntry, save_tray
from hemtra.virtual.runner_demo import RUNNERS

CLICK = (Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)


LOOKED_AT = ("groove-shallow", "groove-dented", "web-low", "slit-tapered")
KEPT = tuple(part for part in RUNNERS if part.seed <= 2 or set(part.defects) & set(LOOKED_AT))
"""The parts these tests look at."""


@pytest.fixture(scope="module")
def small_runners(demo_folder, tmp_path_factory):
    """The drawer runner's demo with these parts only. Tests only read it."""
    folder = tmp_path_factory.mktemp("runners")
    (folder / RUNNER_TRAY).mkdir()
    for name in (RUNNER_PLAN_FILE, *(f"{RUNNER_TRAY}/{part.file}" for part in KEPT)):
        (folder / name).symlink_to(demo_folder / name)
    entries = [TrayEntry(folder / RUNNER_TRAY / part.file, part.tag) for part in KEPT]
    save_tray(folder / RUNNER_PLAN_FILE, entries)
    return folder


@pytest.fixture
def runners(window, settled, small_runners, qtbot):
    """A window with the drawer runner's plan and some of its parts, on the first one."""
    window.session.plans.open(small_runners / RUNNER_PLAN_FILE)
    qtbot.waitUntil(lambda: len(window.session.bench.tray.parts) == len(KEPT), timeout=120_000)
    settled(window)
    return window


def pixel(section, x, z) -> QPoint:
    axes = section.axes()
    return axes.at(x - axes.start, z).toPoint()


def show_part(window, settled, defect, balloon):
    window.session.bench.tray.select(next(k for k, part in enumerate(KEPT) if defect in part.defects))
    window.session.bench.select(balloon)
    settled(window)


def test_the_profile_and_its_strips_are_the_stage(runners):
    workspace = runners.workspaces["plan"].workspace
    assert workspace.section.isVisible()
    assert workspace.strips.isVisible()
    assert not workspace.stage.isVisible()
    assert runners.session.bench.tray.agreement == (6, 6)
    assert [row.balloon for row in workspace.strips.strips.rows()] == list(range(1, 12))
    runners.trigger("view.cycle")
    assert workspace.stage.isVisible()
    assert workspace.section.isVisible()


def test_a_click_on_a_strip_shows_that_profile_and_keys_go_on(runners, settled):
    show_part(runners, settled, "slit-tapered", 9)
    strips = runners.workspaces["plan"].workspace.strips.strips
    top, height = strips.span_of(10)
    QTest.mouseClick(strips, *CLICK, QPoint(round(strips.pixel(400)), round(top + height / 2)))
    settled(runners)
    assert runners.session.bench.balloon == 10
    assert runners.session.bench.shown.index == pytest.approx(400, abs=1), "a pixel holds about one profile"
    narrow = runners.session.bench.shown.here.characteristics[8].value
    QTest.keyClick(strips, Qt.Key.Key_Home)
    settled(runners)
    assert runners.session.bench.shown.index == 0
    assert narrow - runners.session.bench.shown.here.characteristics[8].value == pytest.approx(0.43, abs=0.08)
    QTest.keyClick(strips, Qt.Key.Key_PageDown)
    settled(runners)
    assert runners.session.bench.shown.index == 10


def test_a_zone_dragged_on_one_profile_moves_on_all(runners, settled):
    """The left groove's zone, dragged away from its groove, leaves nothing to measure on any profile."""
    show_part(runners, settled, "groove-shallow", 1)
    section, bench = runners.workspaces["plan"].workspace.section, runners.session.bench
    bench.select_step("left-groove")
    bench.set_profile(77)
    settled(runners)
    before, placed = bench.document.plan.step("left-groove").zone, section.zone.step.zone
    start = pixel(section, placed.x + 1.0, placed.y - 0.5)
    end = pixel(section, placed.x + 21.0, placed.y - 0.5)
    QTest.mousePress(section, *CLICK, start)
    QTest.mouseMove(section, (start + end) / 2)
    QTest.mouseMove(section, end)
    QTest.mouseRelease(section, *CLICK, end)
    settled(runners)
    moved = bench.document.plan.step("left-groove").zone
    assert moved.x - before.x == pytest.approx(20.0, abs=0.2)
    evaluated = bench.shown.result.characteristics[0]
    assert evaluated.verdict == "NOT MEASURED"
    assert "0 of 500 profiles" in evaluated.reason
    runners.trigger("edit.undo")
    settled(runners)
    assert bench.shown.result.characteristics[0].verdict == "FAIL"


def test_a_new_groove_is_clicked_on_the_profile(runners, settled):
    workspace = runners.workspaces["plan"].workspace
    runners.trigger("characteristic.new")
    QTest.keyClick(workspace.new.chooser, Qt.Key.Key_H)
    QTest.mouseClick(workspace.section, *CLICK, pixel(workspace.section, 16.0, 1.5))
    settled(runners)
    row = runners.session.bench.row
    assert (row.balloon, row.tolerance) == (12, "0.90 ±0.10")
    assert runners.session.bench.document.plan.step(row.step).inputs["of"] == ("right-groove",), (
        "it was there already"
    )
    assert runners.session.bench.shown.result.series[12].measured.all()


@pytest.mark.parametrize(
    ("wish", "places", "nominal"),
    [
        ("level-step", [(-13.5, 8.0), (6.0, 2.1)], 5.9),
        ("arc-radius", [(-10.9, 7.7)], 2.5),
        ("line-angle", [(-9.1, 4.5), (6.0, 2.1)], 105.0),
        ("edge-distance", [(-20.0, 8.5), (20.3, 3.0)], 40.0),
        ("profile-flush", [(-2.4, 1.8), (0.5, 1.8)], 0.1),
    ],
)
def test_what_a_drawing_asks_of_a_profile(runners, settled, wish, places, nominal):
    workspace = runners.workspaces["plan"].workspace
    workspace.new.begin(wish)
    for place in places:
        QTest.mouseClick(workspace.section, *CLICK, pixel(workspace.section, *place))
    settled(runners)
    assert runners.session.bench.balloon == 12
    assert runners.session.bench.row.nominal == pytest.approx(nominal, abs=0.1)


def test_how_many_values_make_a_verdict_is_chosen_in_the_menu(runners, settled):
    show_part(runners, settled, "groove-dented", 4)
    assert runners.session.bench.shown.result.verdict == "FAIL"
    menu = runners.workspaces["plan"].workspace.rows.menu()
    over = next(a.menu() for a in menu.actions() if a.text().startswith("Verdict over"))
    assert [a.text() for a in over.actions() if a.isChecked()] == ["Minimum percentage within limits"]
    next(a for a in over.actions() if a.text() == "Mean within limits").trigger()
    settled(runners)
    assert runners.session.bench.row.over == "mean"
    assert runners.session.bench.shown.result.verdict == "PASS"


def test_the_wheel_comes_closer_about_the_pointer_and_a_double_click_goes_back(runners):
    section = runners.workspaces["plan"].workspace.section
    at = QPointF(section.width() / 3, section.height() / 2)
    before = section.axes().place(at)
    event = QWheelEvent(
        at,
        at,
        QPoint(),
        QPoint(0, 240),
        Qt.MouseButton.NoButton,
        *CLICK[1:],
        Qt.ScrollPhase.NoScrollPhase,
        False,
    )
    QApplication.sendEvent(section, event)
    assert section.axes().reach == pytest.approx(section.axes().length / 1.25**2)
    assert section.axes().place(at) == pytest.approx(before)
    QTest.mouseDClick(section, *CLICK, at.toPoint())
    assert section.axes().reach == section.axes().length


def test_a_plan_is_turned_to_profiles_and_back(window, settled, demo_folder, qtbot):
    window.session.plans.add_scans([demo_folder / RUNNER_TRAY / RUNNERS[0].file])
    qtbot.waitUntil(lambda: len(window.session.bench.tray.parts) == 1, timeout=120_000)
    settled(window)
    window.trigger("plan.by-profile")
    form = window.workspaces["plan"].workspace.asked.form
    form.fields["count"].setText("3")
    QTest.keyClick(form.fields["count"], Qt.Key.Key_Return)
    settled(window)
    assert window.session.bench.document.plan.by_profile.average == 3
    assert window.session.bench.shown.index == 250
    window.workspaces["plan"].workspace.new.begin("groove-depth")
    section = window.workspaces["plan"].workspace.section
    QTest.mouseClick(section, *CLICK, pixel(section, -16.0, 7.5))
    settled(window)
    assert window.session.bench.row.nominal == pytest.approx(0.9)
    assert window.session.bench.shown.result.verdict == "PASS"
    window.trigger("plan.whole")
    settled(window)
    assert "as a whole" in window.session.bench.shown.result.characteristics[0].reason


def test_what_not_proven_counts_as_is_chosen(runners, settled):
    show_part(runners, settled, "web-low", 6)
    runners.workspaces["plan"].workspace.rows.set_tolerance(6, "6.00 ±0.18 U 0.05")
    settled(runners)
    result = runners.session.bench.shown.result
    assert (result.characteristics[5].verdict, result.verdict) == ("NOT PROVEN", "NOT MEASURED")
    menu = runners.workspaces["plan"].workspace.ways.not_proven_menu()
    next(a for a in menu.actions() if a.text() == "Fail").trigger()
    settled(runners)
    assert runners.session.bench.shown.result.verdict == "FAIL"


def test_an_edge_is_taken_from_its_curve_and_its_sensitivity_dragged(runners, settled):
    """The cage's edge and the hem's both lie in a zone over the whole right half."""
    runners.session.bench.select(11)
    runners.session.bench.select_step("right-hem")
    settled(runners)
    bench = runners.session.bench
    step = bench.document.plan.step("right-hem")
    zone = step.zone.model_copy(update={"x": 10.0, "y": 0.0, "width": 26.0, "height": 14.0})
    bench.document.edit("zone", bench.document.plan.with_step(step.edited(zone=zone)))
    settled(runners)
    assert bench.shown.result.steps["right-hem"].value.x < 1.0, "the cage's edge is the stronger one"
    picture = card(runners, "right-hem").picture
    curve = picture._picture
    hem = max(curve.candidates)
    assert hem == pytest.approx(20.1, abs=0.3)
    QTest.mouseClick(picture, *CLICK, QPoint(round(picture._at(curve, hem)), 20))
    settled(runners)
    params = bench.document.plan.step("right-hem").params
    assert params["pick"] == "nearest"
    assert params["sensitivity"] < 30, "it is far weaker than the other one"
    assert bench.shown.result.steps["right-hem"].value.x == pytest.approx(20.1, abs=0.2)
    runners.trigger("edit.undo")
    settled(runners)
    picture = card(runners, "right-hem").picture
    box = picture._box()
    line = QPoint(60, round(box.bottom() - 0.3 * (box.height() - 3)))
    QTest.mousePress(picture, *CLICK, line)
    QTest.mouseMove(picture, QPoint(60, 12))
    QTest.mouseRelease(picture, *CLICK, QPoint(60, 12))
    settled(runners)
    sensitivity = bench.document.plan.step("right-hem").params["sensitivity"]
    assert 70 < sensitivity < 100
    assert bench.shown.result.steps["right-hem"].outcome.facts[2] == ("candidates", "1")


def test_while_a_limit_is_dragged_the_share_in_limits_decides(runners):
    """Limits so wide that the dent passes flip its runner; so narrow that nothing does, the good ones."""
    bench = runners.session.bench
    plan, parts = bench.document.plan, bench.tray.parts
    row = plan.characteristic(4)
    assert row.over == "share"
    assert verdict_changes(parts, row, plan.by_profile) == []
    wide = verdict_changes(parts, row.edited(lower=0.5), plan.by_profile)
    assert [part.name for part in wide] == ["runner-06"]
    narrow = verdict_changes(parts, row.edited(lower=0.949), plan.by_profile)
    assert {part.name for part in narrow} == {"runner-01", "runner-02"}


def test_commands_for_profiles_begin_there_and_those_for_maps_do_not(runners):
    new, section = runners.workspaces["plan"].workspace.new, runners.workspaces["plan"].workspace.section
    runners.trigger("characteristic.diameter")
    assert section.prompt == ""
    runners.trigger("characteristic.groove-depth")
    assert section.prompt.startswith("Groove depth: click the middle of it")
    new.begin("diameter")  # by another way
    assert new.chooser.isVisible()
    QTest.keyClick(new.chooser, Qt.Key.Key_Escape)
    assert not new.chooser.isVisible()


def test_top_view_profile_and_strips_share_the_height(runners, settled):
    workspace = runners.workspaces["plan"].workspace
    runners.trigger("view.cycle")
    resize(runners, runners.size())
    views = workspace.stage, workspace.section, workspace.strips
    assert all(view.isVisible() and view.height() >= 140 for view in views), [v.height() for v in views]
