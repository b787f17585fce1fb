"""Text with a point a line (x y z, and intensity where there is a fourth number), or an ASCII grid."""

from __future__ import annotations

import io
import re
import warnings
from pathlib import Path

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import FileError
from hemtra.core.maps.importing import MOST_POINTS, Foreign, ImportSettings, Raster
from hemtra.core.maps.scan import Scan
from hemtra.storage.files import atomic_write, opened
from hemtra.storage.foreign.numpy_files import IN_A_ROW, cloud_of

LARGEST = 4 * 1024**3
"""Largest size of a text, bytes."""
HEAD = 64 * 1024
"""Number of bytes read to find out the number format."""
GRID = ("ncols", "nrows", "cellsize")
"""First words of the lines that an ASCII grid begins with."""
NUMBER = re.compile(rb"[-+]?[\d.]+(?:[eE][-+]?\d+)?|nan|NaN")
SPACES = bytes.maketrans(b",;\t|", b".   ")
SPACES_AND_COMMA = bytes.maketrans(b",;\t|", b"    ")
"""Normalise separators to spaces, and decimal commas to points."""
CHUNK = 1 << 16
"""Points that are written at a time."""


def read(path: Path) -> Foreign:
    """A cloud, or the image of an ASCII grid. Raises `FileError`."""
    with opened(path) as stream:
        size = stream.seek(0, io.SEEK_END)
        if size > LARGEST:
            raise FileError(
                f"{path.name} has {size // 1024**2} MiB; that is too much text. Export it as binary."
            )
        stream.seek(0)
        raw = stream.read()
    if raw[:HEAD].lstrip().lower().startswith(b"ncols"):
        return _ascii_grid(raw, path)
    return cloud_of(_numbers(raw, path)[:, : IN_A_ROW[-1]])


def write(scan: Scan, path: Path) -> None:
    """Save x;y;z of the points that hold data, in mm, and intensity where there is one. Raises `FileError`."""
    data = scan.data
    i, j = np.nonzero(~np.isnan(data.z))
    columns = [data.x[j], data.y[i], data.z[i, j].astype(np.float64)]
    pattern, head = ["%.6f", "%.6f", "%.6f"], "x;y;z"
    if data.intensity is not None:
        columns.append(data.intensity[i, j].astype(np.float64))
        pattern.append("%d")
        head += ";intensity"
    with atomic_write(path) as stream:
        stream.write(f"{head}\n".encode())
        for first in range(0, len(i), CHUNK):
            part = np.column_stack([column[first : first + CHUNK] for column in columns])
            np.savetxt(stream, part, pattern, delimiter=";")


def _numbers(raw: bytes, path: Path) -> FloatArray:
    """The numbers of all lines (n, columns); lines at the top without numbers are titles."""
    at, parts, spaces = 0, [b""], SPACES
    for line in raw[:HEAD].splitlines(keepends=True):
        # with another mark between numbers a comma is a decimal one
        spaces = SPACES if re.search(rb"[;\t |]", line.strip()) and b"." not in line else SPACES_AND_COMMA
        parts = line.replace(b", ", b" ").translate(spaces).split()
        if len(parts) >= IN_A_ROW[0] and all(NUMBER.fullmatch(part) for part in parts):
            break
        at += len(line)
    else:
        raise FileError(f"{path.name} holds no lines of numbers; each point needs x, y and z.")
    count = len(parts)
    found = _parsed(raw[at:].translate(spaces), f"{path.name} has a line that is no point of {count} numbers.")
    if found.size % count or found.size // count > MOST_POINTS:
        raise FileError(f"{path.name} is damaged: not every line has {count} numbers.")
    return found.reshape(-1, count)


def _parsed(text: bytes, damaged: str) -> FloatArray:
    """All numbers of a text. Raises `FileError` with the sentence `damaged` where something else is in it."""
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        try:
            return np.fromstring(text, np.float64, sep=" ")
        except (DeprecationWarning, ValueError) as error:
            raise FileError(damaged) from error


def _ascii_grid(raw: bytes, path: Path) -> Raster:
    """The form in which geographic programs write grids: six lines of head, then rows from the top down."""
    says: dict[str, float] = {}
    at = 0
    for line in raw[:HEAD].splitlines(keepends=True):
        words = line.decode("latin-1").lower().split()
        if len(words) != 2 or not words[0].isidentifier():
            break
        try:
            says[words[0]] = float(words[1].replace(",", "."))
        except ValueError:
            break
        at += len(line)
    if not set(GRID) <= set(says):
        raise FileError(f"{path.name} is damaged: its head lacks {' or '.join(set(GRID) - set(says))}.")
    rows, cols = int(says["nrows"]), int(says["ncols"])
    if not 0 < rows * cols <= MOST_POINTS or not says["cellsize"] > 0.0:
        raise FileError(f"{path.name} declares {cols} × {rows} points; that cannot be read.")
    found = _parsed(raw[at:], f"{path.name} is damaged: some of its heights are no numbers.")
    if found.size != rows * cols:
        raise FileError(f"{path.name} is damaged: it has {found.size} heights, and should have {rows * cols}.")
    settings = ImportSettings(
        dx=says["cellsize"], dy=says["cellsize"], no_data=says.get("nodata_value", -9999.0), rows="last"
    )
    return Raster(found.reshape(rows, cols), settings)
