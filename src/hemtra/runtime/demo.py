"""The demo on disk: stations, plans, trays and truths."""

from __future__ import annotations

import hashlib
import json
import threading
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from importlib.resources import files
from pathlib import Path
from typing import Any

import platformdirs

from hemtra.core.evaluation import known_to
from hemtra.core.evaluation.uncertainty import budgets, with_budgets
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.plan.document import Plan
from hemtra.core.plan.registry import kinds
from hemtra.core.progress import Progress
from hemtra.runtime.demo_records import RECORDS, write_records
from hemtra.storage.files import make_folder, write_text
from hemtra.storage.plans import save_plan
from hemtra.storage.scans import save_scan
from hemtra.storage.stations import save_station
from hemtra.storage.trays import TrayEntry, save_tray, tray_path
from hemtra.virtual.demo import DOOR_STATION, PARTS, STATION, demo_plan, truth
from hemtra.virtual.runner_demo import RUNNER_STATION, RUNNERS, runner_plan, runner_truth

STATION_FILE, PLAN_FILE, TRAY, TRUTH = "bench-a.hstation", "rain-pump-cover.hplan", "tray", "truth.json"
DOOR_FILE = "door-bench.hstation"
RUNNER_STATION_FILE, RUNNER_PLAN_FILE = "runner-line.hstation", "drawer-runner.hplan"
RUNNER_TRAY, RUNNER_TRUTH = "runners", "runner-truth.json"
SCENES = ((PLAN_FILE, TRAY, TRUTH), (RUNNER_PLAN_FILE, RUNNER_TRAY, RUNNER_TRUTH))
"""A plan, the folder of its parts, and what is known of them."""
SCANS = len(RUNNERS) + len(PARTS) + 1
"""Weights of the demo's parts in its progress, the records as one."""
COPIES, SCANS_TRIED = 8, 3
"""Copies of the reference scan, and scans, from which the uncertainty of the demo's plans is found."""


def write_demo(folder: Path, progress: Progress = lambda done, of, what: True) -> bool:
    """Write all demo files into a folder; False when `progress` asked to stop. Raises `FileError`.

    truth.json comes last: a folder that has it is complete.
    """
    for tray in (TRAY, RUNNER_TRAY):
        make_folder(folder / tray)
    (folder / TRUTH).unlink(missing_ok=True)
    save_station(STATION, folder / STATION_FILE)
    save_station(DOOR_STATION, folder / DOOR_FILE)
    save_station(RUNNER_STATION, folder / RUNNER_STATION_FILE)
    stopped = threading.Event()
    with ThreadPoolExecutor(1) as pool:
        # the records are Python's work and the scans are not, so the two continue beside each other
        records = pool.submit(write_records, folder, demo_plan(), lambda *_: not stopped.is_set())
        try:
            if not _write_trays(folder, progress):
                return False
            records.result()
        finally:
            stopped.set()
    write_text(folder / TRUTH, _json_text(truth()))
    progress(SCANS, SCANS, "done")
    return True


def _with_uncertainty(plan: Plan, scans: Sequence[HeightMap]) -> Plan:
    """The plan with the uncertainty of its rows, from fewer copies than a plan of one's own is given."""
    return with_budgets(plan, budgets(plan, scans[:SCANS_TRIED], copies=COPIES))


def _write_trays(folder: Path, progress: Progress) -> bool:
    """All scans, each with its plan and tray; False when `progress` asked to stop."""
    runners = []
    for done, runner in enumerate(RUNNERS):
        if not progress(done, SCANS, f"scanning {runner.file}"):
            return False
        runners.append(runner.scan())
        save_scan(runners[-1], folder / RUNNER_TRAY / runner.file)
    first = runners[0]
    save_plan(_with_uncertainty(runner_plan(), [first.data]), folder / RUNNER_PLAN_FILE, first)
    save_tray(
        folder / RUNNER_PLAN_FILE, [TrayEntry(folder / RUNNER_TRAY / part.file, part.tag) for part in RUNNERS]
    )
    write_text(folder / RUNNER_TRUTH, _json_text(runner_truth()))
    good = []
    for done, part in enumerate(PARTS, start=len(RUNNERS)):
        if not progress(done, SCANS, f"scanning {part.file}"):
            return False
        scan = part.scan()
        save_scan(scan, folder / TRAY / part.file)
        if part.tag == "good":
            good.append(scan)
    plan = _with_uncertainty(demo_plan(), [scan.data for scan in good])
    save_plan(plan, folder / PLAN_FILE, good[0])
    save_tray(folder / PLAN_FILE, [TrayEntry(folder / TRAY / part.file, part.tag) for part in PARTS])
    return progress(SCANS - 1, SCANS, "writing the records")


def _json_text(known: Any) -> str:
    return json.dumps(known, indent=1, sort_keys=True) + "\n"


def demo_folder() -> Path:
    """Cache of the demo files of exactly this version."""
    digest = hashlib.blake2b(digest_size=6)
    for package in ("hemtra.virtual", "hemtra.core.station.models", "hemtra.core.station"):
        for entry in sorted(files(package).iterdir(), key=lambda e: e.name):
            if entry.name.endswith((".py", ".json")):
                digest.update(entry.read_bytes())
    digest.update((files("hemtra.runtime") / "demo_records.py").read_bytes())
    # what is known of values depends on how they are measured
    methods = sorted((kind.kind, kind.revision) for kind in kinds().values())
    digest.update(repr((known_to.REVISION, methods)).encode())
    return Path(platformdirs.user_cache_dir("hemtra")) / f"demo-{digest.hexdigest()}"


def is_complete(folder: Path) -> bool:
    """Whether all demo files are there."""
    names = [
        PLAN_FILE,
        STATION_FILE,
        DOOR_FILE,
        RUNNER_STATION_FILE,
        RUNNER_PLAN_FILE,
        RUNNER_TRUTH,
        RECORDS,
        TRUTH,
        tray_path(Path(PLAN_FILE)).name,
        tray_path(Path(RUNNER_PLAN_FILE)).name,
        *(f"{TRAY}/{part.file}" for part in PARTS),
        *(f"{RUNNER_TRAY}/{part.file}" for part in RUNNERS),
    ]
    return all((folder / name).is_file() for name in names)
