"""Cache of machine code: beside the package, else in the user's cache, else for this boot only."""

from __future__ import annotations

import hashlib
import logging
import os
import shutil
import stat
import tempfile
from contextlib import suppress
from pathlib import Path
from typing import Any

import platformdirs
from numba.core.caching import FunctionCache

VARIABLE = "NUMBA_CACHE_DIR"
"""Environment variable that names a folder."""
PACKAGE = Path(__file__).parent
log = logging.getLogger(__name__)


class KernelCache(FunctionCache):
    """Machine code of a function; what cannot be read or written is compiled whenever it is needed.

    After an update an index may name types that are gone, a file may be damaged, and a disk may be full.
    """

    def load_overload(self, sig: Any, target_context: Any) -> Any:
        """The code for a signature, or None."""
        try:
            return super().load_overload(sig, target_context)
        except Exception as error:
            log.debug("code kept in %s cannot be used: %s", self.cache_path, error)
            with suppress(OSError):
                self.flush()
            return None

    def save_overload(self, sig: Any, data: Any) -> None:
        """Keep the code for a signature if that can be."""
        try:
            super().save_overload(sig, data)
        except Exception as error:
            log.debug("code cannot be kept in %s: %s", self.cache_path, error)


def cache_folder() -> str:
    """The folder for the compiler to keep code in; empty where it is to be beside the package.

    A service account may have no home, and a package of the system cannot be written.
    """
    named = os.environ.get(VARIABLE, "")
    if named or os.access(PACKAGE, os.W_OK):
        return named
    mine = Path(tempfile.gettempdir()) / f"hemtra-kernels-{os.getuid()}"
    for folder in (Path(platformdirs.user_cache_dir("hemtra")) / "kernels", mine):
        try:
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        except OSError:
            continue
        # code is loaded from there, so it must be ours alone, and no link that somebody else has put there
        found = folder.lstat()
        if stat.S_ISDIR(found.st_mode) and found.st_uid == os.getuid() and not found.st_mode & 0o022:
            _take_what_was_installed(folder)
            return str(folder)
    return ""


def _take_what_was_installed(folder: Path) -> None:
    """Copy what was compiled when the package was installed, where the compiler looks for it; once.

    The compiler does not read a folder that it cannot write.
    """
    if next(folder.rglob("*.nbi"), None) is not None:
        return
    for index in sorted(PACKAGE.rglob("*.nbi")):
        beside = index.parent.parent
        # as the compiler names the folder of a module within a cache folder that was set
        named = f"{beside.name}_{hashlib.sha1(str(beside).encode()).hexdigest()}"
        target = folder / named
        try:
            target.mkdir(mode=0o700, exist_ok=True)
            # code first: an index without it would be used
            for code in index.parent.glob(f"{index.stem}.*nbc"):
                shutil.copy2(code, target)
            shutil.copy2(index, target)
        except OSError:
            return  # the disk is full, or somebody else is faster: it is compiled when it is needed


def is_warm() -> bool:
    """Whether anything was compiled for this installation before."""
    return next(Path(cache_folder() or PACKAGE).rglob("*.nbi"), None) is not None
