"""Workspace interface. A workspace is a folder beside this one whose `entry` names its class `WORKSPACE`."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable
from typing import Any, ClassVar

from PySide6.QtWidgets import QWidget

from hemtra.desktop.documents.action import Action
from hemtra.desktop.documents.session import Session
from hemtra.desktop.models.versioned import Versioned


class Workspace(ABC):
    """A workspace, one tab of the window.

    Subclasses make its page, at once or when it is first shown, and give the actions that belong to it.
    """

    name: ClassVar[str]
    order: ClassVar[int]
    """Position of its tab."""
    keys: ClassVar[str]
    help: ClassVar[str] = ""
    manual: ClassVar[str] = "index.md"
    """Page of the manual that is about it."""
    edits: ClassVar[bool]
    """Whether something is edited in it; it is then closed while editing is locked, and undo works in it."""

    def __init__(self, session: Session) -> None:
        self.session = session

    @property
    @abstractmethod
    def page(self) -> QWidget:
        """What is shown."""

    @property
    def is_made(self) -> bool:
        """Whether there is a page already."""
        return True

    @property
    def title(self) -> str:
        """On its tab."""
        return self.name.capitalize()

    @property
    def is_shown(self) -> bool:
        """Whether it is on screen."""
        return self.session.shown == self.name

    @property
    def document(self) -> Versioned[Any]:
        """Undo and save while it is on screen."""
        return self.session.bench.document

    @property
    def open_name(self) -> str:
        """Title of the document open in it."""
        document = self.session.bench.document
        empty = self.session.bench.tray.current is None and not document.plan.steps
        return document.plan.name if document.path or not empty else ""

    @property
    def unit(self) -> str:
        """Unit in which lengths are shown."""
        return self.session.unit.name

    @abstractmethod
    def actions(self) -> Iterable[Action]:
        """Actions of the workspace."""

    def unit_changed(self) -> None:  # noqa: B027 - what is painted is painted anew without it
        """Lengths are shown in another unit."""

    def entered(self) -> None:  # noqa: B027 - most have nothing to do then
        """It has come on screen."""

    def refresh(self) -> None:  # noqa: B027 - nor then
        """Documents, selection or the lock on editing have changed."""

    @abstractmethod
    def stop(self) -> None:
        """End what runs beside it."""
