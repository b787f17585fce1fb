"""The scans that a run keeps, within the disk it may take."""

from __future__ import annotations

import shutil
from contextlib import suppress
from pathlib import Path

from hemtra.core.errors import FileError
from hemtra.core.station.outside import Keeping
from hemtra.runtime.feeds import Arrived
from hemtra.storage.files import make_folder
from hemtra.storage.scans import save_scan

GB = 1e9


class ScanStore:
    """A folder of kept scans, `<lot>/<number>.x3p`. Raises `FileError` in words."""

    def __init__(self, folder: Path, keeping: Keeping) -> None:
        self._folder, self._keeping = folder, keeping
        self._files: list[tuple[float, int, Path]] = []
        if folder.is_dir():
            for path in folder.glob("*/*"):
                stat = path.stat()
                self._files.append((stat.st_mtime, stat.st_size, path))
        self._files.sort()
        self._size = sum(size for _, size, _ in self._files)

    @property
    def free(self) -> float:
        """GB of disk left; infinite where that cannot be told."""
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

    def keep(self, arrived: Arrived, lot: str, number: int) -> tuple[Path, list[Path]]:
        """Keep a scan: where it lies, and which older ones had to go. Raises `FileError` where it cannot be."""
        if self.free < self._keeping.minimum_free:
            raise FileError(
                f"The disk of {self._folder} has less than {self._keeping.minimum_free:g} GB left, so no scans"
                " are kept. Free some space."
            )
        folder = self._folder / "".join(ch if ch.isalnum() or ch in " -_." else "-" for ch in lot)
        make_folder(folder)
        suffix = arrived.path.suffix if arrived.path is not None else ".x3p"
        target = folder / f"{number:07d}{suffix}"
        if arrived.path is not None:
            _copy(arrived.path, target)
        elif arrived.scan is not None:
            save_scan(arrived.scan, target)
        else:
            raise FileError("There is no scan to keep.")
        stat = target.stat()
        self._files.append((stat.st_mtime, stat.st_size, target))
        self._size += stat.st_size
        return target, self._shrunk()

    def _shrunk(self) -> list[Path]:
        """Take the oldest out until all fit; which."""
        gone = []
        while self._size > self._keeping.budget * GB and len(self._files) > 1:
            _, size, path = self._files.pop(0)
            with suppress(OSError):
                path.unlink(missing_ok=True)
            self._size -= size
            gone.append(path)
        return gone


def _copy(source: Path, target: Path) -> None:
    """A copy that is whole or not there; a second name of the file would change when that is written again."""
    temporary = target.with_name(f".{target.name}.part")
    try:
        shutil.copyfile(source, temporary)
        temporary.replace(target)
    except OSError as error:
        temporary.unlink(missing_ok=True)
        raise FileError(f"The scan {source.name} was not kept: {error.strerror or error}.") from error
