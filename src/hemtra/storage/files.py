"""Reading and writing that loses nothing: bounded reads, atomic saves, errors in the user's words."""

from __future__ import annotations

import errno
import json
import os
import stat
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO, Any
from xml.etree import ElementTree

from hemtra.core.errors import FileError
from hemtra.core.text import plain

PARTIAL_SUFFIX = ".part"


@contextmanager
def atomic_write(path: Path, mode: int | None = None) -> Iterator[IO[bytes]]:
    """A binary file that takes the place of `path` only once it is complete and on disk.

    Raises `FileError` when it cannot be written; what stood at `path` is untouched then.
    """
    temporary: Path | None = None
    try:
        handle, name = tempfile.mkstemp(prefix=f".{path.name}-", suffix=PARTIAL_SUFFIX, dir=path.parent)
        temporary = Path(name)
        os.close(handle)  # opened again by its name, which some writers ask the stream for
        with temporary.open("w+b") as stream:
            yield stream
            stream.flush()
            os.fsync(stream.fileno())
        temporary.chmod(_usual_mode(path) if mode is None else mode)
        temporary.replace(path)
        _sync_folder(path.parent)
    except OSError as error:
        raise FileError(f"{path.name} was not saved: {_in_words(error, path.parent)}") from error
    finally:
        if temporary is not None:
            with suppress(OSError):
                temporary.unlink(missing_ok=True)


@contextmanager
def opened(path: Path) -> Iterator[IO[bytes]]:
    """An existing file, open for reading. Raises `FileError` when it cannot be read."""
    try:
        # a pipe without a writer would be waited for, and a device has no end
        with open(path, "rb", opener=lambda name, flags: os.open(name, flags | os.O_NONBLOCK)) as stream:
            if not stat.S_ISREG(os.fstat(stream.fileno()).st_mode):
                raise FileError(f"{shown(path)} is no ordinary file; choose another.")
            yield stream
    except OSError as error:
        raise FileError(f"{shown(path)} cannot be read: {_in_words(error, path)}") from error


def shown(path: Path) -> str:
    """A file's name as a message may show it: no control characters, and not too long."""
    return plain(path.name)


def parsed_json(text: str | bytes, damaged: str) -> Any:
    """Parse a JSON text. Raises `FileError` with the sentence `damaged` where it is invalid."""
    try:
        return json.loads(text)
    except (ValueError, RecursionError):
        raise FileError(damaged) from None


def parsed_xml(text: bytes, damaged: str) -> ElementTree.Element:
    """The root of an XML text. Raises `FileError` with the sentence `damaged` where it is none."""
    if b"<!DOCTYPE" in text or b"<!ENTITY" in text:
        raise FileError(f"{damaged} It defines entities, which are not read.")
    try:
        return ElementTree.fromstring(text)
    except (ElementTree.ParseError, LookupError, ValueError, RecursionError):
        # an unknown encoding is no syntax error to the parser
        raise FileError(damaged) from None


def write_text(path: Path, text: str) -> None:
    """Save a text file atomically, in UTF-8."""
    write_bytes(path, text.encode())


def write_bytes(path: Path, content: bytes) -> None:
    """Save a file atomically."""
    with atomic_write(path) as stream:
        stream.write(content)


def write_private(path: Path, text: str) -> None:
    """Save a text file atomically that only its owner can read."""
    with atomic_write(path, mode=0o600) as stream:
        stream.write(text.encode())


def read_text(path: Path, most: int) -> str:
    """A UTF-8 text file of at most that many bytes. Raises `FileError`."""
    with opened(path) as stream:
        raw = stream.read(most + 1)
    if len(raw) > most:
        raise FileError(f"{path.name} is larger than the {most // 1024} KiB such a file may have.")
    try:
        return raw.decode()
    except UnicodeDecodeError:
        raise FileError(f"{path.name} is not text; choose another file.") from None


def make_folder(path: Path) -> None:
    """Create a folder and its parents. Raises `FileError`."""
    try:
        path.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise FileError(f"The folder {path} cannot be made: {_in_words(error, path.parent)}") from error


def _in_words(error: OSError, place: Path) -> str:
    match error.errno:
        case errno.ENOSPC | errno.EDQUOT:
            return f"the disk that holds {place} is full. Free some space, or save elsewhere."
        case errno.EACCES | errno.EPERM | errno.EROFS:
            return f"{place} is not open to you. Choose another place, or change its permissions."
        case errno.ENOENT | errno.ENOTDIR:
            return f"there is no {place}. Check the name."
        case errno.EISDIR:
            return f"{place} is a folder. Choose a file."
        case _:
            return f"{error.strerror or error}."


def _usual_mode(path: Path) -> int:
    """The mode of the file replaced, or what the umask gives; mkstemp alone would hide it from others."""
    with suppress(OSError):
        return path.stat().st_mode & 0o777
    mask = os.umask(0)
    os.umask(mask)
    return 0o666 & ~mask


def _sync_folder(folder: Path) -> None:
    with suppress(OSError):  # not every file system can; the file itself is safe by now
        handle = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)
