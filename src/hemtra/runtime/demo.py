"""The demo on disk: station, plan, tray and truth."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from importlib.resources import files
from pathlib import Path

import platformdirs

from hemtra.storage.files import make_folder, write_text
from hemtra.storage.plans import save_plan
from hemtra.storage.scans import save_scan
from hemtra.storage.stations import save_station
from hemtra.storage.trays import TrayEntry, save_tray, tray_path
from hemtra.virtual.demo import DOOR_STATION, PARTS, REFERENCE, STATION, demo_plan, truth

STATION_FILE, PLAN_FILE, TRAY, TRUTH = "bench-a.hstation", "rain-pump-cover.hplan", "tray", "truth.json"
DOOR_FILE = "door-bench.hstation"

Progress = Callable[[int, int, str], bool]
"""Told how many of how many are done and what comes next; answers whether to go on."""


def write_demo(folder: Path, progress: Progress = lambda done, of, what: True) -> bool:
    """Write all demo files into a folder; False when `progress` asked to stop. Raises `FileError`.

    truth.json comes last: a folder that has it is complete.
    """
    make_folder(folder / TRAY)
    (folder / TRUTH).unlink(missing_ok=True)
    save_station(STATION, folder / STATION_FILE)
    save_station(DOOR_STATION, folder / DOOR_FILE)
    for done, part in enumerate(PARTS):
        if not progress(done, len(PARTS), f"scanning {part.file}"):
            return False
        scan = part.scan()
        save_scan(scan, folder / TRAY / part.file)
        if part == REFERENCE:
            save_plan(demo_plan(), folder / PLAN_FILE, scan)
    save_tray(folder / PLAN_FILE, [TrayEntry(folder / TRAY / part.file, part.tag) for part in PARTS])
    write_text(folder / TRUTH, json.dumps(truth(), indent=1, sort_keys=True) + "\n")
    progress(len(PARTS), len(PARTS), "done")
    return True


def demo_folder() -> Path:
    """Where the demo files of exactly this version are kept between runs."""
    digest = hashlib.blake2b(digest_size=6)
    for package in ("hemtra.virtual", "hemtra.virtual.models", "hemtra.core.station"):
        for entry in sorted(files(package).iterdir(), key=lambda e: e.name):
            if entry.name.endswith((".py", ".json")):
                digest.update(entry.read_bytes())
    return Path(platformdirs.user_cache_dir("hemtra")) / f"demo-{digest.hexdigest()}"


def is_complete(folder: Path) -> bool:
    """Whether all demo files are there."""
    names = [
        PLAN_FILE,
        STATION_FILE,
        DOOR_FILE,
        TRUTH,
        tray_path(Path(PLAN_FILE)).name,
        *(f"{TRAY}/{part.file}" for part in PARTS),
    ]
    return all((folder / name).is_file() for name in names)
