"""Scheduled maintenance of a running line's records: backups, archives of old lots, packed values."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path

from hemtra.core.errors import HemtraError
from hemtra.core.station.io_and_storage import ScanRetention
from hemtra.storage.files import make_folder
from hemtra.storage.records import Records
from hemtra.storage.records.kept_scans import scans_in
from hemtra.storage.records.packed import pack_ended
from hemtra.storage.records.upkeep import archive, backup

BACKUPS, ARCHIVES = "backups", "archives"
"""The folders of copies and of archives, beside the records."""
YEARLY = "[0-9][0-9][0-9][0-9].db"
"""Name of an archive."""
HOUR, DAY = 3600.0, 86_400.0
DAILY = 24.0
"""Hours from one look for old lots to the next, where no copies are made."""


class Upkeep:
    """Copies a file of records, archives old lots as a station asks, and packs others; in its own thread."""

    def __init__(self, path: Path, keeping: ScanRetention, failed: Callable[[str], None]) -> None:
        """failed: hears in words what could not be done."""
        self._path, self._keeping, self._failed = path, keeping, failed
        self._stopping = threading.Event()
        self._thread = threading.Thread(target=self._run, name="upkeep", daemon=True)

    def start(self) -> None:
        """Begin; the first time comes once the hours are up."""
        self._thread.start()

    def stop(self) -> None:
        """End; what is under way is finished."""
        self._stopping.set()
        self._thread.join()

    def once(self) -> None:
        """Copy, archive and pack now; what is archived is in the copy of before."""
        for work in (self._copy, self._archive, self._pack):
            try:
                work()
            except HemtraError as error:
                self._failed(str(error))

    def _copy(self) -> None:
        if self._keeping.backup > 0.0:
            backup(self._path, self._path.parent / BACKUPS, self._keeping.backups)

    def _archive(self) -> None:
        if self._keeping.archive <= 0.0:
            return
        folder = self._path.parent / ARCHIVES
        make_folder(folder)
        with closing(Records(str(self._path), create=False)) as records:
            archive(records, time.time() - self._keeping.archive * DAY, folder / time.strftime("%Y.db"))

    def _pack(self) -> None:
        with closing(Records(str(self._path), create=False)) as records:
            pack_ended(records)

    def _run(self) -> None:
        hours = self._keeping.backup or DAILY
        while not self._stopping.wait(hours * HOUR):
            self.once()


def evaluated_sources(records: Records, folder: Path) -> dict[str, float]:
    """The scan files of a folder that were evaluated, on record or in archives beside it, and when last (s)."""
    known = records.known_sources(folder)
    for archived in _archives(records):
        for source, when in archived.known_sources(folder).items():
            known[source] = max(when, known.get(source, when))
    return known


def kept_scans(records: Records, folder: Path) -> list[str]:
    """The files in a folder that scans were kept in, the oldest first; those of archived parts among them.

    They continue to count for the disk that scans may take, and to make room for new ones.
    """
    old = [path for archived in _archives(records) for path in scans_in(archived, folder)]
    return list(dict.fromkeys([*old, *scans_in(records, folder)]))


def _archives(records: Records) -> Iterator[Records]:
    """The archives that a line made beside a file of records, the oldest first; other files are not opened."""
    file = Path(records.name)
    for path in sorted((file.parent / ARCHIVES).glob(YEARLY)) if file.is_file() else ():
        archived = Records(str(path), create=False)
        try:
            yield archived
        finally:
            archived.close()
