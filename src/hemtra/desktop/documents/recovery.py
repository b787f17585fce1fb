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
from hemtra.core.station.station import Station, migrate
from hemtra.storage.files import make_folder, parsed_json, read_text, write_text
from hemtra.storage.plans import from_json, to_json
from hemtra.storage.trays import TrayEntry

LARGEST = 32 * 1024**2


@dataclass(frozen=True)
class UnsavedState:
    """Unsaved work: a plan with its tray, a station, or both."""

    plan: Plan | None
    path: Path | None
    tray: tuple[TrayEntry, ...]
    station: Station | None
    station_path: Path | None
    when: datetime
    file: Path

    @property
    def names(self) -> str:
        """Describe it in the user's words."""
        return " and ".join(f"“{held.name}”" for held in (self.plan, self.station) if held is not None)


def recovery_folder() -> Path:
    """Folder of unsaved work."""
    return Path(platformdirs.user_state_dir("hemtra")) / "unsaved"


def own_file(number: int = 0) -> Path:
    """The file of this process for the `number`-th plan it has open one after the other."""
    return recovery_folder() / f"{os.getpid()}-{number}.json"


@dataclass(frozen=True)
class State:
    """Unsaved documents to keep in a file."""

    file: Path
    plan: Plan | None = None
    path: Path | None = None
    tray: tuple[TrayEntry, ...] = ()
    station: Station | None = None
    station_path: Path | None = None


def keep(state: State) -> None:
    """Bring the file up to date. Raises `FileError`."""
    if state.plan is None and state.station is None:
        forget(state.file)
        return
    make_folder(recovery_folder())
    station = state.station
    content = {
        "plan": None if state.plan is None else to_json(state.plan),
        "path": None if state.path is None else str(state.path),
        "tray": [[str(e.path), e.tag] for e in state.tray],
        "station": None if station is None else station.model_dump(mode="json", by_alias=True),
        "station_path": None if state.station_path is None else str(state.station_path),
    }
    write_text(state.file, json.dumps(content))


def forget(file: Path) -> None:
    """Nothing of this is unsaved any more."""
    with suppress(OSError):
        file.unlink(missing_ok=True)


def find() -> UnsavedState | None:
    """The newest unsaved work of a process that no longer runs; unreadable ones are passed over."""
    folder = recovery_folder()
    files = sorted(folder.glob("*.json"), key=_time, reverse=True) if folder.is_dir() else []
    for file in files:
        process = file.stem.partition("-")[0]
        if process.isdigit() and not _running(int(process)):
            try:
                return _read(file)
            except (HemtraError, ValueError, KeyError, TypeError):
                continue
    return None


def _read(file: Path) -> UnsavedState:
    content = parsed_json(read_text(file, LARGEST), "not JSON")
    station = content["station"]
    return UnsavedState(
        plan=None if content["plan"] is None else from_json(content["plan"], file.name),
        path=_path(content["path"]),
        tray=tuple(TrayEntry(Path(path), tag) for path, tag in content["tray"]),
        station=None if station is None else Station.model_validate(migrate(station)),
        station_path=_path(content["station_path"]),
        when=datetime.fromtimestamp(_time(file)),
        file=file,
    )


def _path(text: str | None) -> Path | None:
    return None if text is None else Path(text)


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
