"""Libraries for formats that not everybody needs."""

from __future__ import annotations

import importlib
from types import ModuleType

from hemtra.core.errors import FileError


def library(module: str, package: str, what: str) -> ModuleType:
    """A library of the extra `formats`. Raises `FileError` that says how to install it."""
    try:
        return importlib.import_module(module)
    except ImportError:
        raise FileError(
            f"{what} files need the package {package}; install it with: pip install 'hemtra[formats]'."
        ) from None
