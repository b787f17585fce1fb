"""Scans by address: read near the worker, kept in the user's cache, within a bound."""

from __future__ import annotations

import hashlib
import os
import tempfile
from contextlib import suppress
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit, urlunsplit

import platformdirs

from hemtra.core.errors import FileError

MOST = 20 * 1024**3
"""Bytes of copies that are kept; the ones used longest ago go first."""
LARGEST = 4 * 1024**3
"""Bytes of one scan."""
PIECE = 4 * 1024**2
DIGEST = 16
"""Bytes of the digest that names the folder of a copy."""
STATES = (
    *("mtime", "LastModified", "Last-Modified", "last_modified", "created"),
    *("ETag", "etag", "Content-MD5", "Digest", "md5Hash"),
)
"""Names under which stores tell when an object was last changed, or what it holds; of one that tells neither
nothing is kept."""
UNDER_WAY = ".part-"
"""Begins the name of a copy that is being fetched."""


def is_remote(path: str | Path) -> bool:
    """Whether a path is an address such as s3://bucket/scan.x3p."""
    return "://" in str(path)


def name_of(path: str | Path) -> str:
    """The last part of a path or address."""
    return Path(urlsplit(str(path)).path if is_remote(path) else path).name


def shown_address(path: str | Path) -> str:
    """An address without user, password and keys, for messages and records."""
    if not is_remote(path):
        return str(path)
    parts = urlsplit(str(path))
    return urlunsplit((parts.scheme, parts.netloc.rpartition("@")[2], parts.path, "", ""))


def local_copy(path: str | Path, cache: Path | None = None) -> Path:
    """The file itself, or a copy of what an address names; an unchanged one is not fetched again.

    cache: folder of copies, by default in the user's cache. Raises `FileError`.
    """
    if not is_remote(path):
        return Path(path)
    folder = cache or Path(platformdirs.user_cache_dir("hemtra")) / "scans"
    fsspec = _library()
    address = str(path)
    try:
        system, inner = fsspec.core.url_to_fs(address)
        info = system.info(inner)
    except Exception as error:
        raise FileError(f"{shown_address(path)} cannot be reached: {_cause(error, address)}.") from None
    size = info.get("size")
    if info.get("type") == "directory":
        raise FileError(f"{shown_address(path)} is a folder; name a scan in it.")
    if isinstance(size, int) and size > LARGEST:
        raise FileError(
            f"{shown_address(path)} has {size / 1e9:.1f} GB; a scan may have {LARGEST / 1e9:.1f} GB."
        )
    # what it is now: the same name with other content is another file, however long it is
    state = [f"{key} {info[key]}" for key in STATES if info.get(key)]
    content = "\n".join([address, str(size), *state])
    kept = folder / hashlib.blake2b(content.encode(), digest_size=DIGEST).hexdigest() / name_of(path)
    if state and kept.is_file():
        with suppress(OSError):
            os.utime(kept)
        return kept
    try:
        kept.parent.mkdir(parents=True, exist_ok=True)
        _fetch(system, inner, kept, size)
    except FileError:
        raise
    except Exception as error:
        raise FileError(f"{shown_address(path)} cannot be read: {_cause(error, address)}.") from None
    _make_room(folder, kept)
    return kept


def _fetch(system: Any, inner: str, target: Path, size: int | None) -> None:
    """Write a copy, whole or not at all."""
    with tempfile.NamedTemporaryFile(dir=target.parent, prefix=UNDER_WAY, delete=False) as made:
        try:
            count = 0
            with system.open(inner, "rb") as source:
                while piece := source.read(PIECE):
                    count += len(piece)
                    if count > LARGEST:
                        raise FileError(f"{target.name} is larger than a scan may be.")
                    made.write(piece)
            if isinstance(size, int) and count != size:
                raise FileError(f"{target.name} was still being written: {count} of {size} bytes came.")
            made.flush()
            Path(made.name).replace(target)
        except BaseException:
            Path(made.name).unlink(missing_ok=True)
            raise


def _make_room(folder: Path, kept: Path) -> None:
    """Delete copies used longest ago until all fit; never the one just fetched."""
    held = []
    for file in folder.glob(f"{'[0-9a-f]' * (2 * DIGEST)}/*"):
        if file.name.startswith(UNDER_WAY):
            continue
        with suppress(OSError):
            state = file.stat()
            held.append((state.st_mtime, state.st_size, file))
    total = sum(size for _, size, _ in held)
    for _, size, file in sorted(held):
        if total <= MOST:
            break
        if file != kept:
            with suppress(OSError):
                file.unlink()
                file.parent.rmdir()
            total -= size


def _cause(error: Exception, address: str) -> str:
    """Why, in a few words, without what may be secret in an address."""
    if isinstance(error, FileNotFoundError):
        return "there is no such file"
    if isinstance(error, PermissionError):
        return "no right to read it, or the credentials have expired"
    if isinstance(error, ImportError | ValueError):
        return f"{error}".rstrip(".").replace(address, shown_address(address))
    text = str(error).partition("\n")[0].replace(address, shown_address(address))
    return text.rstrip(".") or type(error).__name__


def _library() -> Any:
    try:
        import fsspec
    except ImportError:
        raise FileError("Scans by address need the package fsspec: pip install 'hemtra[cluster]'.") from None
    return fsspec
