"""What somebody new wants of an empty plan, each in at most fifteen clicks, keys or typed fields."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QLineEdit
from test_profile_plans import runners, small_runners  # noqa: F401
from test_window import LEFT, pixel, values

from hemtra import Plan
from hemtra.core.edits.anchors import followers
from hemtra.desktop.models.zone_drag import handle_pixels
from hemtra.desktop.shell.command_search import CommandSearch

MOST = 15


class Person:
    """Clicks and types, and counts what it takes."""

    def __init__(self, window, settled):
        self.window, self.settled, self.actions = window, settled, 0
        self.plan_page = window.workspaces["plan"].workspace
        self.bench = window.session.bench

    @property
    def plan(self) -> Plan:
        return self.bench.document.plan

    @property
    def row(self):
        """What the sheet says of the selected row."""
        return values(self.window)[self.bench.balloon]

    def _done(self) -> None:
        self.actions += 1
        self.settled(self.window)

    def key(self, *keys, on=None):
        for key in keys:
            QTest.keyClick(on or self.window.focusWidget() or self.plan_page.stage, key)
            self._done()

    def ask(self, *letters):
        """The list of what can be measured, and letters in it."""
        stage, new = self.plan_page.stage, self.plan_page.new
        stage.setFocus()
        self.key(Qt.Key.Key_N, on=stage)
        for letter in letters:
            self.key(letter, on=new.features if new.features.isVisible() else new.chooser)

    def click(self, *places):
        for x, y in places:
            QTest.mouseClick(self.plan_page.stage, LEFT, pos=pixel(self.plan_page.stage, x, y))
            self._done()

    def chip(self, step_id):
        QTest.mouseClick(self.plan_page.lineage.chips[step_id], LEFT)
        self._done()
        return self.plan_page.card.step_card

    def command(self, words):
        """Ctrl+K, its words, Enter."""
        QTest.keyClick(self.window, Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
        search = next(d for d in self.window.findChildren(CommandSearch) if d.isVisible())
        QTest.keyClicks(search.query, words)
        titles = [search.found.item(k).text() for k in range(search.found.count())]
        for _ in range(titles.index(words)):
            QTest.keyClick(search.query, Qt.Key.Key_Down)
        QTest.keyClick(search.query, Qt.Key.Key_Return)
        self.actions += 2 + titles.index(words)
        self._done()

    def choose(self, box: QComboBox, value):
        at = box.findData(value)
        assert at >= 0
        box.setCurrentIndex(at)
        box.activated.emit(at)
        self._done()

    def enter(self, field: QLineEdit, text):
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(field, text)
        QTest.keyClick(field, Qt.Key.Key_Return)
        self._done()

    def step(self, kind):
        """The step of a kind that was made last."""
        return [step for step in self.plan.steps if step.kind == kind][-1]


@pytest.fixture
def person(demo, settled):
    """On an empty plan with the parts of the demo."""
    demo.session.plans.new()
    settled(demo)
    made = Person(demo, settled)
    yield made
    assert 0 < made.actions <= MOST


def test_an_anchor_with_a_cut_out(person):
    person.command("Find the part by its outline")
    person.command("Zone: cut out")
    outline = person.step("outline")
    assert len(outline.zone.cut) == 1
    stage = person.plan_page.stage
    cut = handle_pixels(stage.marks.selected_zone(), stage.viewport)
    start = QPointF(*cut["cut-0:body"]).toPoint() if "cut-0:body" in cut else pixel(stage, 0, 0)
    QTest.mousePress(stage, LEFT, pos=start)
    QTest.mouseMove(stage, start + QPoint(20, 0))
    QTest.mouseMove(stage, start + QPoint(40, 0))
    QTest.mouseRelease(stage, LEFT, pos=start + QPoint(40, 0))
    person._done()
    assert person.step("outline").zone.cut[0] != outline.zone.cut[0]
    found = person.bench.shown.result.steps["outline"].value
    home = person.step("outline").home
    assert np.hypot(found.x - home.x, found.y - home.y) < 0.1, "it is still found where it lies"


def test_a_height_over_the_lowest_half(person):
    person.ask(Qt.Key.Key_H)
    person.click((42, 19))
    card = person.chip(person.step("plane").id)
    person.choose(card.fields["use"], "lowest")
    card = person.plan_page.card.step_card
    share = next(name for name in card.fields if name.startswith("low") or name == "share")
    person.enter(card.fields[share], "50")
    assert person.step("plane").params["use"] == "lowest"
    assert person.row.value == pytest.approx(4.0, abs=0.1)


def test_a_step_of_means_against_the_master(person):
    person.ask(Qt.Key.Key_S)
    person.click((42, 19), (35, 0))
    card = person.chip(person.step("spot").id)
    person.choose(card.fields["take"], "mean")
    person.command("Evaluate the difference from the reference part")
    assert person.bench.row.from_master
    assert person.row.value == pytest.approx(0.0, abs=1e-9)


def test_the_highest_in_an_ellipse_with_a_mask_and_a_band(person):
    person.ask(Qt.Key.Key_H)
    person.click((24, -16))
    spot = person.step("spot").id
    card = person.chip(spot)
    person.choose(card.fields["take"], "highest")
    person.command("Zone: cut out")
    card = person.plan_page.card.step_card
    person.enter(card.numbers.band["high"], "1")
    step = person.plan.step(spot)
    assert (step.zone.shape, len(step.zone.cut), step.zone.band.words) == ("ellipse", 1, "below 1 mm")
    assert person.row.value == pytest.approx(0.0, abs=0.05)


def test_a_gap_with_the_strength_of_its_edges(person):
    person.ask(Qt.Key.Key_G)
    person.click((-29.5, 0), (-26, 0))
    card = person.chip(person.step("profile-edge").id)
    assert person.row.value == pytest.approx(0.5, abs=0.1)
    assert not card.picture.isHidden(), "the strength along the section, from which the edge is taken"


def test_an_edge_to_a_printed_one_in_inches(person):
    stage = person.plan_page.stage
    stage.setFocus()
    person.key(Qt.Key.Key_I, on=stage)
    person.ask(Qt.Key.Key_D)
    person.click((-32.5, -17), (-58.6, 0))
    QTest.mouseClick(person.window.band.unit, LEFT)
    person._done()
    # one on the print, one where the surface ends and nothing is printed
    edges = [s.params.get("on", "height") for s in person.plan.steps if s.kind == "edge"]
    assert sorted(edges) == ["brightness", "height"]
    assert 26.0 < person.row.value < 30.0
    assert person.plan_page.sheet.row_of(person.bench.balloon).tolerance.text().endswith(" in")
    person.window.trigger("view.unit")


def test_two_anchors_one_for_x_and_one_for_the_height(person):
    person.window.trigger("anchor.outline")
    person.settled(person.window)
    person.actions += 3
    person.ask(Qt.Key.Key_H)
    person.click((42, 19))
    spot = person.step("spot").id
    button = person.chip(spot).follow
    button.fill()
    height = next(a.menu() for a in button.menu().actions() if a.text() == "Height from")
    next(a for a in height.actions() if a.text() == "Plane A").trigger()
    person.actions += 1
    person._done()
    follow = person.plan.step(spot).follow
    assert (follow.x, follow.z) == ("outline", person.step("plane").id)
    assert {s.id for s in followers(person.plan, follow.z)} == {spot}
    assert person.row.verdict == "PASS"


def test_a_bead_by_hand_with_a_nominal_at_a_node(person):
    person.ask(Qt.Key.Key_4)
    person.click((-40, -32.5), (0, -32.5), (40, -32.5))
    person.key(Qt.Key.Key_Return, on=person.plan_page.stage)
    card = person.chip(person.step("path").id)
    person.enter(card.numbers.fields["nominal"], "3")
    card = person.chip("(row)") or person.plan_page.card.step_card
    person.choose(card.fields["from_nodes"], True)
    assert person.step("path").zone.nodes[0].nominal == 3.0
    assert person.step("along").params["from_nodes"] is True
    assert person.row.value == pytest.approx(0.0, abs=0.6)


def test_count_and_volume_of_what_stands_out(person):
    person.ask(Qt.Key.Key_N)
    person.click((42, 19))
    count = person.bench.balloon
    person.ask(Qt.Key.Key_V)
    person.click((42, 19))
    assert values(person.window)[count].value >= 1
    # a boss of 12 mm and 4 mm high with a hole of 5
    assert 300 < person.row.value < 460


def test_a_plane_of_three_spots_and_how_far_it_lies_from_another(person):
    person.ask(Qt.Key.Key_Equal, Qt.Key.Key_T)
    person.click((42, 19), (-42, 19), (-42, -19))
    person.key(Qt.Key.Key_Return, on=person.plan_page.stage)
    person.ask(Qt.Key.Key_Equal, Qt.Key.Key_V)
    person.click((14, 0))
    person.plan_page.new.pick(person.step("plane-through").id)
    person.actions += 1
    person._done()
    assert person.row.value == pytest.approx(4.0, abs=0.05)


def test_an_angle_of_planes_a_code_and_a_formula(person):
    person.ask(Qt.Key.Key_Equal, Qt.Key.Key_A)
    person.click((14, 0), (24, -16))
    assert person.row.value == pytest.approx(0.0, abs=0.2)
    person.ask(Qt.Key.Key_C)
    person.click((-27, -17))
    assert person.row.text.startswith("RPC-7")
    person.ask(Qt.Key.Key_X)
    assert person.step("formula").inputs["numbers"]


def test_a_profile_with_the_reference_behind_it(runners, settled):  # noqa: F811
    person = Person(runners, settled)
    stage, part = person.plan_page.stage, person.bench.tray.current
    section = person.plan_page.section
    runners.trigger("characteristic.new")
    person.key(Qt.Key.Key_H, on=person.plan_page.new.chooser)
    axes = section.axes()
    QTest.mouseClick(section, LEFT, pos=axes.at(16.0 - axes.start, 1.5).toPoint())
    person._done()
    person.actions += 1
    assert person.bench.row.balloon == 12
    stage.setFocus()
    person.key(Qt.Key.Key_Space, on=stage)
    assert person.bench.tray.current is not part
    assert np.isfinite(person.bench.shown.reference.z).any()
    assert person.actions <= MOST
