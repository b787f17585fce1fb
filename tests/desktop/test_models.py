"""What the desktop shows, without Qt."""

import math
from itertools import combinations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hemtra import HeightMap, HemtraError, Plan, PlanError, Scan, inspect
from hemtra.core.balloon_layout import SPACING, place_balloons
from hemtra.core.plan.budget import Budget
from hemtra.core.plan.document import Characteristic, Follow, Step
from hemtra.core.zones.zone import EllipseZone, RectangleZone
from hemtra.desktop.documents import recovery
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.models.document import PlanDocument
from hemtra.desktop.models.tray import Tray, TrayPart
from hemtra.desktop.models.versioned import MOST_UNDO
from hemtra.desktop.models.viewport import Viewport
from hemtra.desktop.models.zone_drag import dragged, grabbed, handle_pixels
from hemtra.desktop.widgets.notifications import Notifications
from hemtra.storage import settings
from hemtra.storage.trays import TrayEntry
from makers import box, sloped, step_plan

number = st.floats(-100, 100)
viewport = st.builds(
    Viewport, number, number, st.floats(0.001, 2), st.integers(100, 2000), st.integers(100, 2000)
)
pixel = st.tuples(st.floats(0, 2000), st.floats(0, 2000))
zone = st.builds(
    lambda cls, **fields: cls(**fields),
    st.sampled_from([RectangleZone, EllipseZone]),
    x=number,
    y=number,
    width=st.floats(1, 50),
    height=st.floats(1, 50),
    rotation=st.floats(-180, 180),
)


@given(viewport, pixel)
def test_pixels_and_millimetres_go_both_ways(view, at):
    assert view.to_screen(*view.to_part(*at)) == pytest.approx(at, abs=1e-6)


@given(viewport, pixel, st.floats(0.2, 5))
def test_zooming_keeps_what_is_under_the_pointer(view, at, factor):
    assert view.zoomed(*at, factor).to_part(*at) == pytest.approx(view.to_part(*at), abs=1e-6)


def test_y_points_up_and_fitting_shows_everything():
    view = Viewport(width=400, height=200).fitted((-30, 50, 0, 20))
    corners = [view.to_screen(x, y) for x in (-30, 50) for y in (0, 20)]
    assert all(0 <= x <= 400 and 0 <= y <= 200 for x, y in corners)
    assert view.to_screen(0, 20)[1] < view.to_screen(0, 0)[1]


@given(zone, number, number)
def test_dragging_the_body_moves_and_nothing_else(of, dx, dy):
    moved = dragged(of, "body", (1, 1), (1 + dx, 1 + dy))
    assert (moved.x, moved.y) == pytest.approx((of.x + dx, of.y + dy), abs=1e-3)
    assert (moved.width, moved.height, moved.rotation) == (of.width, of.height, of.rotation)


@given(zone, st.integers(0, 3), st.floats(-0.4, 0.4), st.floats(-0.4, 0.4))
def test_dragging_a_corner_keeps_the_opposite_one(of, corner, dx, dy):
    start = tuple(of.corners()[corner])
    now = (start[0] + dx, start[1] + dy)
    resized = dragged(of, f"corner-{corner}", start, now)
    assert resized.corners()[(corner + 2) % 4] == pytest.approx(of.corners()[(corner + 2) % 4], abs=3e-3)
    assert resized.corners()[corner] == pytest.approx(np.array(now), abs=3e-3)


@given(zone, st.floats(-170, 170))
def test_dragging_the_stalk_turns_about_the_centre(of, angle):
    start = (of.x + 10, of.y)
    now = (of.x + 10 * math.cos(math.radians(angle)), of.y + 10 * math.sin(math.radians(angle)))
    turned = dragged(of, "rotate", start, now)
    off = (turned.rotation - of.rotation - angle + 180) % 360 - 180
    assert abs(off) < 0.02
    assert (turned.x, turned.y, turned.width) == (of.x, of.y, of.width)
    snapped = dragged(of, "rotate", start, now, snap=True)
    assert snapped.rotation % 15 == pytest.approx(0, abs=1e-6) or snapped.rotation % 15 == pytest.approx(15)


