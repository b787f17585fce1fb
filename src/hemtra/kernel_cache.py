"""Cache of machine code: beside the package, else in the user's cache, else for this boot only."""

from __future__ import annotations

import hashlib
import io
import logging
import os
import pickle
import shutil
import stat
import tempfile
from contextlib import suppress
from pathlib import Path
from typing import Any

import platformdirs
from numba.core.caching import FunctionCache, IndexDataCacheFile
from numba.core.environment import Environment, _rebuild_env, lookup_environment
from numba.core.runtime import rtsys

VARIABLE = "NUMBA_CACHE_DIR"
"""Environment variable that names a folder."""
PACKAGE = Path(__file__).parent
log = logging.getLogger(__name__)


class _Unpickler(pickle.Unpickler):
    """Reads machine code without the modules that implement the compiler's functions.

    They import half of SciPy, and compiled code does not need them.
    """

    def find_class(self, module: str, name: str) -> Any:
        """What a name in a file stands for."""
        if (module, name) == (_rebuild_env.__module__, _rebuild_env.__name__):
            return _environment
        return super().find_class(module, name)


def _environment(module: str, consts: list[Any], name: str) -> Environment:
    """The objects that some machine code refers to."""
    if not module.startswith("numba."):
        return _rebuild_env(module, consts, name)
    found = lookup_environment(name)
    if found is None:
        found = Environment({"__name__": module})
        found.consts[:] = consts
        found.env_name = name
        Environment._memo[name] = found
    return found


class _CodeFiles(IndexDataCacheFile):
    """The files of one function."""

    def _load_data(self, name: str) -> Any:
        return _Unpickler(io.BytesIO(Path(self._data_path(name)).read_bytes())).load()


class KernelCache(FunctionCache):
    """Machine code of a function; what cannot be read or written is compiled whenever it is needed.

    After an update an index may name types that are gone, a file may be damaged, and a disk may be full.
    """

    def __init__(self, function: Any) -> None:
        super().__init__(function)
        made = self._impl
        self._cache_file = _CodeFiles(self.cache_path, made.filename_base, made.locator.get_source_stamp())

    def load_overload(self, sig: Any, target_context: Any) -> Any:
        """The code for a signature, or None."""
        try:
            # what is needed to run code, not what is needed to compile it, which takes half a second to load
            rtsys.initialize(target_context)
            return self._load_overload(sig, target_context)
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
