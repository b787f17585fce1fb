"""Nothing on screen is cut, covered, without a name or out of reach, in any state and at any size."""

from collections import deque
from contextlib import contextmanager, nullcontext
from dataclasses import replace
from itertools import combinations

import numpy as np
import pytest
from layout_audit import Audit, resize
from PySide6.QtCore import QPoint, QSize, Qt
from PySide6.QtGui import QContextMenuEvent
from PySide6.QtWidgets import QApplication, QWidget
from test_models import cross
from test_profile_plans import runners, small_runners  # noqa: F401
from test_records_workspace import looking, written  # noqa: F401
from test_station_workspace import at_station, seen  # noqa: F401

from hemtra import inspect
from hemtra.core.balloon_layout import points_at
from hemtra.core.gauge.study import Presented
from hemtra.core.maps.importing import PointCloud, Raster
from hemtra.core.plan.limits import CharacteristicResult, Verdict
from hemtra.core.plan.requirements import parse_requirements, read_table
from hemtra.desktop.documents.import_form import ImportForm
from hemtra.desktop.documents.plan_files import PlanFiles
from hemtra.desktop.models.bench import ROW, SCAN, Shown, WorkspaceModel
from hemtra.desktop.models.run_bench import RunBench
from hemtra.desktop.models.stage_balloons import stage_balloons
from hemtra.desktop.models.viewport import Viewport
from hemtra.desktop.shell.command_search import CommandSearch, ShortcutsAndSymbols
from hemtra.desktop.station.fields import pages_for
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.notifications import Notifications
from hemtra.desktop.widgets.splitters import KeptSizes, splitter
from hemtra.storage.scans import load_scan
from hemtra.storage.settings import Settings, load_settings, save_settings
from hemtra.virtual.demo import PARTS

SIZES = (QSize(1280, 800), QSize(1180, 720), QSize(1024, 640))
"""The last is what a screen of 1280 x 800 has at 125 %."""


@pytest.fixture
def audit():
    """Collects what is wrong in a test's states, and fails it for any."""
    found = Audit()
    yield found
    assert not found.found, "\n".join(f"{state}: {what}" for what, state in found.found.items())


def look(audit, window, state, sizes=SIZES):
    for size in sizes:
        resize(window, size)
        audit.look(window, f"{state} at {size.width()}")


@contextmanager
def commas(window):
    """Numbers with a comma, where the audit looks for points that are left; a point again after it."""
    window.session.show_numbers(window.session.unit, ",")
    yield
    window.session.show_numbers(window.session.unit, ".")


def test_rows_and_their_cards(demo, settled, audit):
    bench = demo.session.bench
    look(audit, demo, "the demo")
    bench.tray.select(2)
    # every third one; cards of rows are alike but for what stands in them
    for number, row in enumerate(bench.document.plan.sheet[::3]):
        # where room is shortest all of them, in the others, and without a card, a few
        few = number % 2 == 0
        sizes = SIZES if few else SIZES[2:]
        bench.close_card()
        bench.select(row.balloon)
        if few:
            settled(demo)
            look(audit, demo, row.name, sizes)
        bench.open_card(ROW)
        settled(demo)
        look(audit, demo, f"card of {row.name}", sizes)


def test_a_card_of_each_kind(demo, settled, audit):
    bench, kinds = demo.session.bench, set()
    bench.tray.select(2)
    with commas(demo):
        bench.open_card(SCAN)
        for row in bench.document.plan.sheet:
            bench.select(row.balloon)
            for step in (s for column in bench.lineage() for s in column):
                if step.kind not in kinds:
                    kinds.add(step.kind)
                    bench.open_card(step.id)
                    settled(demo)
                    look(audit, demo, f"card of {step.name}", SIZES[2:])
    assert len(kinds) > 10


def test_a_plan_in_inches(demo, settled, audit):
    bench = demo.session.bench
    demo.trigger("view.unit")
    bench.tray.select(2)
    with commas(demo):
        for balloon in (1, 9, 13, 18, 22):
            bench.select(balloon)
            bench.open_card(ROW)
            settled(demo)
            look(audit, demo, f"balloon {balloon} in inches", SIZES[2:])
    demo.trigger("view.unit")  # which is remembered


