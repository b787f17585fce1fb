"""Desktop tests: one application, windows that are closed again, and nothing left running."""

from __future__ import annotations

import gc
import warnings
from dataclasses import replace
from pathlib import Path

import pytest
from PySide6.QtCore import QEvent, QThread
from PySide6.QtWidgets import QApplication

from hemtra import Scan
from hemtra.core.evaluation.engine import Engine
from hemtra.core.units import MM
from hemtra.desktop.documents import files as desktop_files
from hemtra.desktop.documents import recovery
from hemtra.desktop.models import document, tray
from hemtra.desktop.shell.app import prepare
from hemtra.desktop.shell.window import MainWindow
from hemtra.desktop.widgets import theme, units
from hemtra.runtime.demo import PLAN_FILE, STATION_FILE, TRAY
from hemtra.storage.plans import load_plan_file
from hemtra.storage.scans import load_scan
from hemtra.storage.trays import TrayEntry, save_tray
from hemtra.virtual.demo import PARTS

FEW, MORE = 3, 5
"""Parts of the demo's tray that most tests open, one of them bad, and those marked `five_parts`, two bad."""


@pytest.fixture(scope="session")
def dressed(qapp):
    """The application with fonts and style."""
    prepare(qapp)
    return qapp


@pytest.fixture(autouse=True)
def nothing_left_behind(dressed):
    """Fails a test that leaves windows or threads behind; garbage is the application's during it."""
    # what the test before it closed is still there until this, and would be styled with each window
    dressed.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    gc.disable()
    yield
    for _ in range(3):
        dressed.processEvents()
    gc.enable()
    assert not [w for w in QApplication.topLevelWidgets() if w.isVisible()]
    assert not [t for t in dressed.findChildren(QThread) if t.isRunning()]
    theme.use(theme.LIGHT)
    units.use(MM)


@pytest.fixture(scope="session", autouse=True)
def warm():
    """Files that did not change are read once, and what was measured on a scan is remembered between tests.

    Scans and plans are immutable and engines remember by fingerprint, so no test can tell; all but the first
    are faster.
    """
    files, engines = {}, {}

    def read_once(read):
        def reading(path):
            stat = Path(path).stat()
            key = read, Path(path).resolve(), stat.st_mtime_ns, stat.st_size
            if key not in files:
                files[key] = read(path)
            # under the name it is asked for by: links have names of their own
            found = files[key]
            return replace(found, name=Path(path).name) if isinstance(found, Scan) else found

        return reading

    def engine(data, serial=""):
        known = engines.get(id(data))
        if known is None:
            known = engines[id(data)] = Engine(data, serial)
        return known

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(desktop_files, "load_scan", read_once(load_scan))
        patch.setattr(desktop_files, "load_plan_file", read_once(load_plan_file))
        patch.setattr(tray, "Engine", engine)
        patch.setattr(document, "Engine", engine)
        yield


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
        qtbot.waitUntil(
            lambda: not window.session.tasks.running and window.workspaces["plan"].workspace.idle,
            timeout=120_000,
        )

    return wait


@pytest.fixture(scope="session")
def small_demos(demo_folder, tmp_path_factory):
    """By how many, the demo with the first parts of its tray. Tests only read them."""
    made = {}
    for count in (FEW, MORE):
        folder = made[count] = tmp_path_factory.mktemp("small")
        (folder / TRAY).mkdir()
        for name in (PLAN_FILE, STATION_FILE, *(f"{TRAY}/{part.file}" for part in PARTS[:count])):
            (folder / name).symlink_to(demo_folder / name)
        entries = [TrayEntry(folder / TRAY / part.file, part.tag) for part in PARTS[:count]]
        save_tray(folder / PLAN_FILE, entries)
    return made


@pytest.fixture
def parts(request):
    """How many parts the demo has in a test."""
    return MORE if request.node.get_closest_marker("five_parts") else FEW


@pytest.fixture
def small_demo(small_demos, parts):
    """The demo with the first parts of its tray. Tests only read it."""
    return small_demos[parts]


@pytest.fixture
def demo(window, settled, small_demo, parts, qtbot):
    """A window with the demo and a few of its parts open, on the first one."""
    window.session.plans.open(small_demo / PLAN_FILE)
    qtbot.waitUntil(lambda: len(window.session.bench.tray.parts) == parts, timeout=120_000)
    settled(window)
    return window
