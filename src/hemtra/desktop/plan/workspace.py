"""The Plan workspace: sheet, stage with section, tray and lineage, and the edits made in them."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import QEvent, Qt, Slot
from PySide6.QtWidgets import QSplitter, QVBoxLayout, QWidget

from hemtra.core.edits.preparation import moved_preparation, with_preparation, without_preparation
from hemtra.core.errors import HemtraError
from hemtra.core.plan.document import Plan
from hemtra.core.plan.limits import Verdict
from hemtra.core.plan.registry import kind_named
from hemtra.core.plan.requirements import bound
from hemtra.core.zones.zone import AnyZone
from hemtra.desktop.background.evaluation import ShowRequest, TrayAnswer, TrayRequest, show, try_tray
from hemtra.desktop.background.latest_task import LatestTaskWorker
from hemtra.desktop.documents.session import Session
from hemtra.desktop.models.bench import Shown
from hemtra.desktop.models.strips import FailingStretch
from hemtra.desktop.models.tray import TrayPart, verdict_changes
from hemtra.desktop.plan.commands.anchors import Anchors
from hemtra.desktop.plan.commands.new_characteristic import NewCharacteristic
from hemtra.desktop.plan.commands.path_files import PathFiles
from hemtra.desktop.plan.commands.paths import Paths
from hemtra.desktop.plan.commands.patterns import Patterns
from hemtra.desktop.plan.panels.connections import Connections
from hemtra.desktop.plan.panels.lineage import Lineage
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

if TYPE_CHECKING:
    from hemtra.desktop.plan.stage.space_view import SpaceView


VIEWS = tuple(
    frozenset(views) for views in (("top", "section"), ("top", "3D"), ("3D",), ("top", "section", "3D"))
)
"""Arrangements of the stage, in the order in which they are gone through."""
PROFILE_VIEWS = tuple(
    frozenset(views) for views in (("section", "strips"), ("top", "section", "strips"), ("top", "3D"))
)
"""The same for a plan that goes profile by profile."""


class PlanWorkspace(QWidget):
    """Lays the views out, evaluates beside the window, and turns intents into edits."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("workspace")
        bench, notifications, tasks = session.bench, session.notifications, session.tasks
        self.bench, self._notifications, self.edit = bench, notifications, session.edit_plan
        self.sheet, self.stage = Sheet(bench), TopView(bench)
        self.section, self.tray = SectionView(bench), TrayPanel(bench)
        self.strips = StripView(bench)
        self.lineage = Lineage(bench)
        self.new = NewCharacteristic(
            bench, self.stage, self.section, tasks, self._add, lambda text: notifications.tell(Notice(text))
        )
        self.anchors = Anchors(bench, notifications, tasks, self.edit)
        self.connections = Connections(bench, self.stage, notifications, self.edit)
        self.asked = NumbersAsked(self)
        self.rows = Rows(bench, tasks, self.asked, self.edit)
        self.ways = PlanModes(bench, self.asked, self.edit)
        self.patterns = Patterns(bench, self.asked, self.edit)
        self.feature_cut = FeatureCut(bench, self.stage, tasks, self.edit)
        self.paths = Paths(bench, self.asked, notifications, self.edit)
        self.path_files = PathFiles(bench, self.stage, tasks, notifications, self.edit)
        self._show_lane = LatestTaskWorker(show, "stage", self)
        self._tray_lane = LatestTaskWorker(try_tray, "tray", self)
        self._asked: ShowRequest | None = None
        self._faults: tuple[str, ...] = ()
        self.space: SpaceView | None = None
        self.views = VIEWS[0]
        self._arranged = (False, False, True)
        self._lay_out()
        self._connect()

    def _lay_out(self) -> None:
        centre = QSplitter(Qt.Orientation.Vertical)
        self._above = QSplitter(Qt.Orientation.Horizontal)
        self._above.addWidget(self.stage)
        self._above.setHandleWidth(8)
        self._above.setChildrenCollapsible(False)
        centre.addWidget(self._above)
        self._below = QSplitter(Qt.Orientation.Vertical)
        self._below.addWidget(self.section)
        self._below.addWidget(self.strips)
        centre.addWidget(self._below)
        centre.setSizes([300, 150])
        self.strips.hide()
        self._centre = centre
        upper = QSplitter(Qt.Orientation.Horizontal)
        for view in (self.sheet, centre, self.tray):
            upper.addWidget(view)
        upper.setSizes([304, 780, 162])
        upper.setStretchFactor(1, 1)
        self.tray.setMinimumWidth(160)
        self.sheet.setMinimumWidth(250)
        whole = QSplitter(Qt.Orientation.Vertical)
        whole.addWidget(upper)
        whole.addWidget(self.lineage)
        whole.setSizes([454, 270])
        whole.setStretchFactor(0, 1)
        for splitter in (centre, self._below, upper, whole):
            splitter.setHandleWidth(8)
            splitter.setChildrenCollapsible(False)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 8, 8, 8)
        layout.addWidget(whole)

    def _connect(self) -> None:
        bench = self.bench
        bench.document.changed.connect(self._on_document)
        bench.tray.current_changed.connect(self.evaluate)
        bench.selection_changed.connect(self._on_selection)
        bench.line_changed.connect(self.evaluate)
        self._show_lane.responded.connect(self._on_shown)
        self._tray_lane.responded.connect(self._on_tried)
        for lane in (self._show_lane, self._tray_lane):
            lane.failed.connect(self._on_failed)
        self.stage.zone_dragged.connect(self._preview_zone)
        self.stage.zone_dropped.connect(self._set_zone)
        self.stage.line_moved.connect(bench.set_line)
        self.stage.balloon_clicked.connect(bench.select)
        self.stage.step_clicked.connect(bench.select_step)
        self.stage.tools.prepared.connect(self.prepare)
        self.stage.offer_taken.connect(self.new.take)
        self.stage.recoloured.connect(self.evaluate)
        self.stage.tools.space_toggled.connect(self._toggle_space)
        self._copied: AnyZone | None = None
        self.section.hovered.connect(self.stage.link)
        self.section.zone_dragged.connect(self._preview_zone)
        self.section.zone_dropped.connect(self._set_zone)
        self.section.step_clicked.connect(bench.select_step)
        self.section.tools.zone_toggled.connect(self.connections.toggle_section_zone)
        self.tray.unflip_requested.connect(self.undo_verdict_changes)
        rows = self.rows
        self.sheet.tolerance_typed.connect(self._set_tolerance)
        self.sheet.limit_dragged.connect(self._drag_limit)
        self.sheet.menu_wanted.connect(rows.show_menu)
        self.sheet.add_requested.connect(self.new.ask)
        self.lineage.tolerance_typed.connect(self._set_tolerance)
        self.lineage.row_typed.connect(rows.set_field)
        self.lineage.menu_wanted.connect(rows.show_menu)
        self.lineage.param_changed.connect(self._set_param)
        self.lineage.params_changed.connect(self._set_params)
        self.lineage.zone_typed.connect(self._type_zone)
        self.lineage.band_typed.connect(self._type_band)
        self.lineage.follow_chosen.connect(self.anchors.follow)
        self.lineage.anchor_wanted.connect(self.anchors.add)
        self.lineage.rub_wanted.connect(self._rub)
        self.lineage.inputs_connected.connect(self.connections.connect)
        self.lineage.input_pick_wanted.connect(self.connections.pick)
        self.lineage.own_preparation_wanted.connect(self.connections.add_step_preparation)
        self.stage.rubbed.connect(self.anchors.erase_contour)
        self.stage.distance_picked.connect(bench.set_distance)
        self.stage.path_menu_wanted.connect(self.paths.show_menu)
        self.strips.stretches.stretch_chosen.connect(self._go_to_stretch)
        self.lineage.path_changed.connect(self.paths.change)
        self._selected = bench.balloon
        self._evaluated: Plan | None = None
        self._tried: TrayRequest | None = None
        self._before: dict[int, Verdict] = {}
        self.flips: tuple[TrayPart, ...] = ()
        self._edits = 0
        """How many edits the flips came from: more than one where they followed faster than the tray."""

    # -- evaluation -------------------------------------------------------------------------------

    @property
    def idle(self) -> bool:
        """Whether everything on screen is up to date."""
        parts = self.bench.tray.parts
        shown_done = self._asked is None and self._show_lane.idle
        return shown_done and self._tray_lane.idle and not any(part.stale for part in parts)

    def show_views(self, views: frozenset[str]) -> None:
        """Show some of “top”, “section” and “3D”; the 3D view is made when it is wanted first."""
        if "3D" in views and self.space is None and not self._make_space():
            views = self._arrangements[0]
        self.views = views
        self.stage.setVisible("top" in views)
        self.section.setVisible("section" in views)
        self._arrange_strips()
        self._below.setVisible("section" in views)
        self._above.setVisible(bool(views & {"top", "3D"}))
        if self.space is not None:
            self.space.setVisible("3D" in views)
            if views >= {"top", "3D"}:
                self._above.setSizes([500, 500])
        self.stage.tools.show_views(views)

    def _arrange_strips(self) -> None:
        """Below the profile for runs of profiles; beside the section, which is short, along a path."""
        runs = "strips" in self.views
        beside = not runs and self.bench.shown_along and "section" in self.views
        state = (runs, beside, "top" in self.views)
        if state == self._arranged:
            return
        self._arranged = state
        self.strips.setVisible(runs or beside)
        self._below.setOrientation(Qt.Orientation.Vertical if runs else Qt.Orientation.Horizontal)
        if runs:
            self._centre.setSizes([200 if "top" in self.views else 0, 550])
            self._below.setSizes([300, 250])
        elif beside:
            self._centre.setSizes([250, 200])
            self._below.setSizes([300, 480])
        else:
            self._centre.setSizes([300, 150])

    def _go_to_stretch(self, trouble: FailingStretch) -> None:
        """Show a failing stretch: on the stage, on the strips, and the section in its middle."""
        shown = self.bench.shown
        if shown is None or shown.along is None:
            return
        course = shown.along.path.course
        ends = course.at(np.linspace(trouble.start, trouble.start + trouble.length, 20))
        if trouble.balloon != self.bench.balloon:
            self.bench.select(trouble.balloon)
        self.bench.set_distance(trouble.middle % course.length if course.closed else trouble.middle)
        (x0, y0), (x1, y1) = ends.min(axis=0).tolist(), ends.max(axis=0).tolist()
        room = shown.along.path.across
        self.stage.look_at((x0 - room, x1 + room, y0 - room, y1 + room))

    def _make_space(self) -> bool:
        """Make the 3D view; False where there is no OpenGL, which is told."""
        try:
            # loaded only where it is wanted: its library may be missing altogether
            from hemtra.desktop.plan.stage.space_view import SpaceView, has_opengl
        except (ImportError, OSError, AttributeError):
            found = False
        else:
            found = has_opengl()
        if not found:
            text = (
                "3D needs OpenGL 2, which this display does not offer. Install or enable its driver; top view"
            )
            self._notifications.tell(Notice(f"{text} and section show everything that is measured."))
            return False
        self.space = SpaceView(self.bench, self.stage)
        self.space.balloon_clicked.connect(self.bench.select)
        self.space.failed.connect(self._notifications.error)
        self._above.addWidget(self.space)
        return True

    def _toggle_space(self, shown: bool) -> None:
        self.show_views(self.views | {"3D"} if shown else self._arrangements[0])

    @property
    def _arrangements(self) -> tuple[frozenset[str], ...]:
        return VIEWS if self.bench.document.plan.by_profile is None else PROFILE_VIEWS

    def cycle_views(self) -> None:
        """The next arrangement of the stage."""
        among = self._arrangements
        at = among.index(self.views) if self.views in among else -1
        self.show_views(among[(at + 1) % len(among)])

    def stop(self) -> None:
        """End the lanes."""
        if self.space is not None:
            self.space.stop()
        self._show_lane.stop()
        self._tray_lane.stop()
        self.stage.offers.lane.stop()

    def evaluate(self) -> None:
        """Bring the part on the stage up to date."""
        part = self.bench.tray.current
        if part is None:
            self._asked = None
            self._show_lane.cancel()
            self.bench.show(None)
            return
        plan = self.bench.document.shown
        self._asked = ShowRequest(
            part.engine,
            self.bench.document.teacher,
            plan,
            self.bench.balloon,
            self.bench.line,
            self.bench.section_width,
            self.bench.colour,
            self.bench.profile,
            self.bench.distance,
        )
        self._show_lane.submit(self._asked)

    def try_all(self) -> None:
        """Try the plan on the whole tray, in the background."""
        if self.bench.document.just_edited:
            self._edits += 1
        if self._tried is None or not any(part.stale for part in self.bench.tray.parts):
            self._edits = 1
            self._before = {
                id(p.engine): p.result.verdict for p in self.bench.tray.parts if p.result is not None
            }
        self.bench.tray.mark_stale()
        engines = tuple(part.engine for part in self.bench.tray.parts)
        if engines:
            self._tried = TrayRequest(self.bench.document.plan, engines, self.bench.document.teacher)
            self._tray_lane.submit(self._tried)

    def _on_document(self) -> None:
        if self.bench.balloon is not None and self.bench.row is None:
            self.bench.select(None)
        plan = self.bench.document.plan
        if (plan.by_profile is not None) != (self.views in PROFILE_VIEWS):
            self.bench.profile = None
            self.show_views(self._arrangements[0])
        self.evaluate()
        if plan is not self._evaluated:
            self._evaluated = plan
            self.try_all()

    def _on_selection(self) -> None:
        if self.bench.balloon != self._selected:
            self._selected = self.bench.balloon
            self.bench.line = self.bench.distance = None
        self.evaluate()

    @Slot(object, object)
    def _on_shown(self, request: ShowRequest, shown: Shown) -> None:
        part = self.bench.tray.current
        if part is None or request.engine is not part.engine:
            return
        if request is self._asked:
            self._asked = None
        if request.plan is self.bench.document.plan and shown.plan is not request.plan:
            self.bench.document.learn(shown.plan)
            self._evaluated = shown.plan
        self.bench.show(shown)
        self._arrange_strips()
        faults = shown.result.faults
        if faults != self._faults and shown.plan is self.bench.document.plan:
            self._faults = faults
            if faults:
                more = f" and {len(faults) - 1} more" if len(faults) > 1 else ""
                self._notifications.tell(Notice(f"{part.scan.name}: {faults[0]}{more}"))

    @Slot(object, object)
    def _on_tried(self, request: TrayRequest, answer: TrayAnswer) -> None:
        parts = self.bench.tray.parts
        # the tray may have grown or changed since it was asked
        engine = request.engines[answer.index]
        part = next((p for p in parts if p.engine is engine), None)
        if part is not None and request is self._tried:
            part.result, part.error, part.stale = answer.result, answer.error, False
            self.flips = self._flipped()
            self.tray.show_flips(self.flips)
            self.bench.tray.changed.emit()

    def undo_verdict_changes(self) -> None:
        """Undo the edits that the flips came from."""
        for _ in range(self._edits):
            self.bench.document.undo()

    def _flipped(self) -> tuple[TrayPart, ...]:
        """The parts whose verdict the last edit has changed; none once it has been taken back."""
        if not self.bench.document.just_edited:
            return ()
        return tuple(
            part
            for part in self.bench.tray.parts
            if part.result is not None
            and not part.stale
            and self._before.get(id(part.engine), part.result.verdict) is not part.result.verdict
        )

    @Slot(object, object)
    def _on_failed(self, request: object, error: BaseException) -> None:
        if request is self._asked:
            self._asked = None
        self._notifications.error(error)

    # -- edits ------------------------------------------------------------------------------------

    def _add(self, label: str, plan: Plan, balloon: int) -> None:
        row = self.bench.row
        if row is not None and row.step is None:
            # what was just clicked is what the waiting row asks for
            if self.edit(f"binding of {row.name}", lambda: bound(plan, row.balloon, balloon)):
                self.bench.select(row.balloon)
        elif self.edit(label, lambda: plan):
            self.bench.select(balloon)

    @Slot(str, object)
    def _preview_zone(self, step_id: str, zone: AnyZone) -> None:
        plan = self.bench.document.plan
        step = plan.step(step_id)
        with suppress(HemtraError):
            self.bench.document.preview(plan.with_step(step.edited(zone=self.bench.drawn(step, zone))))

    @Slot(str, object)
    def _set_zone(self, step_id: str, zone: AnyZone) -> None:
        plan = self.bench.document.plan
        step = plan.step(step_id)
        self.edit(
            f"zone of {step.name}", lambda: plan.with_step(step.edited(zone=self.bench.drawn(step, zone)))
        )

    @Slot(str, str, object)
    def _set_param(self, step_id: str, name: str, value: Any) -> None:
        self._set_params(step_id, {name: value})

    @Slot(str, object)
    def _set_params(self, step_id: str, changes: dict[str, Any]) -> None:
        plan = self.bench.document.plan
        step = plan.step(step_id)
        params, label = {**step.params, **changes}, f"{' and '.join(changes)} of {step.name}"
        if not self.edit(label, lambda: plan.with_step(step.edited(params=params))):
            self.lineage.rebuild()

    @Slot(int, str)
    def _set_tolerance(self, balloon: int, text: str) -> None:
        if not self.rows.set_tolerance(balloon, text):
            self.sheet.reject(balloon)

    @Slot(int, str, float, bool)
    def _drag_limit(self, balloon: int, limit: str, value: float, dropped: bool) -> None:
        """A limit dragged on its bar: meanwhile the tray says what would flip, then it is an edit."""
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

    @Slot(str, str, float)
    def _type_zone(self, step_id: str, name: str, value: float) -> None:
        plan = self.bench.document.plan
        zone = plan.step(step_id).zone
        if zone is not None:
            changed = {**zone.model_dump(), name: value}
            self.edit(f"zone {name}", lambda: plan.with_step(plan.step(step_id).edited(zone=changed)))

    @Slot(str, object)
    def _type_band(self, step_id: str, ends: tuple[float, float] | None) -> None:
        plan = self.bench.document.plan
        zone = plan.step(step_id).zone
        if zone is not None:
            band = None if ends is None else {"low": ends[0], "high": ends[1]}
            changed = {**zone.model_dump(), "band": band}
            self.edit("height band", lambda: plan.with_step(plan.step(step_id).edited(zone=changed)))

    @Slot(str)
    def _rub(self, step_id: str) -> None:
        self.bench.select_step(step_id)
        self.stage.rub("Drag to erase contour   ·   Esc: finish")

    @property
    def selected_zone(self) -> AnyZone | None:
        """The zone that has handles."""
        plan, step_id = self.bench.document.plan, self.bench.selected_step
        return None if step_id is None else plan.step(step_id).zone

    def edit_zone(self, label: str, change: Callable[[AnyZone], AnyZone]) -> None:
        """Change the zone that has handles."""
        plan, step_id, zone = self.bench.document.plan, self.bench.selected_step, self.selected_zone
        if step_id is not None and zone is not None:
            self.edit(label, lambda: plan.with_step(plan.step(step_id).edited(zone=change(zone))))

    def copy_zone(self) -> None:
        """Keep the zone, to be put into another step."""
        self._copied = self.selected_zone

    def paste_zone(self) -> None:
        """Give the selected step a zone like the one copied, in its own place."""
        copied = self._copied
        if copied is not None:
            self.edit_zone("pasted zone", lambda zone: copied.model_copy(update={"x": zone.x, "y": zone.y}))

    @property
    def can_paste(self) -> bool:
        """Whether there is a zone to paste, and one to take its shape."""
        return self._copied is not None and self.selected_zone is not None

    @Slot(str, str)
    def prepare(self, what: str, name: str) -> None:
        """Add a kind of preparation, or move a step of it or take it out."""
        plan = self.bench.document.plan
        if what == "add":
            self.edit(kind_named(name).title.lower(), lambda: with_preparation(plan, name))
        elif what == "out":
            self.edit("preparation taken out", lambda: without_preparation(plan, name))
        else:
            by = 1 if what == "later" else -1
            self.edit("order of preparation", lambda: moved_preparation(plan, name, by))

    def changeEvent(self, event: QEvent) -> None:
        """Repaint when the colours change."""
        if event.type() == QEvent.Type.StyleChange:
            self.lineage.rebuild()
            for view in (self.sheet, self.stage, self.section, self.strips.strips, self.tray, self.lineage):
                view.update()
        super().changeEvent(event)