def test_the_revisions_and_the_columns_of_a_list(demo, settled, audit):
    commands = demo.workspaces["plan"].commands
    plan = demo.session.bench.document.plan
    demo.session.bench.document.edit("off", plan.with_characteristic(plan.sheet[0].edited(off=True)))
    for size in SIZES:
        resize(demo, size)
        revisions = commands.document.show_revisions()
        settled(demo)
        audit.look(revisions, f"revisions at {size.width()}")
        revisions.close()
        asked = demo.workspaces["plan"].workspace.requirements
        asked.take(read_table("Pos.;Merkmal;oberes Abmass;unteres Abmass\n1;Breite;0,1;-0,2\n"))
        audit.look(demo, f"columns at {size.width()}")
        asked.leave()
    matching = demo.workspaces["plan"].workspace.matching
    asked.take(parse_requirements("balloon,name,nominal,lower,upper,unit\n90,Bore diameter,20,19,21,mm\n"))
    matching.measure()
    settled(demo)
    look(audit, demo, "measuring the list")


def test_a_gauge_study_and_what_a_scan_does_not_say(demo, settled, audit, tmp_path):
    window, plan = demo.session.window, demo.session.bench.document.plan
    read = inspect(plan, demo.session.bench.tray.parts[0].scan).characteristics
    found = [
        Presented(f"a cover with a long name {k}", operator, trial, "PASS", rows_near(read, k + trial / 10))
        for k in range(3)
        for operator in ("Ada", "somebody of the late shift")
        for trial in (1, 2)
    ]
    for size in SIZES:
        resize(demo, size)
        gauge = demo.workspaces["plan"].commands.document.show_gauge()
        settled(demo)
        audit.look(gauge, f"gauge study at {size.width()}, before")
        gauge.show_presented(plan, found)
        audit.look(gauge, f"gauge study at {size.width()}")
        gauge.close()
        for foreign in (
            Raster(np.arange(600).reshape(20, 30)),
            PointCloud(np.random.default_rng(1).random((900, 3))),
        ):
            form = ImportForm(foreign, tmp_path / "a picture of a cover with a long name.png", window)
            form.show()
            audit.look(form, f"import of {type(foreign).__name__} at {size.width()}")
            form.close()


def rows_near(read, off):
    """What was read, a little off for each part and trial."""
    return tuple(
        replace(row, value=None if row.value is None else row.value + 1e-4 * off, least=None, greatest=None)
        for row in read
    )


def test_lists_of_what_can_be_made_and_a_feature_alone(demo, settled, audit):
    new, bench = demo.workspaces["plan"].workspace.new, demo.session.bench
    for ask in (new.ask, new.ask_features):
        ask()
        look(audit, demo, ask.__name__)
    new.leave()
    for step_id in ("frame-b", "outline", "boss-axis"):
        plan = bench.document.plan
        bench.document.edit("no rows", plan.edited(sheet=()))
        bench.select_alone(step_id)
        settled(demo)
        look(audit, demo, f"{step_id} alone")
        bench.document.undo()


def test_a_plan_of_profiles(runners, settled, audit):  # noqa: F811
    with commas(runners):
        for number, row in enumerate(runners.session.bench.document.plan.sheet):
            runners.session.bench.select(row.balloon)
            settled(runners)
            look(audit, runners, row.name, SIZES if number == 0 else SIZES[2:])


@pytest.mark.parametrize("unit", ["mm", "inch"])
def test_the_station_and_its_tasks(at_station, qtbot, audit, unit):  # noqa: F811
    page = at_station.workspaces["station"].page
    sizes = SIZES
    if unit == "inch":
        sizes = SIZES[2:]
        at_station.trigger("view.unit")
    with commas(at_station) if unit == "inch" else nullcontext():
        for number, fields in enumerate(pages_for(page.bench.station)):
            page.fields.show_page(number)
            seen(at_station, qtbot)
            look(audit, at_station, fields.title, sizes)
        for name in page.guided:
            page.begin(name)
            look(audit, at_station, name, sizes)
    if unit == "inch":
        at_station.trigger("view.unit")  # which is remembered


def test_run_and_its_forms(demo, audit):
    demo.show_workspace("run")
    with commas(demo):
        look(audit, demo, "run")
        demo.trigger("plan.signals")
        form = demo.workspaces["run"].forms.signals
        resize(form, form.size())
        audit.look(form, "signals")
        form.close()


def test_records(looking, audit):  # noqa: F811
    with commas(looking):
        look(audit, looking, "records")


def test_empty_window_and_dialogs(window, audit):
    for name in window.workspaces:
        window.show_workspace(name)
        look(audit, window, f"empty {name}")
    window.show_workspace("plan")
    for dialog in (
        CommandSearch(tuple(window.actions_by_id.values()), window.trigger, window),
        ShortcutsAndSymbols(window.actions_by_id.values(), window),
    ):
        dialog.show()
        assert dialog.height() <= window.height()
        audit.look(dialog, type(dialog).__name__)
        dialog.close()


