"""Where the parts of a run come from: recorded scans, a folder being filled, or a line."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from hemtra.core.errors import FileError
from hemtra.core.scan.scan import Scan
from hemtra.storage.scans import FORMATS

LOOK = 0.1
"""s between two looks into a folder."""
QUIET = 2
"""Looks in a row at which a file must be the same before it is taken: what writes it has finished."""
EMPTY_WAIT = 2.0
"""s after which an empty file counts as one that will not be filled any more."""


@dataclass(frozen=True)
class Arrived:
    """A part that was scanned, or that should have been: then `trouble` says in words why there is no scan.

    triggered, scanned: seconds since 1970. travel: mm of belt at its trigger, None without an encoder. scan, or
    the file it is in. note: what is worth knowing of a scan all the same. kind: of the event for either.
    """

    source: str
    triggered: float
    scanned: float
    scan: Scan | None = None
    path: Path | None = None
    travel: float | None = None
    trouble: str = ""
    note: str = ""
    kind: str = ""


Put = Callable[[Arrived], None]


class Feed(Protocol):
    """Hands over parts in the order they come."""

    live: bool
    """Whether parts come whether anybody is ready or not; the others wait."""

    def run(self, put: Put, stopping: threading.Event, paused: threading.Event) -> None:
        """Until there are no more, or it is stopped; none while it is paused. Raises `HemtraError`."""

    def travel(self) -> float | None:
        """mm the belt has moved by now; None without an encoder."""


class FolderFeed:
    """Recorded scans one after the other, again from the start until there are enough."""

    live = False

    def __init__(self, paths: Sequence[Path], parts: int | None = None, rate: float = 0.0) -> None:
        """parts: how many in all, None for each once. rate: parts a second, 0 as fast as they are judged."""
        if not paths:
            raise FileError("There are no scans to run.")
        self._paths, self._parts, self._rate = paths, len(paths) if parts is None else parts, rate

    @classmethod
    def of(cls, folder: Path, parts: int | None = None, rate: float = 0.0) -> FolderFeed:
        """All scans of a folder, by name. Raises `FileError` when there are none."""
        found = [p for p in sorted(folder.iterdir()) if _is_scan(p)] if folder.is_dir() else []
        if not found:
            raise FileError(f"There are no scans in {folder}.")
        return cls(found, parts, rate)

    def run(self, put: Put, stopping: threading.Event, paused: threading.Event) -> None:
        """Each file in turn."""
        start = time.monotonic()
        for k in range(self._parts):
            while paused.is_set() and not stopping.wait(LOOK):
                start = time.monotonic() - (k / self._rate if self._rate else 0.0)
            if self._rate:
                stopping.wait(max(0.0, start + k / self._rate - time.monotonic()))
            if stopping.is_set():
                return
            path, now = self._paths[k % len(self._paths)], time.time()
            put(Arrived(str(path), now, now, path=path))

    def travel(self) -> float | None:
        """Recorded scans have no belt."""
        return None


class WatchFeed:
    """A folder being filled: each scan once, as soon as it is complete, oldest first."""

    live = False

    def __init__(self, folder: Path, known: set[str], parts: int | None = None) -> None:
        """known: files that have been judged before. Raises `FileError` when there is no such folder."""
        if not folder.is_dir():
            raise FileError(f"There is no folder {folder} to watch; make it, or name another.")
        self._folder, self._known, self._parts = folder, set(known), parts
        self._seen: dict[Path, tuple[tuple[int, int], int, float]] = {}

    def run(self, put: Put, stopping: threading.Event, paused: threading.Event) -> None:
        """Look into the folder until stopped."""
        left = self._parts
        while not stopping.is_set():
            for path in [] if paused.is_set() else self._complete():
                self._known.add(str(path))
                now = time.time()
                put(Arrived(str(path), now, now, path=path))
                left = None if left is None else left - 1
                if left == 0 or stopping.is_set():
                    return
            stopping.wait(LOOK)

    def _complete(self) -> list[Path]:
        """The new files that have not changed for some looks, oldest first."""
        found: list[tuple[int, str, Path]] = []
        try:
            there = list(self._folder.iterdir())
        except OSError as error:
            raise FileError(
                f"The folder {self._folder} cannot be read any more ({error.strerror}); bring it back, and"
                " start again."
            ) from error
        for path in there:
            if str(path) in self._known or not _is_scan(path):
                continue
            try:
                stat = path.stat()
            except OSError:
                continue  # it went away again
            now = (stat.st_size, stat.st_mtime_ns)
            before, count, since = self._seen.get(path, ((-1, -1), 0, time.monotonic()))
            if now != before:
                count, since = 0, time.monotonic()
            self._seen[path] = (now, count + 1, since)
            waiting = stat.st_size == 0 and time.monotonic() - since < EMPTY_WAIT
            if count + 1 > QUIET and not waiting:
                found.append((stat.st_mtime_ns, path.name, path))
        for _, _, path in found:
            del self._seen[path]
        return [path for _, _, path in sorted(found)]

    def travel(self) -> float | None:
        """A folder has no belt."""
        return None


def _is_scan(path: Path) -> bool:
    return path.suffix.lower() in FORMATS and not path.name.startswith(".")
