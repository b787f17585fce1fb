"""Actions of every workspace: undo, colours, help, unsaved work."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QApplication

from hemtra.desktop.documents.action import Action
from hemtra.desktop.documents.session import Session
from hemtra.desktop.shell.command_search import ShortcutsAndSymbols
from hemtra.desktop.shell.manual import page_for
from hemtra.desktop.shell.settings_window import SettingsWindow, use_colours
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.notifications import Notice
from hemtra.storage.settings import TEXT_SIZES

if TYPE_CHECKING:
    from hemtra.desktop.shell.window import MainWindow

LONGEST_PASTE = 20_000
"""Largest number of clipboard characters searched for paths."""


def edit_actions(window: MainWindow) -> Iterable[Action]:
    """Undo and redo, of what is edited on screen."""

    def undoes(label: Callable[[], str]) -> Callable[[], bool]:
        return lambda: window.workspace.edits and bool(label())

    yield Action(
        "edit.undo",
        "Undo",
        "Edit",
        lambda: window.workspace.document.undo(),
        undoes(lambda: window.workspace.document.undo_label),
        keys="Ctrl+Z",
    )
    yield Action(
        "edit.redo",
        "Redo",
        "Edit",
        lambda: window.workspace.document.redo(),
        undoes(lambda: window.workspace.document.redo_label),
        keys="Ctrl+Shift+Z",
    )


def help_actions(window: MainWindow) -> Iterable[Action]:
    """Colours, command search, help, and unsaved work of an earlier run."""
    session = window.session
    yield Action(
        "file.paste",
        "Open what was copied",
        "Plan",
        lambda: window.open_files(_copied()),
        lambda: not session.lock.locked and bool(_copied()),
        keys="Ctrl+Shift+V",
        help="Files copied in a file manager, or a path copied as text.",
    )
    yield Action("view.dark", "Dark or light", "View", lambda: _toggle_dark(session), while_locked=True)
    yield Action(
        "view.unit",
        "Millimetres or inches",
        "View",
        session.change_unit,
        help="For display; files and limits stay in millimetres.",
        while_locked=True,
    )
    yield Action(
        "view.settings",
        "Settings…",
        "View",
        lambda: SettingsWindow(session, window).show(),
        keys="Ctrl+,",
        help="Unit, colours, text size, author, folders, records, tables, log.",
        while_locked=True,
    )
    for way, title, keys in ((1, "Larger text", "Ctrl++"), (-1, "Smaller text", "Ctrl+-")):
        yield Action(
            f"view.{'larger' if way > 0 else 'smaller'}",
            title,
            "View",
            partial(_resize_text, session, way),
            keys=keys,
            help="From the next start on.",
            while_locked=True,
        )
    yield Action("help.search", "Find a command", "Help", window.search, keys="Ctrl+K", while_locked=True)
    yield Action(
        "help.manual",
        "Manual",
        "Help",
        lambda: window.manual.open_at(page_for(QApplication.focusWidget(), window.workspace.manual)),
        keys="F1",
        help="At the page for what has the focus.",
        while_locked=True,
    )
    yield Action(
        "help.tour", "Take the tour", "Help", lambda: window.tour.begin(), help="Seven short steps on the demo."
    )
    yield Action(
        "help.keys",
        "Shortcuts and symbols",
        "Help",
        lambda: ShortcutsAndSymbols(window.actions_by_id.values(), window).show(),
        keys="Shift+F1",
        while_locked=True,
    )
    yield Action(
        "help.quit",
        "Quit",
        "Help",
        window.close,
        keys="Ctrl+Q",
        help="Unsaved changes are kept for the next start.",
        while_locked=True,
    )


def recovery(session: Session) -> dict[str, Callable[[], None]]:
    """Actions offered in a message about unsaved work; not in any menu."""

    def restore() -> None:
        workspace = session.unsaved.restore()
        if workspace:
            session.show(workspace)

    return {"recover.restore": restore, "recover.discard": session.unsaved.discard}


def _copied() -> list[Path]:
    """Files and folders on the clipboard, as such or as a path a line."""
    held = QApplication.clipboard().mimeData()
    if held is None:
        return []
    if held.hasUrls():
        paths = [Path(url.toLocalFile()) for url in held.urls() if url.isLocalFile()]
    else:
        lines = (line.strip().strip("'\"") for line in held.text()[:LONGEST_PASTE].splitlines())
        paths = [Path(line.removeprefix("file://")).expanduser() for line in lines if line]
    # not every text is a path; those that are too long or hold odd signs are none
    return [path for path in paths if path.is_absolute() and os.path.exists(path)]  # noqa: PTH110


def _resize_text(session: Session, way: int) -> None:
    now = TEXT_SIZES.index(session.settings.text_size)
    session.settings.text_size = TEXT_SIZES[min(max(now + way, 0), len(TEXT_SIZES) - 1)]
    session.plans.keep_settings()
    words = f"Text will be {session.settings.text_size} % of its usual size from the next start on."
    session.notifications.post(Notice(words))


def _toggle_dark(session: Session) -> None:
    use_colours(session, dark=theme.current() is not theme.DARK)
