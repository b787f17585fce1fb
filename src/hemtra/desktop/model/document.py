"""The open plan: its states, undo and redo, and whether it is saved."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from hemtra.core.plan.document import Plan
from hemtra.core.plan.graph import ordered
from hemtra.core.scan.scan import Scan
from hemtra.desktop.model.observe import Signal

MOST_UNDO = 200


@dataclass(frozen=True)
class Edit:
    """A step of history: what was done, and the plan before and after."""

    label: str
    before: Plan
    after: Plan


class Document:
    """A plan with its history and reference scan.

    `plan` is the committed state, `shown` the same or, during a drag, the state under the pointer.
    """

    def __init__(self) -> None:
        self.changed = Signal()
        self.plan = Plan()
        self.path: Path | None = None
        self.reference: Scan | None = None
        self._preview: Plan | None = None
        self._saved = self.plan
        self._done: list[Edit] = []
        self._undone: list[Edit] = []

    @property
    def shown(self) -> Plan:
        """The plan to evaluate and draw."""
        return self.plan if self._preview is None else self._preview

    @property
    def unsaved(self) -> bool:
        """Whether there is something to save."""
        return self.plan != self._saved

    @property
    def undo_label(self) -> str:
        """What undo would take back, or ''."""
        return self._done[-1].label if self._done else ""

    @property
    def redo_label(self) -> str:
        """What redo would bring again, or ''."""
        return self._undone[-1].label if self._undone else ""

    def open(self, plan: Plan, path: Path | None, reference: Scan | None, *, saved: bool = True) -> None:
        """Start over with another plan."""
        self.plan, self.path, self.reference = plan, path, reference
        self._saved = plan if saved else Plan()
        self._preview, self._done, self._undone = None, [], []
        self.changed.emit()

    def mark_saved(self, plan: Plan, path: Path) -> None:
        """This state of the plan now lies at that path."""
        self._saved, self.path = plan, path
        self.changed.emit()

    def edit(self, label: str, plan: Plan) -> None:
        """Make a change that can be undone. Raises `PlanError` and changes nothing when it does not hold."""
        ordered(plan)
        self._preview = None
        if plan != self.plan:
            self._done.append(Edit(label, self.plan, plan))
            del self._done[:-MOST_UNDO]
            self._undone.clear()
            self.plan = plan
        self.changed.emit()

    def preview(self, plan: Plan | None) -> None:
        """Show a state without committing to it; None goes back."""
        self._preview = plan
        self.changed.emit()

    def undo(self) -> None:
        """Take the last change back."""
        if self._done:
            edit = self._done.pop()
            self._undone.append(edit)
            self.plan, self._preview = edit.before, None
            self.changed.emit()

    def redo(self) -> None:
        """Make the change again that was taken back last."""
        if self._undone:
            edit = self._undone.pop()
            self._done.append(edit)
            self.plan, self._preview = edit.after, None
            self.changed.emit()
