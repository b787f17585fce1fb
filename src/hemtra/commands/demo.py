"""The whole example in a terminal: both trays through a line, and whether their verdicts are right."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from rich.console import Console
from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn
from rich.table import Table

from hemtra.commands.symbols import signed
from hemtra.core.errors import HemtraError
from hemtra.core.plan.limits import Verdict
from hemtra.core.station.station import Station
from hemtra.runtime.demo import RUNNER_STATION_FILE, SCENES, STATION_FILE
from hemtra.runtime.demo_records import records_of_demo
from hemtra.runtime.production import Done, Listeners
from hemtra.runtime.reporting import report_lot
from hemtra.runtime.run_setup import RunRequest, begin, records_folder
from hemtra.storage.files import read_text
from hemtra.storage.plans import PlanFile, load_plan_file
from hemtra.storage.records import Records
from hemtra.storage.stations import load_station
from hemtra.virtual.lots import BAD_BATCH, lot_name

LARGEST_TRUTH = 1 << 20


def print_example(folder: Path, out: Console, err: Console) -> int:
    """Run and print both scenes; how many parts were evaluated otherwise than their truth says."""
    out.print(f"Files in {folder}", soft_wrap=True)
    records = Path(records_of_demo(folder))
    wrong = 0
    for scene, station in zip(SCENES, (STATION_FILE, RUNNER_STATION_FILE), strict=True):
        wrong += _print_scene(folder, scene, station, records, out, err)
    out.print(f"Records in {records}", soft_wrap=True)
    _report(records, lot_name(BAD_BATCH[0]), out, err)
    return wrong


def _report(db: Path, name: str, out: Console, err: Console) -> None:
    """The report of the lot that has a bad batch."""
    records, path = Records(str(db)), records_folder() / f"{name.replace(' ', '-')}.pdf"
    columns = TextColumn("report"), BarColumn(), TextColumn("{task.description}")
    try:
        lot = next(lot for lot in records.all_lots() if lot.name == name)
        with Progress(*columns, console=err, transient=True, disable=not err.is_terminal) as bar:
            task = bar.add_task("")

            def progress(done: int, of: int, what: str) -> bool:
                bar.update(task, total=of, completed=done, description=what)
                return True

            report_lot(records, lot, path, progress)
    finally:
        records.close()
    out.print(f"Report of {name} in {path}", soft_wrap=True)


def _print_scene(
    folder: Path, scene: tuple[str, str, str], station: str, records: Path, out: Console, err: Console
) -> int:
    plan_file, tray, truth_file = scene
    known = json.loads(read_text(folder / truth_file, LARGEST_TRUTH))
    held = load_plan_file(folder / plan_file)
    by_profile = ", profile by profile" if held.plan.by_profile is not None else ""
    out.print(
        f"Demo: {held.plan.name}, {len(held.plan.sheet)} characteristics, {len(known)} parts{by_profile}."
    )
    table = Table("part", "known", "verdict", "limiting characteristic", "ms", box=None, header_style="bold")
    right = 0
    asked = RunRequest(replay=folder / tray, db=str(records), scans=None)
    for done in _run(held, load_station(folder / station), asked, len(known), err):
        truth: dict[str, Any] = known[Path(done.record.source).name]
        decided = [c for c in done.found.rows if c.verdict is not Verdict.PASS]
        right += [c.balloon for c in decided] == truth["fails"]
        table.add_row(
            Path(done.record.source).name,
            truth["tag"],
            signed(done.record.verdict),
            "; ".join(f"{c.balloon} {c.name} {c.reason}" for c in decided),
            f"{done.record.elapsed_ms:.0f}",
        )
    out.print(table)
    out.print(f"{right} of {len(known)} verdicts match ground truth.")
    return len(known) - right


def _run(held: PlanFile, station: Station, asked: RunRequest, count: int, err: Console) -> list[Done]:
    """All parts of a tray through a line, in order. Raises `HemtraError` where it stops before its end."""
    found: list[Done] = []
    columns = TextColumn("run"), BarColumn(), MofNCompleteColumn()
    with Progress(*columns, console=err, transient=True, disable=not err.is_terminal) as bar:
        task = bar.add_task("parts", total=count)

        def through(done: Done) -> None:
            found.append(done)
            bar.update(task, completed=len(found))

        production = begin(held.plan, station, asked, Listeners(done=through), held.reference)
        production.start()
        while not production.wait(0.1):
            pass
    production.records.close()
    if production.trouble:
        raise HemtraError(production.trouble)
    return found