def test_handles_are_grabbed_where_they_stand():
    view, of = Viewport(scale=0.1, width=400, height=400), box(width=8, height=4, rotation=20)
    for name, place in handle_pixels(of, view).items():
        assert grabbed(of, view, place) == name
    assert grabbed(of, view, view.to_screen(0, 0)) == "body"
    assert grabbed(of, view, (5, 5)) is None


spots = st.tuples(st.floats(100, 700), st.floats(50, 350))


@given(st.lists(spots, min_size=1, max_size=20))
def test_balloons_stand_in_columns_apart_from_each_other(anchors):
    places = place_balloons(anchors, (60.0, 20.0, 740.0, 380.0))
    assert len(places) == len(anchors)
    assert {x for x, _ in places} <= {60.0, 740.0}
    assert all(20.0 - 1e-9 <= y <= 380.0 + 1e-9 for _, y in places)
    assert min((math.dist(a, b) for a, b in combinations(places, 2)), default=SPACING) > 22.0


@given(st.lists(spots, min_size=2, max_size=24, unique=True))
def test_no_two_leaders_cross(anchors):
    leaders = list(zip(anchors, place_balloons(anchors, (60.0, 20.0, 740.0, 380.0)), strict=True))
    assert not [1 for a, b in combinations(leaders, 2) if cross(a, b)]


def test_more_balloons_than_fit_beside_the_part_stand_further_out():
    anchors = [(400.0 + k % 7, 100.0 + k) for k in range(90)]
    places = place_balloons(anchors, (200.0, 20.0, 600.0, 380.0))
    assert len(set(places)) == 90
    assert min(math.dist(a, b) for a, b in combinations(places, 2)) >= 22.0


def cross(one, other):
    """Whether two lines cross, and not only touch."""

    def side(a, b, c):
        return (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])

    (a, b), (c, d) = one, other
    apart = side(a, b, c) * side(a, b, d), side(c, d, a) * side(c, d, b)
    return max(apart) < -1e-6


def test_undo_and_redo_walk_through_history():
    document = PlanDocument()
    plans = [step_plan(), step_plan(upper=(1.5, 0)), step_plan(upper=(2.0, 0))]
    document.open(plans[0], None, None)
    document.edit("first move", plans[1])
    document.edit("second move", plans[2])
    assert document.undo_label == "second move"
    document.undo()
    assert document.plan == plans[1]
    assert (document.undo_label, document.redo_label) == ("first move", "second move")
    document.undo()
    document.undo()
    assert document.plan == plans[0]
    assert not document.unsaved
    document.redo()
    document.edit("another", plans[2])
    assert document.redo_label == "", "a new edit ends the way forward"
    assert document.unsaved


def followed_by_its_own(anchor):
    """The steps of a plan, the first of which follows another one."""
    up, *others = step_plan().steps
    return (up.edited(follow=Follow(x=anchor)), *others)


@pytest.mark.parametrize(
    ("steps", "words"),
    [
        ((), "there is no step “rise”"),
        (followed_by_its_own("rise"), "need each other in a circle"),
        (followed_by_its_own("nowhere"), "follows the step “nowhere”, which does not exist"),
    ],
)
def test_an_edit_that_does_not_hold_changes_nothing(steps, words):
    """It is refused in words, also where rows know their uncertainty, which rests on their steps."""
    plan = step_plan()
    plan = plan.with_characteristic(plan.sheet[0].edited(budget=Budget(method="as then")))
    document = PlanDocument()
    document.open(plan, None, None)
    with pytest.raises(PlanError, match=words):
        document.edit("nonsense", plan.edited(steps=steps))
    assert document.plan == plan
    assert document.undo_label == ""


def test_a_preview_is_shown_but_not_kept():
    document, heard = PlanDocument(), []
    document.open(step_plan(), None, None)
    document.changed.connect(lambda: heard.append(document.shown))
    document.preview(step_plan(upper=(3, 0)))
    assert document.shown != document.plan
    assert not document.unsaved
    document.preview(None)
    assert document.shown == document.plan
    assert len(heard) == 2


def test_history_is_capped():
    document = PlanDocument()
    for k in range(MOST_UNDO + 50):
        document.edit(f"edit {k}", step_plan(upper=(1 + k / 1000, 0)))
    for _ in range(MOST_UNDO + 50):
        document.undo()
    assert document.plan == step_plan(upper=(1 + 49 / 1000, 0))


