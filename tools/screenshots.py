"""Takes the pictures of docs/screenshots from the demo data; needs a display of at least 1280 x 800."""

import os
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from PySide6.QtCore import QEventLoop, QTimer
from PySide6.QtWidgets import QApplication

TARGET = Path(__file__).parent.parent / "docs" / "screenshots"


def main() -> None:
    """One picture of each main view."""
    with tempfile.TemporaryDirectory() as home:
        # the pictures should not depend on, or change, anybody's settings
        for name in ("XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_DATA_HOME"):
            os.environ[name] = home
        from hemtra.desktop.shell.app import prepare
        from hemtra.desktop.shell.window import MainWindow
        from hemtra.runtime import demo
        from hemtra.runtime.demo_records import records_of_demo
        from hemtra.virtual.demo import PARTS

        folder = demo.demo_folder()
        if not demo.is_complete(folder):
            demo.write_demo(folder)
        application = QApplication(sys.argv)
        prepare(application)
        window = MainWindow()
        window.show()

        def settled() -> bool:
            return (
                not window.session.tasks.running
                and window.workspaces["plan"].workspace.idle
                and window.workspaces["station"].page.idle
            )

        def take(name: str, *, settle: bool = True) -> None:
            if settle:
                wait_for(settled)
            window.grab().save(str(TARGET / f"{name}.png"))

        take("empty")
        window.session.plans.open(folder / demo.PLAN_FILE)
        wait_for(lambda: len(window.session.bench.tray.parts) == len(PARTS))
        window.workspaces["plan"].workspace.stage.setFocus()
        take("plan-good-part")
        window.session.bench.tray.select(5)
        window.session.bench.select(11)
        window.session.bench.open_card("pocket-rim")
        take("plan-bad-part")
        window.session.bench.close_card()
        window.session.bench.tray.select(0)
        window.session.bench.select(13)
        wait_for(settled)
        window.trigger("characteristic.new")
        take("plan-new")
        window.workspaces["plan"].workspace.new.leave()
        window.session.bench.tray.select(17)
        take("plan-section")
        window.session.bench.tray.select(2)
        window.session.bench.select(10)
        window.session.bench.open_card("outline")
        take("plan-anchor")
        window.session.bench.close_card()
        window.session.bench.tray.select(next(k for k, p in enumerate(PARTS) if "bead-wandering" in p.defects))
        window.session.bench.select(20)
        take("plan-path")
        window.session.bench.tray.select(2)
        window.session.bench.select(1)
        window.workspaces["plan"].workspace.arrangement.show(frozenset(("top", "3D")))
        space = window.workspaces["plan"].workspace.arrangement.space
        wait_for(lambda: space is not None and len(space.meshes) == 2)
        take("plan-3d")
        window.workspaces["plan"].workspace.arrangement.show(frozenset(("top", "section")))
        run_picture(window, folder, home, take)
        window.session.use_records(records_of_demo(folder))
        records_pictures(window, take)
        profile_picture(window, folder / demo.RUNNER_PLAN_FILE, take)
        station_pictures(window, folder / demo.STATION_FILE, take)
        window.close()


def run_picture(window: Any, folder: Path, home: str, take: Callable[..., None]) -> None:
    """The line with the tray on its belt, at a part that fails twice."""
    from hemtra.runtime import demo

    window.session.stations.open(folder / demo.STATION_FILE)
    wait_for(lambda: window.session.station_bench.document.path is not None)
    run = window.workspaces["run"].page
    run.db = f"{home}/records.db"
    window.show_workspace("run")
    run.start_or_stop()
    wait_for(lambda: len(run.bench.parts) >= 20)
    run.bench.hold(run.bench.parts[16])
    wait_for(lambda: len(run.bench.parts) >= 21)
    take("run", settle=False)
    run.bench.hold(None)
    run.start_or_stop()
    wait_for(lambda: run.bench.state == "idle")
    window.show_workspace("plan")


def records_pictures(window: Any, take: Callable[..., None]) -> None:
    """The bad batch among all lots, and one of its parts as it was seen then."""
    from hemtra.virtual.lots import BAD_BATCH, lot_name

    records = window.workspaces["records"].page
    window.show_workspace("records")
    wait_for(lambda: records.records is not None and records.idle and records.bench.trend is not None)
    take("records", settle=False)
    group = records.bench.groups[0]
    lot = next(view.lot for view in group.lots if view.lot.name == lot_name(BAD_BATCH[0]))
    records.bench.choose((lot.id,))
    records.filters.verdict.setCurrentIndex(1)
    records.filters.verdict.activated.emit(1)
    wait_for(lambda: records.idle and records.bench.lot is not None)
    kept = next(part for part in records.bench.parts if part.scan)
    records.open_part(kept.id)
    wait_for(lambda: records.idle and records.part.bench.shown is not None, 600)
    take("records-part", settle=False)
    records.show_lots()
    window.show_workspace("plan")


def profile_picture(window: Any, plan: Path, take: Callable[..., None]) -> None:
    """A run of profiles whose slit widens, near its far end."""
    from hemtra.virtual.runner_demo import RUNNERS

    window.session.plans.open(plan)
    wait_for(lambda: len(window.session.bench.tray.parts) == len(RUNNERS))
    window.session.bench.tray.select(
        next(k for k, part in enumerate(RUNNERS) if "slit-tapered" in part.defects)
    )
    window.session.bench.select(9)
    window.session.bench.set_profile(430)
    take("plan-profiles")


def station_pictures(window: Any, station: Path, take: Callable[..., None]) -> None:
    """The Station workspace idle, scanning, and in each guided task."""
    bench, workspace = window.session.station_bench, window.workspaces["station"].page
    window.session.stations.open(station)
    window.show_workspace("station")
    wait_for(lambda: bench.document.path is not None and workspace.idle)
    take("station")
    workspace.trial.count.setCurrentIndex(1)
    workspace.scan_trial()
    grown = lambda: bench.trial is not None and bench.trial.taken > 500  # noqa: E731
    wait_for(grown, 0)
    take("station-scanning", settle=False)
    wait_for(lambda: not workspace.trial.running)
    workspace.begin("encoder")
    for _ in range(4):
        workspace.encoder_task.run_once()
    take("station-encoder")
    workspace.begin("exposure")
    workspace.exposure_task.target.setText("60")
    workspace.exposure_task.run()
    take("station-exposure")
    tilted = bench.document.value.with_part("sensor.hang", roll=0.8).with_part("line", climb=-0.5)
    bench.document.edit("roll", tilted)
    workspace.begin("level")
    workspace.level_task.run()
    take("station-level")
    stretched = bench.document.value.with_part("sensor.hang", roll=0.0, stretch_x=0.8, stretch_z=-0.6)
    bench.document.edit("scales", stretched.with_part("line", climb=0.0))
    workspace.begin("correct")
    workspace.correct_task.run()
    wait_for(lambda: workspace.correct_task.picture.data is not None)
    for place in ((-46, 0), (46, 0), (-20, -18), (20, -18), (-20, 22)):
        workspace.correct_task.click(*place)
    take("station-correct")
    window.trigger("station.two")
    workspace.begin("align")
    workspace.align_task.run()
    wait_for(lambda: workspace.align_task.found is not None)
    take("station-align")


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


if __name__ == "__main__":
    # processes that evaluate begin by reading this file again
    main()
