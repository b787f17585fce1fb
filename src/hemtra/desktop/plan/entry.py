"""Entry of the Plan workspace: its tab, and its screen without a plan."""

from __future__ import annotations

from collections.abc import Iterable
from typing import ClassVar

from PySide6.QtWidgets import QFrame, QHBoxLayout, QStackedWidget

from hemtra.desktop.documents.action import Action
from hemtra.desktop.documents.session import Session
from hemtra.desktop.documents.workspace import Workspace
from hemtra.desktop.plan.actions import PlanActions
from hemtra.desktop.plan.panels.empty_state import EmptyState
from hemtra.desktop.plan.workspace import PlanWorkspace
from hemtra.desktop.plan.zone_actions import path_actions, zone_actions


class PlanEntry(Workspace):
    """Workspace in which plans are made."""

    name: ClassVar = "plan"
    order: ClassVar = 2
    keys: ClassVar = "Alt+2"
    manual: ClassVar = "plan.md"
    edits: ClassVar = True

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.workspace = PlanWorkspace(session)
        self.commands = PlanActions(session, self.workspace)
        holder = QFrame()
        holder.setObjectName("workspace")
        inner = QHBoxLayout(holder)
        inner.setContentsMargins(8, 8, 8, 8)
        inner.addWidget(EmptyState(session.trigger, session.settings.recent))
        self._page = QStackedWidget()
        self.page.addWidget(holder)
        self.page.addWidget(self.workspace)
        session.plans.part_taken.connect(self.workspace.evaluation.try_all)

    @property
    def page(self) -> QStackedWidget:
        """The empty state, or all that a plan is worked on with."""
        return self._page

    def actions(self) -> Iterable[Action]:
        """All that is done with a plan, its sheet, zones and paths, and the tray."""
        yield from self.commands.all()
        yield from zone_actions(self.workspace, lambda: self.is_shown)
        yield from path_actions(self.workspace, lambda: self.session.plans.folder, lambda: self.is_shown)

    def refresh(self) -> None:
        """Show the next steps while there is nothing else."""
        bench = self.session.bench
        empty = bench.tray.current is None and not bench.document.plan.steps
        self.page.setCurrentIndex(0 if empty else 1)

    def unit_changed(self) -> None:
        """Texts of sheet, tray, chips and card."""
        self.session.bench.shown_changed.emit()
        self.workspace.tray.refresh()
        self.workspace.card.rebuild()

    def stop(self) -> None:
        """End the lanes."""
        self.workspace.stop()


WORKSPACE = PlanEntry
