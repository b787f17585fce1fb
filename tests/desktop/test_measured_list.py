"""A drawing's list measured by itself in the window: gone through with Enter and arrows, in few actions."""

import sys
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from test_profile_plans import runners, small_runners  # noqa: F401
from test_window import LEFT, message, values

from hemtra import Plan

sys.path.insert(0, str(Path(__file__).parents[1] / "core"))
from test_drawing_list import cover_list

MOST_ACTIONS = 30
CTRL = Qt.KeyboardModifier.ControlModifier


class Acting:
    """Clicks and keys, counted."""

    def __init__(self, window, settled):
        self.window, self.settled, self.count = window, settled, 0

    def key(self, widget, key, modifiers=Qt.KeyboardModifier.NoModifier):
        self.count += 1
        QTest.keyClick(widget, key, modifiers)
        self.settled(self.window)

    def click(self, widget):
        self.count += 1
        QTest.mouseClick(widget, LEFT)
        self.settled(self.window)


def listed(demo, settled, tmp_path):
    """An empty plan on the demo's parts with the list of the drawing; what was done is counted."""
    acting, workspace = Acting(demo, settled), demo.workspaces["plan"].workspace
    acting.key(workspace.stage, Qt.Key.Key_N, CTRL | Qt.KeyboardModifier.ShiftModifier)
    assert demo.session.bench.document.plan == Plan()
    demo.trigger("anchor.outline")
    settled(demo)
    acting.count += 3  # Ctrl+K, its name, Enter
    path = tmp_path / "list.csv"
    path.write_text(cover_list())
    demo.workspaces["plan"].commands.import_requirements(path)
    settled(demo)
    acting.count += 4  # Ctrl+K, its name, Enter, and the file
    return acting, workspace


def test_on_a_profile_the_places_are_pointed_at(runners, settled):  # noqa: F811
    bench, workspace = runners.session.bench, runners.workspaces["plan"].workspace
    plan = bench.document.plan
    depth = plan.characteristic(1)
    depth_kind = plan.step(depth.step).kind
    bench.document.edit("unbound", plan.with_characteristic(depth.edited(step=None, unit="mm")))
    settled(runners)
    QTest.keyClick(workspace.stage, Qt.Key.Key_M)
    settled(runners)
    assert workspace.match_bar.text.text().startswith("1 Left groove depth, 0.900 ±0.050: Depth")
    ((x, z),) = workspace.section.pointed
    assert abs(x + 16.0) < 0.3
    assert z < 8.0
    QTest.keyClick(workspace.match_bar, Qt.Key.Key_Return)
    settled(runners)
    assert bench.document.plan.step(bench.document.plan.characteristic(1).step).kind == depth_kind
    assert workspace.section.pointed == []
    assert values(runners)[1].verdict == "PASS"


def test_from_an_empty_plan_to_the_evaluated_list(demo, settled, tmp_path, qtbot):
    acting, workspace = listed(demo, settled, tmp_path)
    bench, bar = demo.session.bench, workspace.match_bar
    assert "24 rows wait" in message(demo)
    acting.key(workspace.stage, Qt.Key.Key_M)
    assert bar.isVisible()
    assert bar.text.text().startswith("1 Boss NE, 4.00 ±0.10: Height far right")
    qtbot.waitUntil(lambda: workspace.stage.ahead is not None, timeout=120_000)
    assert workspace.mends.isHidden(), "one line says what to do"
    assert all(row.step is None for row in bench.document.plan.sheet), "nothing is bound silently"
    acting.click(bar.buttons["all"])
    sure = [row for row in bench.document.plan.sheet if row.step is not None]
    assert len(sure) >= 9
    while workspace.matching.shown is not None and acting.count < MOST_ACTIONS:
        row = workspace.matching.shown
        # the draft of the rib has no match, the seat of the plug only a wrong one, which is not sure
        skip = not row.matches or int(row.row.balloon) == 24
        if skip and all(int(r.row.balloon) in (17, 24) for r in workspace.matching.rows):
            break
        acting.key(bar, Qt.Key.Key_Down if skip else Qt.Key.Key_Return)
    acting.key(bar, Qt.Key.Key_Escape)
    assert bar.isHidden()
    assert acting.count <= MOST_ACTIONS
    evaluated = values(demo)
    measured = [b for b, c in evaluated.items() if c.verdict == "PASS"]
    assert len(measured) >= 20, [(str(b), c.reason) for b, c in evaluated.items() if b not in measured]
    # each binding is an edit that undo takes back
    demo.trigger("edit.undo")
    settled(demo)
    assert sum(row.step is None for row in bench.document.plan.sheet) == 24 - len(measured) + 1


def test_others_are_shown_and_rows_bound_by_hand_wait_no_more(demo, settled, tmp_path):
    acting, workspace = listed(demo, settled, tmp_path)
    bench, bar, matching = demo.session.bench, workspace.match_bar, workspace.matching
    acting.key(workspace.stage, Qt.Key.Key_M)
    first = bar.text.text()
    acting.key(bar, Qt.Key.Key_Right)
    assert "2 of" in bar.text.text()
    acting.key(bar, Qt.Key.Key_Left)
    assert bar.text.text() == first
    acting.key(bar, Qt.Key.Key_Up)
    assert bench.balloon == 24
    acting.key(bar, Qt.Key.Key_Down)
    assert bench.balloon == 1
    demo.trigger("characteristic.height")
    workspace.stage.place_picked.emit(42.0, 19.0)
    settled(demo)
    assert matching.rows[0].row.balloon == 2
    demo.trigger("edit.undo")
    plan = bench.document.plan
    bench.document.edit("fewer", plan.edited(sheet=plan.sheet[:1]))
    settled(demo)
    assert matching.shown is None
    assert bar.isHidden()


def test_without_a_reference_there_is_nothing_to_measure_on(window):
    window.workspaces["plan"].workspace.matching.measure()
    assert "add the scan of a good part first" in message(window)
    assert not window.actions_by_id["sheet.match"].enabled()
