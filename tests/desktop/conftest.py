"""Desktop tests: one application, windows that are closed again, and nothing left running."""

from __future__ import annotations

import warnings

import pytest
from PySide6.QtCore import QThread
from PySide6.QtWidgets import QApplication

from hemtra.desktop import recovery, theme
from hemtra.desktop.app import prepare
from hemtra.desktop.window import MainWindow
from hemtra.runtime.demo import PLAN_FILE


@pytest.fixture(scope="session")
def dressed(qapp):
    """The application with fonts and style."""
    prepare(qapp)
    return qapp


@pytest.fixture(autouse=True)
def nothing_left_behind(dressed):
    """Fails a test that leaves windows or threads behind."""
    yield
    for _ in range(3):
        dressed.processEvents()
    assert not [w for w in QApplication.topLevelWidgets() if w.isVisible()]
    assert not [t for t in dressed.findChildren(QThread) if t.isRunning()]
    theme.use(theme.LIGHT)


@pytest.fixture
def window(dressed, qtbot, own_folders):
    """An empty window, and no unsaved work from other tests."""
    for file in recovery.recovery_folder().glob("*"):
        file.unlink()
    window = MainWindow()
    qtbot.addWidget(window)
    window.show()
    qtbot.waitExposed(window)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", DeprecationWarning)
        # a bare X server has no window manager that would do it, and there is no other way to ask Qt
        QApplication.setActiveWindow(window)
    yield window
    window.close()


@pytest.fixture
def settled(qtbot):
    """Waits until everything on screen is up to date."""

    def wait(window):
        qtbot.waitUntil(lambda: not window.tasks.running and window.plan_workspace.idle, timeout=20_000)

    return wait


@pytest.fixture
def demo(window, settled, demo_folder, qtbot):
    """A window with the demo open on its first part."""
    window.plans.open(demo_folder / PLAN_FILE)
    qtbot.waitUntil(lambda: len(window.bench.tray.parts) == 8, timeout=20_000)
    settled(window)
    return window
