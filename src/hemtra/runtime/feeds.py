"""Sources of the parts of a run: recorded scans, a folder being filled, or a line."""

from __future__ import annotations

import stat
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

from hemtra.core.errors import FileError
from hemtra.core.maps.scan import Scan
from hemtra.core.station.io_and_storage import Incoming
from hemtra.storage.scans import FORMATS, is_whole

LOOK = 0.1
"""Interval between searches of a folder, s."""


@dataclass(frozen=True)
class _Seen:
    """State of a file: its identity, modification time and size, and since when it is unchanged."""

    inode: int
    written: int
    size: int
    since: float = field(default=0.0, compare=False)


@dataclass(frozen=True)
class Arrived:
    """A part that was scanned or should have been: then `trouble` is the reason without a scan, in words.

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
        """Travel of the belt so far, mm; None without an encoder."""


class FolderFeed:
    """Recorded scans one after the other, again from the start until there are enough."""

    live = False

    def __init__(self, paths: Sequence[Path], parts: int | None = None, rate: float = 0.0) -> None:
        """parts: how many in all, None for each once. rate: parts a second, 0 as fast as they are evaluated."""
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
    """A folder being filled: each scan once, as soon as it is complete, oldest first.

    A file is the one that it was by its inode, its time and its size, so a name may be used again.
    """

    live = False

    def __init__(
        self,
        folder: Path,
        known: Mapping[str, float],
        parts: int | None = None,
        incoming: Incoming = Incoming(),  # noqa: B008
    ) -> None:
        """known: files that have been evaluated before, and when. Raises `FileError` without such a folder."""
        if not folder.is_dir():
            raise FileError(f"There is no folder {folder} to watch; make it, or name another.")
        self._folder, self._known, self._parts, self._incoming = folder, dict(known), parts, incoming
        self._seen: dict[Path, _Seen] = {}
        self._taken: dict[Path, _Seen] = {}

    def run(self, put: Put, stopping: threading.Event, paused: threading.Event) -> None:
        """Look into the folder until stopped."""
        left = self._parts
        while not stopping.is_set():
            for path in [] if paused.is_set() else self.complete():
                now = time.time()
                put(Arrived(str(path), now, now, path=path))
                left = None if left is None else left - 1
                if left == 0 or stopping.is_set():
                    return
            stopping.wait(LOOK)

    def complete(self) -> list[Path]:
        """The new files that are complete, or that were waited for long enough, oldest first."""
        found: list[tuple[int, str, Path]] = []
        try:
            there = [path for path in self._folder.iterdir() if _is_scan(path)]
        except OSError as error:
            raise FileError(
                f"The folder {self._folder} cannot be read any more ({error.strerror}); bring it back, and"
                " start again."
            ) from error
        self._seen = {path: seen for path, seen in self._seen.items() if path in there}
        for path in there:
            now = self._looked_at(path)
            if now is None or self._taken.get(path) == now:
                continue
            before = self._seen.get(path)
            if before != now:
                self._seen[path] = now
                continue
            still = time.monotonic() - before.since
            if still < self._incoming.settle or (still < self._incoming.give_up and not is_whole(path)):
                continue
            self._taken[path] = now
            found.append((now.written, path.name, path))
        for _, _, path in found:
            del self._seen[path]
        return [path for _, _, path in sorted(found)]

    def _looked_at(self, path: Path) -> _Seen | None:
        """Current file of a name; None unless it is an ordinary file that no earlier run evaluated."""
        try:
            there = path.stat()
        except OSError:
            return None  # it went away again, or leads nowhere
        # by when it was written: links and permissions change without another part
        written = there.st_mtime_ns
        if not stat.S_ISREG(there.st_mode) or written <= 1e9 * self._known.get(str(path), -1.0):
            return None
        return _Seen(there.st_ino, written, there.st_size, time.monotonic())

    def travel(self) -> float | None:
        """A folder has no belt."""
        return None


def _is_scan(path: Path) -> bool:
    return path.suffix.lower() in FORMATS and not path.name.startswith(".")
