"""The scans that a run keeps, within the disk it may take."""

from __future__ import annotations

import shutil
import stat
from collections import deque
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path

from hemtra.core.errors import FileError
from hemtra.core.station.io_and_storage import ScanRetention
from hemtra.runtime.feeds import Arrived
from hemtra.storage.files import make_folder
from hemtra.storage.records.store import Lot
from hemtra.storage.scans import save_scan

GB = 1e9
LONGEST = 60
"""Letters of a lot's name in that of its folder."""
MOST_ALIKE = 100
"""Files of one number, as several databases that keep their scans in one folder may write them."""


class ScanStore:
    """A folder of kept scans, `<lot>/<number>.x3p`. Raises `FileError` in words.

    known: the files that the records say were kept, the oldest first. No other is ever listed, counted or taken
    out: the folder may hold anything.
    """

    def __init__(self, folder: Path, keeping: ScanRetention, known: Iterable[str] = ()) -> None:
        self._folder, self._keeping = folder.absolute(), keeping
        self._files: deque[tuple[int, Path]] = deque()
        for path in map(Path, known):
            if self._folder in path.parents and (size := _size_of(path)) is not None:
                self._files.append((size, path))
        self.size = sum(size for size, _ in self._files)

    @property
    def free(self) -> float:
        """GB of disk left; infinite where that is unknown."""
        place = self._folder
        while not place.exists() and place != place.parent:
            place = place.parent
        try:
            return shutil.disk_usage(place).free / GB
        except OSError:
            return float("inf")

    def keeps(self, number: int, *, passed: bool) -> bool:
        """Whether the scan of a part is kept."""
        return self._keeping.keeps(number, passed=passed)

    def keep(self, arrived: Arrived, lot: Lot, number: int) -> tuple[Path, list[Path]]:
        """Keep a scan: where it lies, and which older ones had to go. Raises `FileError` where it cannot be."""
        if self.free < self._keeping.minimum_free:
            raise FileError(
                f"The disk of {self._folder} has less than {self._keeping.minimum_free:g} GB left, so no scans"
                " are kept. Free some space."
            )
        folder = self._folder / folder_of(lot)
        make_folder(folder)
        target = _reserved(folder, f"{number:07d}", arrived.path.suffix if arrived.path is not None else ".x3p")
        try:
            if arrived.path is not None:
                _copy(arrived.path, target)
            elif arrived.scan is not None:
                save_scan(arrived.scan, target)
            else:
                raise FileError("There is no scan to keep.")
            size = target.stat().st_size
        except BaseException:
            # nothing but the empty file that held the name
            with suppress(OSError):
                target.unlink()
            raise
        self._files.append((size, target))
        self.size += size
        return target, self._shrunk()

    def _shrunk(self) -> list[Path]:
        """Take the oldest out until all fit; which."""
        gone = []
        while self.size > self._keeping.budget * GB and len(self._files) > 1:
            size, path = self._files.popleft()
            if _size_of(path) is not None:
                with suppress(OSError):
                    path.unlink(missing_ok=True)
            self.size -= size
            gone.append(path)
        return gone


def folder_of(lot: Lot) -> str:
    """The name of the folder of a lot: no other lot has it, and none leads out of the folder of scans."""
    plain = "".join(ch if ch.isalnum() or ch in " -_" else "-" for ch in lot.name)
    return f"{lot.id:06d} {plain[:LONGEST]}".strip()


def _size_of(path: Path) -> int | None:
    """Size of a regular file, bytes; None for anything else, or nothing."""
    try:
        found = path.lstat()
    except OSError:
        return None
    return found.st_size if stat.S_ISREG(found.st_mode) else None


def _reserved(folder: Path, name: str, suffix: str) -> Path:
    """A new, empty file; one that is there already is never replaced."""
    for copy in range(MOST_ALIKE):
        path = folder / f"{name}{f'-{copy + 1}' if copy else ''}{suffix}"
        try:
            path.open("xb").close()
        except FileExistsError:
            continue
        except OSError as error:
            raise FileError(f"The scan {path.name} was not kept: {error.strerror or error}.") from error
        return path
    raise FileError(f"{folder} holds {MOST_ALIKE} scans called {name} already, so this one was not kept.")


def _copy(source: Path, target: Path) -> None:
    """A copy that is whole or not there; a second name of the file would change when that is written again."""
    temporary = target.with_name(f".{target.name}.part")
    try:
        shutil.copyfile(source, temporary)
        temporary.replace(target)
    except OSError as error:
        temporary.unlink(missing_ok=True)
        raise FileError(f"The scan {source.name} was not kept: {error.strerror or error}.") from error