def test_names_of_sixty_letters_are_shortened_in_lists_and_break_nothing(demo, settled):
    """As German ones may be: one word of sixty letters, and one in four words."""
    bench, found = demo.session.bench, Audit()
    names = "Höhendifferenz" + "messung" * 6 + "ende", "Höhendifferenz der Auflagefläche zum Bezug des Deckels"
    plan, long = bench.document.plan, names[0]
    steps = tuple(step.edited(name=f"{names[k % 2][:57]}{k}") for k, step in enumerate(plan.steps))
    sheet = tuple(row.edited(name=names[k % 2]) for k, row in enumerate(plan.sheet))
    bench.document.edit("names", plan.edited(steps=steps, sheet=sheet))
    for balloon in (1, 9, 13, 18):
        bench.select(balloon)
        for link in (ROW, bench.lineage()[0][0].id):
            bench.open_card(link)
            settled(demo)
            for size in SIZES[:2]:
                resize(demo, size)
                found.look(demo, f"row {balloon}, {link} at {size.width()}")
    lists = ("shortened in SheetRow", "shortened in TopBar", "shortened in SectionView", "field cut")
    worse = {what: state for what, state in found.found.items() if not what.startswith(lists)}
    assert not worse, "\n".join(f"{state}: {what}" for what, state in worse.items())
    row = demo.workspaces["plan"].workspace.sheet.row_of(1)
    assert long in row.toolTip()
    assert long in row.accessibleName()


def test_leaders_cross_on_no_part_and_no_balloon_covers_one(demo_folder, plan):
    """On all parts of the demo, which lie at all angles, in a stage of usual and of least size."""
    for part in PARTS:
        scan = load_scan(demo_folder / "tray" / part.file)
        result = inspect(plan, scan)
        extent = scan.data.extent
        for width, height in ((844, 456), (588, 294)):
            view = Viewport().resized(width, height).fitted(extent, (48.0, 44.0, 142.0, 10.0))
            shown = stage_balloons(plan, Shown(result), view, extent, 94.0)
            assert len(shown) == sum(points_at(plan, result, c) is not None for c in result.characteristics)
            leaders = [(b.anchor, b.place) for b in shown]
            assert not [1 for a, b in combinations(leaders, 2) if cross(a, b)], part.file
            left, right = view.to_screen(extent[0], 0)[0], view.to_screen(extent[1], 0)[0]
            assert all(not left - b.radius < b.place[0] < right + b.radius for b in shown)


