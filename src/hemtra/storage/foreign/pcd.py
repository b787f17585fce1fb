"""PCD files (Point Cloud Data 0.7), as text or binary."""

from __future__ import annotations

import warnings
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from hemtra.core.errors import FileError, HemtraError
from hemtra.core.maps.importing import MOST_POINTS, PointCloud
from hemtra.storage.files import opened
from hemtra.storage.foreign.numpy_files import cloud_of

LONGEST_HEAD = 64
"""Largest number of lines in a header."""
KINDS = {"F": "f", "I": "i", "U": "u"}


def read(path: Path) -> PointCloud:
    """Its points. Raises `FileError`."""
    with opened(path) as stream:
        try:
            head: dict[str, list[str]] = {}
            for _ in range(LONGEST_HEAD):
                words = stream.readline(1024).decode("ascii").split()
                if words and not words[0].startswith("#"):
                    head[words[0]] = words[1:]
                if "DATA" in head:
                    break
            return _points(head, stream.read(), path)
        except HemtraError:
            raise
        except (KeyError, ValueError, TypeError, IndexError, UnicodeDecodeError) as error:
            raise FileError(f"{path.name} is damaged or no PCD; use another copy of it.") from error


def _points(head: dict[str, list[str]], body: bytes, path: Path) -> PointCloud:
    names, sizes, kinds = head["FIELDS"], map(int, head["SIZE"]), head["TYPE"]
    counts = map(int, head.get("COUNT", ["1"] * len(names)))
    count = int(head["POINTS"][0]) if "POINTS" in head else int(head["WIDTH"][0]) * int(head["HEIGHT"][0])
    if not 0 < count <= MOST_POINTS:
        raise FileError(f"{path.name} declares {count} points; that cannot be read.")
    fields = [
        (f"{name}{k}" if name == "_" else name, f"<{KINDS[kind]}{size}", (many,))
        for k, (name, size, kind, many) in enumerate(zip(names, sizes, kinds, counts, strict=True))
    ]
    wanted = ["x", "y", "z", *[name for name in ("intensity",) if name in names]]
    how = head["DATA"][0]
    if how == "binary":
        kind = np.dtype(fields)
        if len(body) < count * kind.itemsize:
            raise FileError(f"{path.name} is damaged: it ends before its last point.")
        held = np.frombuffer(body, kind, count)
        columns: list[NDArray[Any]] = [held[name][:, 0] for name in wanted]
    elif how == "ascii":
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            try:
                table = np.fromstring(body, np.float64, sep=" ").reshape(count, len(names))
            except DeprecationWarning:
                raise ValueError from None
        columns = [table[:, names.index(name)] for name in wanted]
    else:
        raise FileError(f"{path.name} is compressed; save it as plain binary PCD.")
    return cloud_of(np.column_stack(columns))
