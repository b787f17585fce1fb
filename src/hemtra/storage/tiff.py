"""32-bit float TIFF: heights in mm, NaN where there is no data; the grid stands in the image description.

Intensity and the station do not fit into it; X3P keeps them.
"""

from __future__ import annotations

import io
import json
import logging
from pathlib import Path
from typing import Any

import numpy as np
import tifffile

from hemtra.core.errors import FileError, HemtraError
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.scan import Scan
from hemtra.storage.files import atomic_write, opened

MOST_POINTS = 200_000_000
# what is wrong in a file is said in a sentence, not tag by tag
logging.getLogger("tifffile").setLevel(logging.CRITICAL)
PER_MM = {2: 1 / 25.4, 3: 1 / 10}
"""Resolution units of TIFF (inch, centimetre): pixels per unit times this are pixels per mm."""


def read(path: Path) -> Scan:
    """A scan. Without our grid the resolution tags give the pitch. Raises `FileError`."""
    with opened(path) as stream:
        try:
            with tifffile.TiffFile(stream) as file:
                page = file.pages[0]
                shape, dtype = page.shape, page.dtype
                if len(shape) != 2 or dtype not in (np.dtype("f4"), np.dtype("f8")):
                    raise FileError(f"{path.name} holds no 32-bit float heights; export it as such.")
                if shape[0] * shape[1] > MOST_POINTS:
                    raise FileError(f"{path.name} declares {shape[1]} × {shape[0]} points; that is too many.")
                grid = _grid(page)
                z = page.asarray()
        except HemtraError:
            raise
        except Exception as error:  # tifffile raises nearly anything on damaged files
            raise FileError(f"{path.name} is damaged or no TIFF; use another copy of it.") from error
    if grid is None:
        raise FileError(f"{path.name} does not say its pitch; add resolution tags in pixels per cm.")
    return Scan(HeightMap(z, **grid), name=path.name)


def is_whole(path: Path) -> bool:
    """Whether the strips that its first page names lie within the file."""
    with opened(path) as stream:
        size = stream.seek(0, io.SEEK_END)
        stream.seek(0)
        try:
            with tifffile.TiffFile(stream) as file:
                page = file.pages[0]
                ends = zip(page.dataoffsets, page.databytecounts, strict=True)
                return all(first + many <= size for first, many in ends)
        except Exception:  # tifffile raises nearly anything on damaged files
            return False


def write(scan: Scan, path: Path) -> None:
    """Save the heights atomically. Raises `FileError`."""
    grid = scan.data.grid
    text = json.dumps({"unit": "mm", "x0": grid.x0, "y0": grid.y0, "dx": grid.dx, "dy": grid.dy})
    with atomic_write(path) as stream:
        tifffile.imwrite(
            stream,
            scan.data.z,
            description=text,
            metadata=None,
            photometric="minisblack",
            resolution=(10 / grid.dx, 10 / grid.dy),
            resolutionunit="CENTIMETER",
        )


def _grid(page: Any) -> dict[str, float] | None:
    try:
        described = json.loads(page.description)
        return {key: float(described[key]) for key in ("x0", "y0", "dx", "dy")}
    except (ValueError, TypeError, KeyError, RecursionError):
        pass  # not written by us; the tags may still say
    tags = page.tags
    unit = PER_MM.get(int(tags["ResolutionUnit"].value)) if "ResolutionUnit" in tags else None
    if unit is None or "XResolution" not in tags or "YResolution" not in tags:
        return None
    per_mm = [tags[f"{axis}Resolution"].value for axis in "XY"]
    if any(0 in pair for pair in per_mm):
        return None
    return {f"d{axis}": pair[1] / pair[0] / unit for axis, pair in zip("xy", per_mm, strict=True)}
