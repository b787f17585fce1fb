"""Unsaved work, kept beside the running program so that neither a crash nor quitting loses it."""

from __future__ import annotations

import json
import os
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import platformdirs

from hemtra.core.errors import HemtraError
from hemtra.core.plan.document import Plan
from hemtra.storage.files import make_folder, read_text, write_text
from hemtra.storage.plans import from_json, to_json
from hemtra.storage.trays import TrayEntry

LARGEST = 32 * 1024**2


@dataclass(frozen=True)
class Kept:
    """A plan that was open and not saved."""

    plan: Plan
    path: Path | None
    tray: tuple[TrayEntry, ...]
    when: datetime
    file: Path


def recovery_folder() -> Path:
    """Where unsaved work is kept."""
    return Path(platformdirs.user_state_dir("hemtra")) / "unsaved"


def own_file(number: int = 0) -> Path:
    """The file of this process for the `number`-th plan it has open one after the other."""
    return recovery_folder() / f"{os.getpid()}-{number}.json"


@dataclass(frozen=True)
class State:
    """What is to be kept in a file; without a plan there is nothing unsaved."""

    file: Path
    plan: Plan | None
    path: Path | None = None
    tray: tuple[TrayEntry, ...] = ()


def keep(state: State) -> None:
    """Bring the file up to date. Raises `FileError`."""
    if state.plan is None:
        forget(state.file)
        return
    make_folder(recovery_folder())
    content = {
        "plan": to_json(state.plan),
        "path": None if state.path is None else str(state.path),
        "tray": [[str(e.path), e.tag] for e in state.tray],
    }
    write_text(state.file, json.dumps(content))


def forget(file: Path) -> None:
    """Nothing of this is unsaved any more."""
    with suppress(OSError):
        file.unlink(missing_ok=True)


def find() -> Kept | None:
    """The newest unsaved work of a process that no longer runs; unreadable ones are passed over."""
    folder = recovery_folder()
    files = sorted(folder.glob("*.json"), key=_time, reverse=True) if folder.is_dir() else []
    for file in files:
        process = file.stem.partition("-")[0]
        if process.isdigit() and not _running(int(process)):
            try:
                content = json.loads(read_text(file, LARGEST))
                plan = from_json(content["plan"], file.name)
                tray = tuple(TrayEntry(Path(path), tag) for path, tag in content["tray"])
                path = None if content["path"] is None else Path(content["path"])
            except (HemtraError, ValueError, KeyError, TypeError):
                continue
            return Kept(plan, path, tray, datetime.fromtimestamp(_time(file)), file)
    return None


def _time(file: Path) -> float:
    with suppress(OSError):
        return file.stat().st_mtime
    return 0.0


def _running(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    return True
