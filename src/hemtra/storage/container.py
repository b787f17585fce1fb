"""Zip containers that come from outside: names, counts and sizes are checked before memory is taken."""

from __future__ import annotations

import lzma
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import IO

from hemtra.core.errors import FileError
from hemtra.core.text import plain
from hemtra.storage.files import opened, shown

MOST_ENTRIES = 200
CHUNK = 1 << 20
"""Chunk size of reading, bytes: few calls, and a copy that stays in cache."""
LARGEST_TOTAL = 4 * 1024**3
"""Largest unpacked size of a container, bytes; the largest scan we make is a fiftieth of it."""
LARGEST_RATIO = 1100
"""Deflate cannot do better than 1032 to 1; more is a lie about the size."""
LARGE, LARGE_RATIO = 32 * 1024**2, 50
"""Size from which on the ratio of packing is checked, bytes: noise packs no better."""
UNREADABLE = (
    zipfile.BadZipFile,
    zlib.error,
    lzma.LZMAError,
    EOFError,
    OSError,
    ValueError,
    RuntimeError,
    NotImplementedError,
)
"""Last error of a damaged packed entry, as it was packed."""


@dataclass(frozen=True)
class Container:
    """An open zip with bounded access to its entries."""

    path: Path
    archive: zipfile.ZipFile

    def has(self, name: str) -> bool:
        """Whether there is an entry of that name."""
        return name in self.archive.NameToInfo

    def size(self, name: str) -> int:
        """Unpacked size in bytes. Raises `FileError` when the entry is missing."""
        try:
            return self.archive.getinfo(name).file_size
        except KeyError:
            raise FileError(f"{shown(self.path)} is incomplete: {name} is missing from it.") from None

    def read(self, name: str, most: int) -> bytes:
        """An entry of at most that many bytes. Raises `FileError`."""
        if self.size(name) > most:
            raise FileError(f"{shown(self.path)} is invalid: {name} claims {self.size(name):,} bytes.")
        try:
            return self.archive.read(name)
        except UNREADABLE as error:
            raise FileError(f"{shown(self.path)} is damaged at {name}; use another copy of it.") from error

    def read_into(self, name: str, target: memoryview) -> None:
        """Fill `target` with an entry of exactly its size. Raises `FileError`."""
        try:
            with self.archive.open(name) as stream:
                filled = 0
                while filled < len(target):
                    chunk = stream.read(min(len(target) - filled, CHUNK))
                    if not chunk:
                        raise FileError(f"{shown(self.path)} is cut short at {name}; use another copy of it.")
                    target[filled : filled + len(chunk)] = chunk
                    filled += len(chunk)
        except UNREADABLE as error:
            raise FileError(f"{shown(self.path)} is damaged at {name}; use another copy of it.") from error


@contextmanager
def open_container(path: Path) -> Iterator[Container]:
    """Open a zip whose directory is sound. Raises `FileError` when it is not one, or is implausible."""
    with opened(path) as stream, container_in(stream, path) as container:
        yield container


@contextmanager
def container_in(stream: IO[bytes], path: Path) -> Iterator[Container]:
    """The same in an open file; `path` names it in errors."""
    try:
        archive = zipfile.ZipFile(stream)
    except (zipfile.BadZipFile, ValueError, NotImplementedError):
        raise FileError(f"{shown(path)} is damaged or cut short; use another copy of it.") from None
    with archive:
        _check_directory(path, archive.infolist())
        yield Container(path, archive)


def _check_directory(path: Path, entries: list[zipfile.ZipInfo]) -> None:
    if len(entries) > MOST_ENTRIES:
        raise FileError(f"{shown(path)} holds {len(entries)} entries; such a file has a handful.")
    total = sum(entry.file_size for entry in entries)
    if total > LARGEST_TOTAL:
        raise FileError(f"{shown(path)} claims to unpack to {total / 1024**3:.0f} GB and is not opened.")
    for entry in entries:
        parts = PurePosixPath(entry.filename.replace("\\", "/"))
        if parts.is_absolute() or ".." in parts.parts or ":" in parts.parts[0:1]:
            raise FileError(f"{shown(path)} holds the path “{plain(entry.filename)}”, which leads out of it.")
        if entry.flag_bits & 0x1:
            raise FileError(f"{shown(path)} is encrypted; save it without a password.")
        if entry.file_size > LARGEST_RATIO * max(entry.compress_size, 1):
            raise FileError(f"{shown(path)} claims an impossible size for {plain(entry.filename)}.")
        if entry.file_size > max(LARGE, LARGE_RATIO * entry.compress_size):
            raise FileError(
                f"{shown(path)} packs {plain(entry.filename)} more tightly than a scan can be packed; save it"
                " unpacked."
            )
