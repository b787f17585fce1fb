"""Logging without a window: lines on stderr, and a rotating file."""

from __future__ import annotations

import json
import logging
import logging.handlers
from pathlib import Path
from typing import Any

import platformdirs

from hemtra.storage.files import make_folder

LARGEST, KEPT = 5_000_000, 5
"""Largest size of a log file, bytes, and number of older ones kept."""
FIELDS = ("event", "number", "verdict", "fields")
"""Fields of a JSON line besides its text, where known."""

log = logging.getLogger("hemtra")


def usual_log() -> Path:
    """The log file that is used by default."""
    return Path(platformdirs.user_log_dir("hemtra")) / "hemtra.log"


def begin_logging(
    level: str = "info", file: Path | None = None, *, as_json: bool = False, console: bool = True
) -> None:
    """Log from `level` on to a file, in whole with tracebacks, and to stderr where nobody sees a window.

    Raises `FileError` where the folder of the file cannot be made; a file that cannot be written is left out
    with a warning, since a line must not stand for want of a log.
    """
    file = file or usual_log()
    make_folder(file.parent)
    log.setLevel(level.upper())
    log.propagate = False
    for handler in list(log.handlers):
        log.removeHandler(handler)
        handler.close()
    if console:
        onto = logging.StreamHandler()
        onto.setFormatter(_Json() if as_json else _Line())
        log.addHandler(onto)
    try:
        kept = logging.handlers.RotatingFileHandler(file, maxBytes=LARGEST, backupCount=KEPT, encoding="utf-8")
    except OSError as error:
        log.warning("The log file %s cannot be written: %s.", file, error.strerror)
        return
    kept.setFormatter(_Json() if as_json else logging.Formatter("%(asctime)s %(levelname)s %(message)s"))
    log.addHandler(kept)


class _Line(logging.Formatter):
    """A sentence a line; tracebacks are for the file."""

    def format(self, record: logging.LogRecord) -> str:
        return f"{self.formatTime(record)} {record.levelname} {record.getMessage()}"


class _Json(logging.Formatter):
    """Write one object per line."""

    def format(self, record: logging.LogRecord) -> str:
        entry: dict[str, Any] = {
            "time": self.formatTime(record, "%Y-%m-%dT%H:%M:%S%z"),
            "level": record.levelname.lower(),
            "text": record.getMessage(),
        }
        entry |= {name: getattr(record, name) for name in FIELDS if hasattr(record, name)}
        if record.exc_info:
            entry["traceback"] = self.formatException(record.exc_info)
        return json.dumps(entry, ensure_ascii=True)
