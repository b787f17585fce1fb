"""The list of a drawing measured by itself: matches are found beside the window, gone through, and bound."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject, Signal

from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.plan.document import Plan
from hemtra.core.proposals.drawing_list import bind_match, matched
from hemtra.core.proposals.option import options
from hemtra.core.proposals.row_matching import Match, RowMatches
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.plan.section.section_view import SectionView
from hemtra.desktop.plan.stage.preview import Preview, PreviewRequest
from hemtra.desktop.widgets.notifications import Notice, Notifications

Edit = Callable[[str, Callable[[], Plan]], bool]


class DrawingMatch(QObject):
    """Matches of the waiting rows, and the row shown."""

    changed = Signal()
    """Another row or match is to be shown, or none."""

    def __init__(
        self,
        bench: WorkspaceModel,
        preview: Preview,
        section: SectionView,
        tasks: Tasks,
        notifications: Notifications,
        edit: Edit,
    ) -> None:
        super().__init__(preview)
        self._bench, self._preview, self._section, self._tasks = bench, preview, section, tasks
        self._notifications, self._edit = notifications, edit
        self.rows: list[RowMatches] = []
        """Rows that still wait."""
        self.at = self.number = 0
        """The row that is shown, and which of its matches."""

    @property
    def shown(self) -> RowMatches | None:
        """The row one is at; None where nobody goes through a list."""
        return self.rows[self.at] if self.at < len(self.rows) else None

    @property
    def sure(self) -> list[RowMatches]:
        """Rows that need no second look."""
        return [row for row in self.rows if row.is_sure]

    def measure(self) -> None:
        """Find out what the waiting rows mean on the reference scan."""
        teacher, plan = self._bench.document.teacher, self._bench.document.plan
        if teacher is None:
            words = "A list is measured on the reference scan; add the scan of a good part first."
            self._notifications.post(Notice(words))
            return
        self._notifications.clear()
        self._show_reference(teacher)

        def done(found: tuple[RowMatches, ...]) -> None:
            waiting = {row.balloon for row in self._bench.document.plan.sheet if row.step is None}
            self.rows = [one for one in found if one.row.balloon in waiting]
            self._go(0)

        self._tasks.start("Measuring the list", lambda task: matched(plan, teacher, task.report), done)

    def _show_reference(self, teacher: Engine) -> None:
        """Show the reference part, where it is in the tray."""
        tray = self._bench.tray
        for k, part in enumerate(tray.parts):
            if part.scan.data.is_same(teacher.data):
                tray.select(k)
                return

    def go(self, wanted: str) -> None:
        """Do what the bar or its keys request."""
        row = self.shown
        if wanted == "leave" or row is None:
            self.leave()
        elif wanted in ("next", "previous"):
            self._go((self.at + (1 if wanted == "next" else -1)) % len(self.rows))
        elif wanted in ("other", "back") and row.matches:
            self.number = (self.number + (1 if wanted == "other" else -1)) % len(row.matches)
            self._look()
        elif wanted == "bind" and row.matches:
            self._bind([(row, row.matches[self.number])])
        elif wanted == "all":
            self._bind([(one, one.matches[0]) for one in self.sure])

    def leave(self) -> None:
        """End matching; unmatched rows keep waiting."""
        self.rows, self.at = [], 0
        self._preview.forget()
        self._section.point_at(())
        self.changed.emit()

    def follow_plan(self) -> None:
        """Rows that are gone, or bound otherwise, wait no more."""
        if not self.rows:
            return
        waiting = {row.balloon for row in self._bench.document.plan.sheet if row.step is None}
        left = [one for one in self.rows if one.row.balloon in waiting]
        if len(left) != len(self.rows):
            before = self.shown
            self.rows = left
            self._go(left.index(before) if before in left else min(self.at, max(len(left) - 1, 0)))

    def _bind(self, chosen: list[tuple[RowMatches, Match]]) -> None:
        """Bind rows beside the window, in one edit."""
        plan, teacher = self._bench.document.plan, self._bench.document.teacher
        if teacher is None:
            return

        def work(task: Task) -> tuple[Plan, list[str]]:
            made, troubles = plan, []
            for done, (row, match) in enumerate(chosen):
                task.report(done, len(chosen), row.row.name)
                try:
                    made = bind_match(made, teacher, row.row.balloon, match)
                except HemtraError as error:
                    troubles.append(f"{row.row.balloon} {row.row.name}: {error}")
            return teacher.taught(made), troubles

        def done(found: tuple[Plan, list[str]]) -> None:
            made, troubles = found
            if self._bench.document.plan is not plan:
                self._notifications.post(Notice("The plan has changed meanwhile; bind again."))
                return
            names = chosen[0][0].row.name if len(chosen) == 1 else f"{len(chosen)} rows"
            if made != plan and self._edit(f"binding of {names}", lambda: made):
                self._bench.select(chosen[-1][0].row.balloon)
            if troubles:
                self._notifications.post(Notice(troubles[0]))
            self.follow_plan()

        self._tasks.start("Binding", work, done)

    def _go(self, at: int) -> None:
        self.at, self.number = at, 0
        self._look()

    def _look(self) -> None:
        """Show the row, and on the stage or the profile what it would measure."""
        row, part = self.shown, self._bench.tray.current
        self._preview.forget()
        self._section.point_at(())
        if row is not None:
            self._bench.select(row.row.balloon)
            teacher = self._bench.document.teacher
            on_reference = part is not None and teacher is not None and part.scan.data.is_same(teacher.data)
            if row.matches and part is not None and on_reference:
                match = row.matches[self.number]
                if self._bench.document.plan.by_profile is not None:
                    self._section.point_at(match.places)
                    self.changed.emit()
                    return
                wanted = next(one for one in options("map") if one.id == match.option)
                plan = self._bench.document.plan
                self._preview.ask(PreviewRequest(plan, part.engine, wanted, match.places))
        self.changed.emit()
