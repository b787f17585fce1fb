"""The Plan workspace: sheet, stage with section, tray and lineage, and who answers to what is done in them."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QEvent, Qt, Slot
from PySide6.QtGui import QKeyEvent, QResizeEvent
from PySide6.QtWidgets import QVBoxLayout, QWidget

from hemtra.core.plan.requirements import bound
from hemtra.core.proposals.mends import Mend
from hemtra.core.proposals.proposing import Proposal
from hemtra.desktop.documents.session import Session
from hemtra.desktop.models.strips import FailingStretch
from hemtra.desktop.models.tray import verdict_changes
from hemtra.desktop.plan.arrangement import Arrangement
from hemtra.desktop.plan.commands.anchors import Anchors
from hemtra.desktop.plan.commands.drawing_match import DrawingMatch
from hemtra.desktop.plan.commands.evaluation import PlanEvaluation
from hemtra.desktop.plan.commands.new_characteristic import NewCharacteristic
from hemtra.desktop.plan.commands.path_files import PathFiles
from hemtra.desktop.plan.commands.paths import Paths
from hemtra.desktop.plan.commands.patterns import Patterns
from hemtra.desktop.plan.commands.requirement_import import RequirementImport
from hemtra.desktop.plan.commands.step_edits import StepEdits
from hemtra.desktop.plan.commands.uncertainty import UncertaintyStudy
from hemtra.desktop.plan.panels.card_panel import CardPanel
from hemtra.desktop.plan.panels.connections import Connections
from hemtra.desktop.plan.panels.lineage import Lineage
from hemtra.desktop.plan.panels.match_bar import MatchBar
from hemtra.desktop.plan.panels.mend_bar import MendBar
from hemtra.desktop.plan.panels.plan_modes import PlanModes
from hemtra.desktop.plan.panels.rows import Rows
from hemtra.desktop.plan.panels.sheet import Sheet
from hemtra.desktop.plan.panels.tray_panel import TrayPanel
from hemtra.desktop.plan.section.feature_cut import FeatureCut
from hemtra.desktop.plan.section.section_view import SectionView
from hemtra.desktop.plan.section.strip_view import StripView
from hemtra.desktop.plan.stage.top_view import TopView
from hemtra.desktop.widgets.notifications import Notice
from hemtra.desktop.widgets.numbers_form import NumbersAsked
from hemtra.desktop.widgets.splitters import KeptSizes, splitter

SHEET, TRAY = 272, 140
"""Widths of sheet and tray, pixels."""


class PlanWorkspace(QWidget):
    """Lays the views out and connects what is done in them with who does it."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("workspace")
        bench, notifications, tasks = session.bench, session.notifications, session.tasks
        self.bench, self.edit = bench, session.edit_plan
        self.sheet, self.stage = Sheet(bench), TopView(bench)
        self.section, self.tray = SectionView(bench), TrayPanel(bench)
        self.strips, self.lineage, self.card = StripView(bench), Lineage(bench), CardPanel(bench)
        self._sizes = KeptSizes(session.settings.sizes)
        self.mends = MendBar(bench)
        views = self.stage, self.section, self.strips
        self.arrangement = Arrangement(bench, views, self.card, self._sizes, notifications)
        self.evaluation = PlanEvaluation(bench, notifications, self)
        self.new = NewCharacteristic(
            bench, self.stage, self.section, tasks, self._add, lambda text: notifications.post(Notice(text))
        )
        self.asked = NumbersAsked(self)
        self.steps = StepEdits(bench, self.edit, self.card.rebuild)
        self.anchors = Anchors(bench, notifications, tasks, self.edit)
        self.connections = Connections(bench, self.stage, notifications, self.edit)
        self.rows = Rows(bench, tasks, self.asked, self.edit)
        self.match_bar = MatchBar()
        self.matching = DrawingMatch(bench, self.new.preview, self.section, tasks, notifications, self.edit)
        self.uncertainty = UncertaintyStudy(bench, tasks, notifications, self.edit)
        self.requirements = RequirementImport(
            bench, self, notifications, self.edit, session.settings, session.plans.keep_settings
        )
        self.ways = PlanModes(bench, self.asked, self.edit)
        self.patterns = Patterns(bench, self.asked, self.edit)
        self.feature_cut = FeatureCut(bench, self.stage, tasks, self.edit)
        self.paths = Paths(bench, self.asked, notifications, self.edit)
        self.path_files = PathFiles(bench, self.stage, tasks, notifications, self.edit)
        self._selected = bench.balloon
        for view, page in (
            (self.sheet, "plan.md#set-limits"),
            (self.lineage, "plan.md#change-what-is-measured"),
            (self.card, "plan.md#change-what-is-measured"),
            (self.section, "measure-edges.md"),
            (self.strips, "measure-paths.md#read-the-strips"),
            (self.new.chooser, "plan.md#add-a-characteristic"),
            (self.tray, "plan.md#start"),
        ):
            view.setProperty("manual", page)
        self._lay_out()
        self._connect_views()
        self._connect_panels()

    def _lay_out(self) -> None:
        centre = QWidget()
        column = QVBoxLayout(centre)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        column.addWidget(self.arrangement.centre, 1)
        column.addWidget(self.mends)
        column.addWidget(self.match_bar)
        column.addWidget(self.lineage)
        self.columns = splitter(Qt.Orientation.Horizontal, (self.sheet, centre, self.tray))
        self.columns.setStretchFactor(1, 1)
        self.sheet.setMinimumWidth(SHEET)
        self.tray.setMinimumWidth(TRAY)
        self._sizes.keep(self.columns, "plan", (SHEET, 844, TRAY))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(6, 6, 6, 6)
        layout.addWidget(self.columns)

    def _connect_views(self) -> None:
        bench, stage, section = self.bench, self.stage, self.section
        bench.document.changed.connect(self._on_document)
        bench.selection_changed.connect(self._on_selection)
        self.evaluation.shown.connect(self.arrangement.place_strips)
        self.evaluation.flipped.connect(self.tray.show_flips)
        for view in (stage, section):
            view.zone_dragged.connect(self.steps.preview_zone)
            view.zone_dropped.connect(self.steps.set_zone)
            view.step_clicked.connect(bench.select_step)
        stage.line_moved.connect(bench.set_line)
        stage.balloon_clicked.connect(bench.select)
        stage.tools.prepared.connect(self.steps.prepare)
        stage.tools.space_toggled.connect(self.arrangement.toggle_space)
        stage.offer_taken.connect(self.new.take)
        stage.recoloured.connect(self.evaluation.evaluate)
        stage.rubbed.connect(self.anchors.erase_contour)
        stage.distance_picked.connect(bench.set_distance)
        stage.path_menu_wanted.connect(self.paths.show_menu)
        section.hovered.connect(stage.link)
        section.tools.zone_toggled.connect(self.connections.toggle_section_zone)
        self.strips.stretches.stretch_chosen.connect(self._go_to_stretch)

    def _connect_panels(self) -> None:
        rows, card, steps = self.rows, self.card, self.steps
        self.tray.unflip_requested.connect(self.evaluation.undo_verdict_changes)
        self.sheet.tolerance_typed.connect(self._set_tolerance)
        self.sheet.limit_dragged.connect(self._drag_limit)
        self.sheet.menu_wanted.connect(rows.show_menu)
        self.sheet.add_requested.connect(self.new.ask)
        card.tolerance_typed.connect(self._set_tolerance)
        card.row_typed.connect(rows.set_field)
        card.menu_wanted.connect(rows.show_menu)
        card.param_changed.connect(steps.set_param)
        card.params_changed.connect(steps.set_params)
        card.zone_typed.connect(steps.type_zone)
        card.band_typed.connect(steps.type_band)
        card.follow_chosen.connect(self.anchors.follow)
        card.anchor_wanted.connect(self.anchors.add)
        card.rub_wanted.connect(self._rub)
        card.inputs_connected.connect(self.connections.connect)
        card.input_pick_wanted.connect(self.connections.pick)
        card.own_preparation_wanted.connect(self.connections.add_step_preparation)
        card.path_changed.connect(self.paths.change)
        self.mends.wanted.connect(self._mend)
        self.match_bar.wanted.connect(self.matching.go)
        self.matching.changed.connect(self._show_match)

    def _show_match(self) -> None:
        """Show the matches of the current row; the list takes the keys meanwhile."""
        row = self.matching.shown
        self.mends.keep_quiet(row is not None)
        if row is None:
            self.match_bar.hide()
            return
        found = self.matching
        self.match_bar.show_match(row, found.number, len(found.sure), len(found.rows))
        self.match_bar.setFocus()

    @Slot(object)
    def _mend(self, mend: Mend) -> None:
        """Do what may help, or lead to where it is done."""
        if mend.plan is not None:
            changed = mend.plan
            self.edit(f"{mend.words[:1].lower()}{mend.words[1:]}", lambda: changed)
        elif mend.step:
            self.bench.open_card(mend.step)
        elif mend.ask == "outline":
            self.anchors.add_outline()
        elif mend.ask == "click":
            self.new.ask()

    def fold(self) -> None:
        """Give the stage the place of the panels beside it, or bring them back."""
        folded = self.sheet.isHidden()
        for panel in (self.sheet, self.tray):
            panel.setVisible(folded)
        if not folded:
            self.bench.close_card()

    @property
    def idle(self) -> bool:
        """Whether everything on screen is up to date."""
        return self.evaluation.idle

    def stop(self) -> None:
        """End the lanes."""
        self.arrangement.stop()
        self.evaluation.stop()
        self.stage.offers.lane.stop()
        self.new.preview.stop()

    def _on_document(self) -> None:
        if self.bench.balloon is not None and self.bench.row is None:
            self.bench.select(None)
        self.matching.follow_plan()
        if self.arrangement.fit_plan():
            self.bench.profile = None
        self.evaluation.follow_plan()

    def _on_selection(self) -> None:
        if self.bench.balloon != self._selected:
            self._selected = self.bench.balloon
            self.bench.line = self.bench.distance = None
        self.evaluation.evaluate()

    def _go_to_stretch(self, trouble: FailingStretch) -> None:
        """Show a failing stretch: on the stage, on the strips, and the section in its middle."""
        shown = self.bench.shown
        if shown is None or shown.along is None:
            return
        curve = shown.along.path.curve
        ends = curve.at(np.linspace(trouble.start, trouble.start + trouble.length, 20))
        if trouble.balloon != self.bench.balloon:
            self.bench.select(trouble.balloon)
        self.bench.set_distance(trouble.middle % curve.length if curve.closed else trouble.middle)
        (x0, y0), (x1, y1) = ends.min(axis=0).tolist(), ends.max(axis=0).tolist()
        room = shown.along.path.across
        self.stage.look_at((x0 - room, x1 + room, y0 - room, y1 + room))

    def _add(self, label: str, made: Proposal) -> None:
        row, balloon = self.bench.row, made.balloon
        if balloon is None:
            if self.edit(label, lambda: made.plan):
                self.bench.select_alone(made.step)
        elif row is not None and row.step is None:
            # what was just clicked is what the waiting row requires
            if self.edit(f"binding of {row.name}", lambda: bound(made.plan, row.balloon, balloon)):
                self.bench.select(row.balloon)
        elif self.edit(label, lambda: made.plan):
            self.bench.select(balloon)

    @Slot(int, str)
    def _set_tolerance(self, balloon: int, text: str) -> None:
        if not self.rows.set_tolerance(balloon, text):
            self.sheet.reject(balloon)

    @Slot(int, str, float, bool)
    def _drag_limit(self, balloon: int, limit: str, value: float, dropped: bool) -> None:
        """A limit dragged on its bar: meanwhile the tray shows changed verdicts, then it is an edit."""
        row = self.bench.document.plan.characteristic(balloon)
        if row is None:
            return
        moved = row.edited(**{limit: value})
        way = self.bench.document.plan.by_profile
        self.tray.show_verdict_changes(
            -1 if dropped else len(verdict_changes(self.bench.tray.parts, moved, way))
        )
        if dropped:
            self.rows.set_field(balloon, limit, value)

    @Slot(str)
    def _rub(self, step_id: str) -> None:
        self.bench.select_step(step_id)
        self.stage.rub("Drag to erase contour   ·   Esc: finish")

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape that nothing else takes closes the card."""
        if event.key() == Qt.Key.Key_Escape and self.bench.card is not None:
            self.bench.close_card()
        else:
            super().keyPressEvent(event)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """The card may get its place beside the section, or lose it."""
        super().resizeEvent(event)
        self.arrangement.place_card()

    def changeEvent(self, event: QEvent) -> None:
        """Repaint when the colours change."""
        if event.type() == QEvent.Type.StyleChange:
            self.card.rebuild()
            for view in (self.sheet, self.stage, self.section, self.strips.strips, self.tray, self.lineage):
                view.update()
        super().changeEvent(event)