def part(tag="unknown", height=0.0) -> TrayPart:
    made = TrayPart(Scan(sloped(z0=height), name=f"{tag}.x3p"), tag=tag)
    made.result = inspect(step_plan(), made.scan)
    made.stale = False
    return made


def test_a_bad_part_should_fail_and_not_only_be_unmeasured():
    """That nothing was measured says nothing of a part, unless its tag says so."""
    empty = TrayPart(Scan(HeightMap(np.full((20, 20), np.nan))), tag="bad")
    row = Characteristic(balloon=1, name="Height", step="top", upper=1.0)
    spot = Step(id="top", name="Top", kind="height", inputs={"point": ("spot",), "plane": ("plane",)})
    zone = RectangleZone(x=0.5, y=0.5, width=0.8, height=0.8)
    zoned = [Step(id=kind, name=kind, kind=kind, zone=zone) for kind in ("spot", "plane")]
    empty.result = empty.engine.run(Plan(steps=(*zoned, spot), sheet=(row,)))
    assert empty.result.verdict == "NOT MEASURED"
    assert empty.agrees is False
    empty.tag = "not measurable"
    assert empty.agrees is True
    empty.tag, empty.result = "bad", empty.engine.run(Plan())
    assert empty.agrees is None, "a plan without any row agrees with nothing"


def test_agreement_counts_only_what_is_known():
    tray = Tray()
    assert tray.agreement == (0, 0)
    for tag in ("good", "bad", "unknown"):
        tray.add(part(tag))
    assert tray.agreement == (1, 2), "the flat part passes: right for good, wrong for bad"
    tray.step(-1)
    assert tray.current is tray.parts[2]
    tray.step(1)
    assert tray.current is tray.parts[0]


def test_selecting_a_characteristic_selects_what_it_looks_at(plan):
    bench = WorkspaceModel()
    bench.document.open(plan, None, None)
    bench.select(1)
    assert bench.selected_step == "boss-ne-top", "the spot itself, not the datum that all share"
    bench.select(15)
    assert bench.selected_step == "flange-n"
    bench.select(None)
    assert bench.lineage() == ()


def test_settings_survive_damage(own_folders):
    path = settings.settings_path()
    settings.save_settings(settings.Settings(recent=["/a.hplan"], dark=True))
    assert settings.load_settings().dark
    path.write_text('{"recent": ["/a.hplan"], "dark": "perhaps", "future": 1}')
    assert settings.load_settings() == settings.Settings(recent=["/a.hplan"])
    path.write_text("{ torn")
    assert settings.load_settings() == settings.Settings()
    assert path.with_suffix(".json.damaged").read_text() == "{ torn"


def test_recent_plans_are_few_and_newest_first(tmp_path):
    kept = settings.Settings()
    for k in range(15):
        kept.opened(tmp_path / f"{k}.hplan")
    kept.opened(tmp_path / "9.hplan")
    assert len(kept.recent) == settings.MOST_RECENT
    assert kept.recent[:2] == [str(tmp_path / "9.hplan"), str(tmp_path / "14.hplan")]


def test_unsaved_work_is_found_again_unless_its_program_still_runs(own_folders, tmp_path, plan):
    entries = [TrayEntry(tmp_path / "a.x3p", "good")]
    mine = recovery.own_file()
    recovery.keep(recovery.State(mine, plan, tmp_path / "p.hplan", tuple(entries)))
    assert recovery.find() is None, "this process still runs"
    mine.rename(mine.with_name("999999999-3.json"))
    (recovery.recovery_folder() / "999999998-0.json").write_text("{ torn")
    found = recovery.find()
    assert found.plan == plan, "an unreadable one is passed over"
    assert found.path == tmp_path / "p.hplan"
    assert list(found.tray) == entries
    recovery.forget(recovery.find().file)
    assert recovery.find() is None


def test_expected_errors_speak_for_themselves_and_bugs_do_not_leak(caplog):
    told, notifications = [], Notifications()
    notifications.notified.connect(told.append)
    notifications.error(HemtraError("The disk is full."))
    notifications.error(ZeroDivisionError("division by zero"))
    assert told[0].text == "The disk is full."
    assert "Your work is still here" in told[1].text
    assert "unexpected error" in caplog.text


def test_an_empty_plan_has_nothing_to_show():
    bench = WorkspaceModel()
    assert bench.row is None
    assert bench.document.plan == Plan()
