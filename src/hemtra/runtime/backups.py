"""Copies of the records, made by a running line every so many hours."""

from __future__ import annotations

import threading
from collections.abc import Callable
from pathlib import Path

from hemtra.core.errors import HemtraError
from hemtra.storage.records.upkeep import backup

BACKUPS = "backups"
"""The folder of copies, beside the records."""
HOUR = 3600.0


class Backups:
    """Copies a file of records beside it every so many hours, in a thread of its own."""

    def __init__(self, path: Path, hours: float, keep: int, failed: Callable[[str], None]) -> None:
        """keep: so many of the newest. failed: hears in words that a copy could not be made."""
        self._path, self._hours, self._keep, self._failed = path, hours, keep, failed
        self._stopping = threading.Event()
        self._thread = threading.Thread(target=self._run, name="backup", daemon=True)

    def start(self) -> None:
        """Begin; the first copy is made once the time is up."""
        self._thread.start()

    def stop(self) -> None:
        """End; a copy under way is finished."""
        self._stopping.set()
        self._thread.join()

    def once(self) -> None:
        """Make a copy now."""
        try:
            backup(self._path, self._path.parent / BACKUPS, self._keep)
        except HemtraError as error:
            self._failed(str(error))

    def _run(self) -> None:
        while not self._stopping.wait(self._hours * HOUR):
            self.once()
