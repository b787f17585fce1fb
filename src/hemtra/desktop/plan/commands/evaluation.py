"""Evaluating beside the window: the part on the stage, and the whole tray after each edit."""

from __future__ import annotations

from PySide6.QtCore import QObject, QTimer, Signal, Slot

from hemtra.core.plan.document import Plan
from hemtra.core.plan.graph import is_taught
from hemtra.core.plan.limits import Verdict
from hemtra.desktop.background.evaluation import ShowRequest, TrayAnswer, TrayRequest, show, try_tray
from hemtra.desktop.background.latest_task import LatestTaskWorker
from hemtra.desktop.models.bench import Shown, WorkspaceModel
from hemtra.desktop.models.tray import TrayPart
from hemtra.desktop.widgets.notifications import Notice, Notifications

UNTIL_PAINTED_MS = 50
"""Time for the first answer to appear before the next one takes the processor, ms."""


class PlanEvaluation(QObject):
    """Keeps the view up to date with plan, part and selection, and tracks verdict changes by edit."""

    shown = Signal()
    """The part on the stage is up to date."""
    flipped = Signal(object)
    """Parts whose verdict the last edit has changed."""

    def __init__(self, bench: WorkspaceModel, notifications: Notifications, parent: QObject) -> None:
        super().__init__(parent)
        self._bench, self._notifications = bench, notifications
        self._show_lane = LatestTaskWorker(show, "stage", self)
        self._tray_lane = LatestTaskWorker(try_tray, "tray", self)
        self._asked: ShowRequest | None = None
        self._tried: TrayRequest | None = None
        self._tray_waits = False
        """Whether the tray is tried once the part on the stage is answered."""
        self._seen_as_read: Plan | None = None
        """The plan last shown as its file teaches it."""
        self._painted = QTimer(self, singleShot=True, interval=UNTIL_PAINTED_MS)
        self._painted.timeout.connect(self.evaluate)
        self._evaluated: Plan | None = None
        self._faults: tuple[str, ...] = ()
        self._before: dict[int, Verdict] = {}
        self.flips: tuple[TrayPart, ...] = ()
        self._edits = 0
        """Number of edits behind the verdict changes: more than one where the tray was slower."""
        self._show_lane.responded.connect(self._on_shown)
        self._tray_lane.responded.connect(self._on_tried)
        for lane in (self._show_lane, self._tray_lane):
            lane.failed.connect(self._on_failed)
        bench.tray.current_changed.connect(self.evaluate)
        bench.line_changed.connect(self.evaluate)

    @property
    def idle(self) -> bool:
        """Whether everything on screen is up to date."""
        shown_done = self._asked is None and self._show_lane.idle
        return shown_done and self._tray_lane.idle and not any(part.stale for part in self._bench.tray.parts)

    def stop(self) -> None:
        """End the lanes."""
        self._painted.stop()
        self._show_lane.stop()
        self._tray_lane.stop()

    def follow_plan(self) -> None:
        """The plan may have changed."""
        plan = self._bench.document.plan
        self.evaluate()
        if plan is not self._evaluated:
            self._evaluated = plan
            self.try_all()

    def evaluate(self) -> None:
        """Bring the part on the stage up to date."""
        bench, part = self._bench, self._bench.tray.current
        if part is None:
            self._asked = None
            self._show_lane.cancel()
            bench.show(None)
            self._try_when_answered()
            return
        self._asked = ShowRequest(
            part.engine,
            bench.document.teacher,
            bench.document.shown,
            bench.balloon,
            bench.line,
            bench.section_width,
            bench.colour,
            bench.profile,
            bench.distance,
            bench.selected_step if bench.row is None else None,
            self._as_read(bench.document.shown),
        )
        self._show_lane.submit(self._asked)

    def _as_read(self, plan: Plan) -> bool:
        """Whether a plan that was just opened can be shown with the lessons in its file, and taught later."""
        document = self._bench.document
        as_saved = plan is document.plan and not document.unsaved
        return as_saved and plan is not self._seen_as_read and is_taught(plan)

    def try_all(self) -> None:
        """Try the plan on the whole tray."""
        document, tray = self._bench.document, self._bench.tray
        if document.just_edited:
            self._edits += 1
        if self._tried is None or not any(part.stale for part in tray.parts):
            self._edits = 1
            self._before = {id(p.engine): p.result.verdict for p in tray.parts if p.result is not None}
        tray.mark_stale()
        engines = tuple(part.engine for part in tray.parts)
        self._tray_waits = bool(engines)
        if engines:
            self._tried = TrayRequest(document.plan, engines, document.teacher)
            self._try_when_answered()

    def _answered(self, request: ShowRequest) -> None:
        """Start what had to wait until the part on the stage was on screen."""
        if request.as_read:
            self._seen_as_read = request.plan
            self._painted.start()
        else:
            self._asked = None
            self._try_when_answered()

    def _try_when_answered(self) -> None:
        if self._tray_waits and self._asked is None:
            self._tray_waits = False
            self._tray_lane.submit(self._tried)

    def undo_verdict_changes(self) -> None:
        """Undo the edits that the verdict changes came from."""
        for _ in range(self._edits):
            self._bench.document.undo()

    @Slot(object, object)
    def _on_shown(self, request: ShowRequest, shown: Shown) -> None:
        part = self._bench.tray.current
        if part is not None and request.engine is part.engine:
            self._show(request, shown, part)
        if request is self._asked:
            self._answered(request)

    def _show(self, request: ShowRequest, shown: Shown, part: TrayPart) -> None:
        bench = self._bench
        if request.plan is bench.document.plan and shown.plan is not request.plan:
            bench.document.take_taught(shown.plan)
            self._evaluated = shown.plan
        bench.show(shown)
        self.shown.emit()
        faults = shown.result.faults
        if faults != self._faults and shown.plan is bench.document.plan:
            self._faults = faults
            if faults:
                more = f" and {len(faults) - 1} more" if len(faults) > 1 else ""
                self._notifications.post(Notice(f"{part.scan.name}: {faults[0]}{more}"))

    @Slot(object, object)
    def _on_tried(self, request: TrayRequest, answer: TrayAnswer) -> None:
        # the tray may have grown or changed since it was asked
        engine = request.engines[answer.index]
        part = next((p for p in self._bench.tray.parts if p.engine is engine), None)
        if part is not None and request is self._tried:
            part.result, part.error, part.stale = answer.result, answer.error, False
            self.flips = self._flipped()
            self.flipped.emit(self.flips)
            self._bench.tray.changed.emit()

    def _flipped(self) -> tuple[TrayPart, ...]:
        """The parts whose verdict the last edit has changed; none once it has been taken back."""
        if not self._bench.document.just_edited:
            return ()
        return tuple(
            part
            for part in self._bench.tray.parts
            if part.result is not None
            and not part.stale
            and self._before.get(id(part.engine), part.result.verdict) is not part.result.verdict
        )

    @Slot(object, object)
    def _on_failed(self, request: object, error: BaseException) -> None:
        if isinstance(request, ShowRequest) and request is self._asked:
            self._answered(request)
            if request.as_read:
                return  # it is evaluated again at once, and would fail twice
        self._notifications.error(error)
