"""A document with its history: committed states for undo, a preview during a drag, and whether it is saved."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Generic, TypeVar

from hemtra.core.errors import HemtraError
from hemtra.desktop.models.observe import Signal

T = TypeVar("T")

MOST_UNDO = 200


class Refused(HemtraError):
    """A change that may not be made now."""


@dataclass(frozen=True)
class Edit(Generic[T]):
    """A step of history: what was done, and the document before and after."""

    label: str
    before: T
    after: T
    beside: Callable[[], None] | None = None
    """Exchanges what changed beside the document, when it is undone and when it is redone."""


class Versioned(Generic[T]):
    """States of an immutable document.

    `value` is the committed state, `shown` the same or, during a drag, the state under the pointer. `check`
    raises when a state does not hold; nothing is changed then.
    """

    def __init__(self, value: T, check: Callable[[T], object] = lambda value: None) -> None:
        self.changed = Signal()
        self.value = value
        self.path: Path | None = None
        self._check = check
        self._preview: T | None = None
        self._saved = value
        self._done: list[Edit[T]] = []
        self._undone: list[Edit[T]] = []
        self.refusal: Callable[[], str] = lambda: ""
        """Reason why nothing may be changed now; asked by every change, except one of all of it."""
        self.just_edited = False
        """Whether the present state came from an edit, and not from undo, redo or opening."""

    @property
    def shown(self) -> T:
        """The state to evaluate and draw."""
        return self.value if self._preview is None else self._preview

    @property
    def unsaved(self) -> bool:
        """Whether there is something to save."""
        return self.value != self._saved

    @property
    def labels_since_saved(self) -> tuple[str, ...]:
        """Edits since the last save, each once, in order; empty where that is too far back."""
        labels: list[str] = []
        for edit in reversed(self._done):
            if edit.after == self._saved:
                break
            labels.insert(0, edit.label)
            if edit.before == self._saved:
                break
        return tuple(dict.fromkeys(labels))

    @property
    def undo_label(self) -> str:
        """Edit that undo would take back, or ''."""
        return self._done[-1].label if self._done else ""

    @property
    def redo_label(self) -> str:
        """Edit that redo would bring again, or ''."""
        return self._undone[-1].label if self._undone else ""

    def start_over(self, value: T, path: Path | None, saved: T) -> None:
        """Another document, with `saved` as what lies on disk."""
        self.value, self.path, self._saved = value, path, saved
        self._preview, self._done, self._undone = None, [], []
        self.just_edited = False
        self.changed.emit()

    def mark_saved(self, value: T, path: Path) -> None:
        """This state now lies at that path."""
        self._saved, self.path = value, path
        self.changed.emit()

    def edit(self, label: str, value: T, beside: Callable[[], None] | None = None) -> None:
        """Make a change that can be undone. Raises what `check` raises, or `Refused`; nothing changes then.

        beside: exchanges what has changed with it, on undo and on redo.
        """
        self._gate()
        self._check(value)
        self._preview = None
        if value != self.value or beside is not None:
            self._done.append(Edit(label, self.value, value, beside))
            del self._done[:-MOST_UNDO]
            self._undone.clear()
            self.value, self.just_edited = value, True
        self.changed.emit()

    def take_taught(self, value: T) -> None:
        """Take the same state with what follows from it filled in; no change of the user's."""
        if self._saved == self.value:
            self._saved = value
        self.value = value

    def preview(self, value: T | None) -> None:
        """Show a state without committing to it; None goes back."""
        self._preview = value
        self.changed.emit()

    def undo(self) -> None:
        """Take the last change back. Raises `Refused`."""
        self._gate()
        if self._done:
            edit = self._done.pop()
            self._undone.append(edit)
            self._go_to(edit.before, edit)

    def redo(self) -> None:
        """Make the change again that was taken back last. Raises `Refused`."""
        self._gate()
        if self._undone:
            edit = self._undone.pop()
            self._done.append(edit)
            self._go_to(edit.after, edit)

    def _gate(self) -> None:
        words = self.refusal()
        if words:
            self._preview = None
            raise Refused(words)

    def _go_to(self, value: T, edit: Edit[T]) -> None:
        if edit.beside is not None:
            edit.beside()
        self.value, self._preview, self.just_edited = value, None, False
        self.changed.emit()
