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
from hemtra.core.plan.registry import kinds
from hemtra.core.progress import Progress
from hemtra.runtime.demo_records import RECORDS, write_records
from hemtra.storage.files import make_folder, write_text
from hemtra.storage.plans import save_plan
from hemtra.storage.scans import save_scan
from hemtra.storage.stations import save_station
from hemtra.storage.trays import TrayEntry, save_tray, tray_path
from hemtra.virtual.demo import DOOR_STATION, PARTS, STATION, DemoPart, demo_plan, truth
from hemtra.virtual.demo_uncertainty import with_uncertainty
from hemtra.virtual.runner_demo import RUNNER_STATION, RUNNERS, RunnerPart, runner_plan, runner_truth

STATION_FILE, PLAN_FILE, TRAY, TRUTH = "bench-a.hstation", "rain-pump-cover.hplan", "tray", "truth.json"
DOOR_FILE = "door-bench.hstation"
RUNNER_STATION_FILE, RUNNER_PLAN_FILE = "runner-line.hstation", "drawer-runner.hplan"
RUNNER_TRAY, RUNNER_TRUTH = "runners", "runner-truth.json"
SCENES = ((PLAN_FILE, TRAY, TRUTH), (RUNNER_PLAN_FILE, RUNNER_TRAY, RUNNER_TRUTH))
"""A plan, the folder of its parts, and what is known of them."""
SCANS = len(RUNNERS) + len(PARTS) + 1
"""Weights of the demo's parts in its progress, the records as one."""


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


def _write_trays(folder: Path, progress: Progress) -> bool:
    """All scans, each with its plan and tray; False when `progress` asked to stop."""
    done = 0
    all_parts: tuple[Sequence[DemoPart | RunnerPart], ...] = PARTS, RUNNERS
    for (plan_file, tray, _), plan, parts in zip(SCENES, (demo_plan, runner_plan), all_parts, strict=True):
        for part in parts:
            if not progress(done, SCANS, f"scanning {part.file}"):
                return False
            scan = part.scan()
            save_scan(scan, folder / tray / part.file)
            if part is parts[0]:
                save_plan(with_uncertainty(plan()), folder / plan_file, scan)
            done += 1
        save_tray(folder / plan_file, [TrayEntry(folder / tray / part.file, part.tag) for part in parts])
    write_text(folder / RUNNER_TRUTH, _json_text(runner_truth()))
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
