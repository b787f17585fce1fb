"""Starts the desktop."""

from __future__ import annotations

import logging
import os
import signal
import sys
from collections.abc import Sequence
from pathlib import Path

from PySide6.QtWidgets import QApplication

from hemtra.desktop.background.garbage import GarbageCollection
from hemtra.desktop.run.entry import RunEntry
from hemtra.desktop.shell.window import MainWindow
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.notifications import Notifications
from hemtra.runtime.demo import PLAN_FILE, STATION_FILE
from hemtra.storage.settings import load_settings


def prepare(application: QApplication) -> None:
    """Fonts, style and collection of garbage; needed once before the first window."""
    GarbageCollection(application)
    theme.load_fonts()
    theme.use(theme.DARK if load_settings().dark else theme.LIGHT)
    application.setApplicationName("Hemtra")
    application.setDesktopFileName("org.hemtra.Hemtra")
    application.setStyle("Fusion")
    application.setFont(theme.font())
    application.setStyleSheet(theme.stylesheet())


def run(demo_folder: Path | None = None, files: Sequence[Path] = ()) -> int:
    """The desktop until it is closed; with a demo folder, that plan is opened, and so are files."""
    logging.basicConfig(level=load_settings().log_level.upper(), format="%(levelname)s %(name)s: %(message)s")
    logging.getLogger("alembic").setLevel(logging.WARNING)  # which logs every new database
    signal.signal(signal.SIGINT, signal.SIG_DFL)  # Ctrl+C in the terminal ends it; unsaved work is kept by then
    size = load_settings().text_size
    if size != 100:
        # Qt takes it before there is an application, and only then
        os.environ.setdefault("QT_SCALE_FACTOR", f"{size / 100:g}")
    application = QApplication(sys.argv[:1])
    prepare(application)
    notifications = Notifications()
    notifications.install()
    window = MainWindow(notifications)
    window.show()
    window.session.unsaved.offer()
    if demo_folder is not None:
        window.session.use_demo(demo_folder, PLAN_FILE, STATION_FILE)
        run = window.workspaces["run"]
        assert isinstance(run, RunEntry)
        run.starts_at_once = True
    window.open_files(files)
    return application.exec()
