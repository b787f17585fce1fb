"""Takes the pictures of docs/screenshots from the demo data; needs a display of at least 1280 x 800."""

import os
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QEventLoop, QTimer
from PySide6.QtWidgets import QApplication

TARGET = Path(__file__).parent.parent / "docs" / "screenshots"


def main() -> None:
    """One picture of each main view."""
    with tempfile.TemporaryDirectory() as home:
        # the pictures should not depend on, or change, anybody's settings
        for name in ("XDG_CONFIG_HOME", "XDG_STATE_HOME"):
            os.environ[name] = home
        from hemtra.desktop.app import prepare
        from hemtra.desktop.window import MainWindow
        from hemtra.runtime import demo

        folder = demo.demo_folder()
        if not demo.is_complete(folder):
            demo.write_demo(folder)
        application = QApplication(sys.argv)
        prepare(application)
        window = MainWindow()
        window.show()

        def settled() -> bool:
            return not window.tasks.running and window.plan_workspace.idle and window.station_workspace.idle

        def take(name: str) -> None:
            wait_for(settled)
            window.grab().save(str(TARGET / f"{name}.png"))

        take("empty")
        window.plans.open(folder / demo.PLAN_FILE)
        wait_for(lambda: len(window.bench.tray.parts) == 8)
        window.plan_workspace.stage.setFocus()
        take("plan-good-part")
        window.bench.tray.select(5)
        window.bench.select(11)
        take("plan-bad-part")
        window.stations.open(folder / demo.STATION_FILE)
        window.show_workspace("station")
        wait_for(lambda: window.station_bench.document.path is not None)
        window.station_workspace.scan_trial()
        take("station")
        window.close()


def wait_for(condition: Callable[[], bool], rest_ms: int = 300) -> None:
    """Let the window work until the condition holds, and a little longer for the last paint."""
    loop = QEventLoop()
    look = QTimer(interval=20)

    def check() -> None:
        if condition():
            look.stop()
            QTimer.singleShot(rest_ms, loop.quit)

    look.timeout.connect(check)
    look.start()
    loop.exec()


main()
