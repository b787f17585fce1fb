"""The window: from the pointer to the number on screen, and whole commands from the shell."""

import itertools
import os
import statistics
import subprocess
import sys
import time

from PySide6.QtCore import QElapsedTimer, QEvent, QEventLoop, QObject, QPoint, QPointF, Qt, QTimer
from PySide6.QtTest import QTest

from hemtra.desktop.shell.app import prepare
from hemtra.desktop.shell.window import MainWindow
from hemtra.runtime.demo import PLAN_FILE, STATION_FILE, TRAY
from hemtra.virtual.demo import PARTS

LEFT = Qt.MouseButton.LeftButton


def test_dragging_a_zone_on_screen(qapp, qtbot, demo_folder, note):
    """Time from a pointer move to the repainted value, and the longest the window was blocked."""
    prepare(qapp)
    window = MainWindow()
    window.show()
    window.session.plans.open(demo_folder / PLAN_FILE)
    qtbot.waitUntil(
        lambda: (
            len(window.session.bench.tray.parts) == len(PARTS)
            and window.workspaces["plan"].workspace.idle
            and not window.session.tasks.running
        ),
        timeout=30_000,
    )
    stage = window.workspaces["plan"].workspace.stage
    at = QPointF(*stage.viewport.to_screen(45.8, 22.0)).toPoint()
    gaps, clock = [], QElapsedTimer()
    clock.start()

    def beat():
        gaps.append(clock.restart())

    pulse = QTimer(window, interval=2)
    pulse.timeout.connect(beat)
    latencies = []
    frames, painted = Frames(stage), []
    window.session.bench.shown_changed.connect(lambda: painted.append(frames.count))
    QTest.mousePress(stage, LEFT, pos=at)
    for k in range(60):
        if k == 5:
            pulse.start()
            clock.restart()
        before = window.session.bench.shown
        start = time.perf_counter()
        QTest.mouseMove(stage, at - QPoint(5 + k // 4, k // 3))
        while window.session.bench.shown is before:
            qapp.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
        while frames.count == painted[-1]:
            qapp.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
        latencies.append((time.perf_counter() - start) * 1000)
    QTest.mouseRelease(stage, LEFT, pos=at - QPoint(20, 20))
    # letting go evaluates the tray in the background; the window continues meanwhile
    qtbot.waitUntil(lambda: window.workspaces["plan"].workspace.idle, timeout=30_000)
    pulse.stop()
    window.close()
    latencies = latencies[5:]
    note(
        f"zone drag, pointer to painted value: median {statistics.median(latencies):.1f} ms,"
        f" greatest {max(latencies):.1f} ms; window blocked at most {max(gaps)} ms"
    )


class Frames(QObject):
    """Counts the paints of a widget."""

    def __init__(self, widget):
        super().__init__(widget)
        self.count = 0
        widget.installEventFilter(self)

    def eventFilter(self, watched, event):  # noqa: N802 - Qt names it
        self.count += event.type() == QEvent.Type.Paint
        return False


def test_live_view_while_scanning(qapp, qtbot, demo_folder, note):
    """Frames of the live profile and of the growing map while two trial parts pass."""
    prepare(qapp)
    window = MainWindow()
    window.show()
    window.session.stations.open(demo_folder / STATION_FILE)
    window.show_workspace("station")
    workspace = window.workspaces["station"].page
    qtbot.waitUntil(
        lambda: window.session.station_bench.document.path is not None and workspace.idle, timeout=30_000
    )
    live, growing = Frames(workspace.live), Frames(workspace.trial.map)
    seen = []
    window.session.station_bench.live_changed.connect(lambda: seen.append(time.perf_counter()))
    workspace.scan_trial()
    qtbot.waitUntil(lambda: not workspace.trial.running and not window.session.tasks.running, timeout=60_000)
    gaps = [b - a for a, b in itertools.pairwise(seen[:-1])]
    window.close()
    note(
        f"live view while scanning: {1 / statistics.median(gaps):.0f} profiles/s shown, slowest tenth"
        f" {1 / statistics.quantiles(gaps, n=10)[-1]:.0f}/s; {live.count} paints of it,"
        f" {growing.count} of the map in {seen[-1] - seen[0]:.1f} s"
    )


READY = """
import sys, time
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication
def wait(application=None):
    app = QApplication.instance()
    window = next(w for w in app.topLevelWidgets() if w.windowTitle() == "Hemtra")
    seen = []
    def look():
        if seen:  # and painted since
            print(time.time(), flush=True); app.quit()
        if window.session.bench.shown is not None and window.session.bench.shown.evidence:
            seen.append(True)
    timer = QTimer(window, interval=5); timer.timeout.connect(look); timer.start()
    return QApplication._run()
QApplication._run, QApplication.exec = QApplication.exec, wait
sys.argv = ["hemtra", "demo"]
from hemtra.cli import main
main()
"""


LIBRARIES = """
import time
import numpy, scipy, scipy.ndimage, numba, pydantic, sqlalchemy, PIL.Image
"""
"""What nothing that measures and records can do without."""
BARE = f"""{LIBRARIES}
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication, QMainWindow
app = QApplication([])
window = QMainWindow()
window.show()
QTimer.singleShot(0, lambda: (print(time.time(), flush=True), app.quit()))
app.exec()
"""


def until_printed(script: str, environment: dict[str, str]) -> float:
    """Seconds from the start of a process to the time that it prints."""
    start = time.time()
    done = subprocess.run(
        [sys.executable, "-c", script],
        capture_output=True,
        text=True,
        env=environment,
        timeout=60,
        check=False,
    )
    return float(done.stdout.split()[-1]) - start


def test_demo_from_the_shell(demo_folder, note, tmp_path):
    """From the command to the first part evaluated in the window, warm cache, beside a bare window."""
    environment = {**os.environ, "XDG_CONFIG_HOME": str(tmp_path), "XDG_STATE_HOME": str(tmp_path)}
    took, bare = zip(*(_in_turns(READY, BARE, environment) for _ in range(5)), strict=True)
    ours, against = statistics.median(took), statistics.median(bare)
    note(
        f"hemtra demo, command to evaluated part in the window: median {ours:.2f} s;"
        f" a bare window with the same libraries {against:.2f} s, ratio {ours / against:.2f}"
    )


def _in_turns(ours: str, bare: str, environment: dict[str, str]) -> tuple[float, float]:
    return until_printed(ours, environment), until_printed(bare, environment)


def test_inspect_from_the_shell(demo_folder, note):
    """The whole process for one part, beside one that imports the libraries."""
    command = [
        sys.executable,
        "-m",
        "hemtra",
        "inspect",
        demo_folder / PLAN_FILE,
        demo_folder / TRAY / "cover-01.x3p",
    ]
    took = {"ours": [], "bare": []}
    for _ in range(7):
        for name, one in (("ours", command), ("bare", [sys.executable, "-c", LIBRARIES])):
            start = time.perf_counter()
            subprocess.run(one, capture_output=True, check=True)
            took[name].append(time.perf_counter() - start)
    ours, against = statistics.median(took["ours"]), statistics.median(took["bare"])
    note(
        f"hemtra inspect, whole process, one part: median {ours:.2f} s; importing the same libraries"
        f" {against:.2f} s, ratio {ours / against:.2f}"
    )