def luminance(colour: str) -> float:
    """As the Web Content Accessibility Guidelines define it."""
    parts = [int(colour[k : k + 2], 16) / 255 for k in (1, 3, 5)]
    linear = [p / 12.92 if p <= 0.03928 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def contrast(one: str, other: str) -> float:
    low, high = sorted((luminance(one), luminance(other)))
    return (high + 0.05) / (low + 0.05)


@pytest.mark.parametrize("colours", [theme.LIGHT, theme.DARK], ids=["light", "dark"])
def test_all_text_can_be_read(colours):
    text = ("ink", "muted", "copper", "passed", "failed", "unmeasured", "anchor")
    for ground in ("paper", "fog", "field", "copper_wash"):
        for name in text:
            assert contrast(getattr(colours, name), getattr(colours, ground)) >= 4.5, (name, ground)
    for name, ground in (
        ("paper", "copper"),
        ("stage_ink", "stage"),
        ("on_spruce", "spruce"),
        ("ink", "failed_wash"),
    ):
        assert contrast(getattr(colours, name), getattr(colours, ground)) >= 4.5, (name, ground)
    assert contrast(colours.edge, colours.paper) >= 3.0, "fields are seen to be some"


def test_panels_fold_and_what_is_pushed_wider_stays_so(demo, qtbot):
    workspace = demo.workspaces["plan"].workspace
    wide = workspace.stage.width()
    demo.trigger("view.fold")
    resize(demo, demo.size())
    assert workspace.stage.width() > wide + 350
    demo.trigger("view.fold")
    resize(demo, demo.size())
    assert workspace.stage.width() == wide
    handle = workspace.columns.handle(1)
    qtbot.mousePress(handle, Qt.MouseButton.LeftButton, pos=QPoint(2, 100))
    qtbot.mouseMove(handle, QPoint(42, 100))
    qtbot.mouseRelease(handle, Qt.MouseButton.LeftButton, pos=QPoint(42, 100))
    pushed = workspace.columns.sizes()
    assert pushed[0] > 272
    kept = demo.session.settings.sizes["plan"]
    assert kept == pushed
    again = splitter(Qt.Orientation.Horizontal, [QWidget() for _ in range(3)])
    again.resize(workspace.columns.size())
    KeptSizes({"plan": kept}).keep(again, "plan", (1, 1, 1))
    assert again.sizes() == pushed
    for damaged in ([0, 0], [0, 0, 0], [10**12, 1, 1], [-5, 10, 10]):
        KeptSizes({"plan": damaged}).keep(again, "plan", (100, 100, 100))
        assert max(again.sizes()) - min(again.sizes()) <= 1, damaged
    demo.close()
    assert load_settings().sizes["plan"] == pushed
    save_settings(Settings())


def test_lists_say_their_rows_and_the_menu_key_asks_for_the_row(demo, qtbot, settled, monkeypatch):
    workspace = demo.workspaces["plan"].workspace
    demo.session.bench.tray.select(2)
    demo.session.bench.select(1)
    settled(demo)
    row = workspace.sheet.row_of(1)
    assert row.accessibleName() == "1 Boss NE, 3.71 mm, FAIL"
    assert row.accessibleDescription().startswith("4.00 ±0.10. 3.71, below 3.90")
    assert workspace.tray.cards[2].accessibleName() == "cover-03, tagged bad, FAIL"
    asked = []
    monkeypatch.setattr("hemtra.desktop.plan.panels.rows.offer", lambda menu, at: asked.append(menu))
    keyboard = QContextMenuEvent.Reason.Keyboard
    QApplication.sendEvent(workspace.sheet, QContextMenuEvent(keyboard, QPoint(5, 5), QPoint(5, 5)))
    assert len(asked) == 1


def test_the_colours_are_stretched_with_keys(demo, qtbot, settled):
    legend = demo.workspaces["plan"].workspace.stage.legend
    low, high = legend.span
    qtbot.keyClick(legend, Qt.Key.Key_Down)
    assert legend.span == pytest.approx((low, high - 0.02 * (high - low)))
    qtbot.keyClick(legend, Qt.Key.Key_Up, Qt.KeyboardModifier.ShiftModifier)
    assert legend.span[0] == pytest.approx(low + 0.02 * (high - low))
    qtbot.keyClick(legend, Qt.Key.Key_Home)
    assert legend.span == pytest.approx((low, high))


def test_the_operators_screen_shows_the_same_run(demo, qtbot):
    demo.trigger("run.operator-screen")
    screen = demo.workspaces["run"].operator_screen
    assert screen.isVisible()
    assert screen.isFullScreen()
    bench = demo.workspaces["run"].page.bench
    bench.set_state("paused")
    assert screen.verdict.accessibleName() == "Paused."
    bench.set_state("idle")
    qtbot.keyClick(screen, Qt.Key.Key_Escape)
    assert not screen.isVisible()


def test_text_grows_from_the_next_start_on(window, settled):
    window.trigger("view.larger")
    settled(window)
    assert load_settings().text_size == 110
    assert "110 %" in window.message_bar.text.text()
    for _ in range(9):
        window.trigger("view.smaller")
    settled(window)
    assert load_settings().text_size == 80
    window.session.settings.text_size = 100
    window.session.plans.keep_settings()
    settled(window)


def test_of_settings_kept_at_once_the_newest_stays(own_folders):
    class Later:
        def __init__(self):
            self.works = []

        def start(self, name, work):
            self.works.append(work)

    later, settings = Later(), Settings()
    files = PlanFiles(WorkspaceModel(), later, Notifications(), settings, None)
    for size in (110, 125):
        settings.text_size = size
        files.keep_settings()
    for work in reversed(later.works):
        work(None)
    assert load_settings().text_size == 125
    save_settings(Settings())


def test_what_comes_nearest_to_its_limits_in_spreads_is_shown_first(plan):
    bench = RunBench()
    rows = {
        "one limit, far from it": [made(1, value, lower=10.0) for value in (20.0, 20.1, 19.9)],
        "two limits, near one": [made(2, value, lower=9.9, upper=10.1) for value in (10.095, 10.099, 10.097)],
        "two limits, in the middle": [made(3, value, lower=9.9, upper=10.1) for value in (10.0, 10.01, 9.99)],
    }
    bench.trends = {rows[0].balloon: deque(rows) for rows in rows.values()}
    assert [bench.rows_by_margin(k, 1) for k in range(3)] == [[2], [3], [1]]


def made(balloon, value, **limits):
    """A value that passes."""
    limits = {"lower": None, "upper": None, **limits}
    return CharacteristicResult(
        balloon, "", "", value, "mm", None, decimals=3, verdict=Verdict.PASS, reason="", at=None, **limits
    )
