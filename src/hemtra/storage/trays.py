"""Tray files: which recorded scans belong to a plan, and what is known of them.

`cover.hplan` has its tray in `cover.tray.json` beside it, with paths relative to it.
"""

from __future__ import annotations

import json
import os
from dataclasses import dataclass
from pathlib import Path

from hemtra.core.errors import FileError
from hemtra.storage.files import parsed_json, read_text, shown, write_text

LARGEST = 4 * 1024**2
SCHEMA = 1


@dataclass(frozen=True)
class TrayEntry:
    """A recorded scan and its tag: good, bad, not measurable or unknown."""

    path: Path
    tag: str = "unknown"


def tray_path(plan_path: Path) -> Path:
    """Path of a plan's tray."""
    return plan_path.with_suffix(".tray.json")


def load_tray(plan_path: Path) -> list[TrayEntry]:
    """The tray of a plan, empty when it has none. Raises `FileError` when it is damaged."""
    path = tray_path(plan_path)
    if not path.exists():
        return []
    damaged = f"{shown(path)} is damaged; delete it and add the scans to the tray again."
    try:
        content = parsed_json(read_text(path, LARGEST), damaged)
        if content["schema"] > SCHEMA:
            raise FileError(f"{path.name} was written by a newer Hemtra; update Hemtra to open it.")
        return [TrayEntry(path.parent / str(e["scan"]), _tag(e.get("tag"))) for e in content["parts"]]
    except (ValueError, KeyError, TypeError, AttributeError):
        raise FileError(damaged) from None


def save_tray(plan_path: Path, entries: list[TrayEntry]) -> None:
    """Save atomically. Raises `FileError`."""
    folder = tray_path(plan_path).parent
    parts = [{"scan": Path(os.path.relpath(e.path, folder)).as_posix(), "tag": e.tag} for e in entries]
    write_text(tray_path(plan_path), json.dumps({"schema": SCHEMA, "parts": parts}, indent=1) + "\n")


def _tag(text: object) -> str:
    return str(text) if text in ("good", "bad", "not measurable") else "unknown"
