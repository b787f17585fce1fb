"""Scan files of any format we know, by suffix."""

from __future__ import annotations

import importlib
from pathlib import Path
from types import ModuleType

from hemtra.core.errors import FileError
from hemtra.core.maps.scan import Scan

# By name, so that a command that reads X3P does not wait for the TIFF library to load.
FORMATS = {".x3p": "hemtra.storage.x3p", ".tif": "hemtra.storage.tiff", ".tiff": "hemtra.storage.tiff"}


def load_scan(path: str | Path) -> Scan:
    """Read a scan. Raises `FileError` in the user's words."""
    path = Path(path)
    scan: Scan = _format_of(path).read(path)
    return scan


def is_whole(path: Path) -> bool:
    """Whether a file holds all that its format begins with, as far as can be seen without reading it."""
    try:
        whole: bool = _format_of(path).is_whole(path)
    except FileError:
        return False
    return whole


def save_scan(scan: Scan, path: str | Path) -> None:
    """Write a scan atomically, in the format of the suffix. Raises `FileError`."""
    path = Path(path)
    _format_of(path).write(scan, path)


def _format_of(path: Path) -> ModuleType:
    try:
        return importlib.import_module(FORMATS[path.suffix.lower()])
    except KeyError:
        known = ", ".join(FORMATS)
        raise FileError(f"{path.name}: “{path.suffix}” is not a scan format; there are {known}.") from None
