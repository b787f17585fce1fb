"""NumPy files: .npy with an image (rows, cols) or a cloud (n, 3); .npz with both our grid and other names."""

from __future__ import annotations

from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from hemtra.core.errors import FileError, HemtraError
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.importing import MOST_POINTS, Foreign, ImportSettings, PointCloud, Raster
from hemtra.core.maps.scan import Scan
from hemtra.storage.files import atomic_write, opened

HEIGHTS = ("z", "heights", "height", "data", "arr_0")
"""Names under which an archive may hold its heights, the likeliest first."""
IN_A_ROW = (3, 4)
"""Numbers of a point: x, y, z, and intensity where there is one."""


FIRST_BYTE = b"\x93"
"""Read a plain array, not an archive."""


def read(path: Path) -> Foreign | Scan:
    """An image, a cloud, or what we wrote ourselves. Raises `FileError`."""
    with opened(path) as stream:
        try:
            # mapped, a file is never larger in memory than on the disk
            mapped: Literal["r"] | None = "r" if stream.read(1) == FIRST_BYTE else None
            stream.seek(0)
            held = np.load(path if mapped else stream, mmap_mode=mapped, allow_pickle=False)
            if isinstance(held, np.ndarray):
                return _of_array(held, path)
            with held:
                return _of_archive(held, path)
        except HemtraError:
            raise
        except Exception as error:  # NumPy raises nearly anything on damaged files
            raise FileError(f"{path.name} is damaged or no NumPy file; use another copy of it.") from error


def write(scan: Scan, path: Path) -> None:
    """Save as .npz with z, intensity and grid, or as .npy with z alone. Raises `FileError`."""
    data = scan.data
    with atomic_write(path) as stream:
        if path.suffix.lower() == ".npy":
            np.save(stream, data.z)
            return
        held: dict[str, Any] = {"z": data.z, "serial": np.array(scan.serial)}
        held |= {name: np.array(getattr(data.grid, name)) for name in ("dx", "dy", "x0", "y0")}
        if data.intensity is not None:
            held["intensity"] = data.intensity
        np.savez(stream, **held)


def _of_archive(held: Any, path: Path) -> Foreign | Scan:
    name = next((name for name in HEIGHTS if name in held.files), None)
    name = name or next((name for name in held.files if held[name].ndim == 2), None)
    if name is None:
        raise FileError(f"{path.name} holds no array of heights.")
    found = _of_array(held[name], path)
    if not isinstance(found, Raster):
        return found
    grey = held["intensity"] if "intensity" in held.files else None
    if grey is not None and (grey.shape != found.values.shape or grey.dtype != np.uint8):
        grey = None
    says = {key: float(held[key]) for key in ("dx", "dy") if key in held.files and held[key].size == 1}
    if {"dx", "dy", "x0", "y0"} <= set(held.files) and found.values.dtype == np.float32:
        grid = [float(held[key]) for key in ("dx", "dy", "x0", "y0")]
        serial = str(held["serial"]) if "serial" in held.files else ""
        return Scan(HeightMap(found.values, grey, *grid), path.name, serial)
    if any(not value > 0.0 for value in says.values()):
        raise FileError(f"{path.name} gives a spacing that is not above zero.")
    return Raster(found.values, ImportSettings(**says), grey)


def _of_array(values: NDArray[Any], path: Path) -> Foreign:
    if values.size > MOST_POINTS * len(IN_A_ROW):
        raise FileError(f"{path.name} holds {values.size} numbers; that is too many.")
    if values.ndim != 2 or values.size == 0 or values.dtype.kind not in "iuf":
        raise FileError(f"{path.name} holds no image of numbers, but {values.dtype} of shape {values.shape}.")
    if values.shape[1] in IN_A_ROW and values.shape[0] > IN_A_ROW[-1]:
        return cloud_of(values)
    return Raster(values)


def cloud_of(rows: NDArray[Any], says: ImportSettings | None = None) -> PointCloud:
    """A cloud of x, y, z and, in a fourth column, intensity; points that lack a number are left out."""
    points = np.asarray(rows[:, :3], np.float64)
    known: Any = slice(None)
    if not np.isfinite(points).all():
        known = np.isfinite(points).all(axis=1)
    grey = np.asarray(rows[known, 3], np.float64) if rows.shape[1] > IN_A_ROW[0] else None
    return PointCloud(points[known], says or ImportSettings(), grey)
