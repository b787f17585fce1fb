"""TIFF: ours holds 32-bit heights in mm, NaN where there is no data; its grid stands in the image description.

Those of other programs hold any kind of numbers; floating ones are mm unless the user says otherwise.

Intensity and the station do not fit into it; X3P keeps them.
"""

from __future__ import annotations

import io
import json
import logging
from contextlib import suppress
from pathlib import Path
from typing import Any

import tifffile

from hemtra.core.errors import FileError, HemtraError
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.importing import MOST_POINTS, ImportSettings, Raster, SeveralPages
from hemtra.core.maps.scan import Scan
from hemtra.storage.files import atomic_write, opened
from hemtra.storage.foreign.extra import library

MOST_PAGES = 64
"""Largest number of pages examined."""
NO_DATA = 42113
"""Tag of the number that stands for none, as geographic programs write it."""
# what is wrong in a file is said in a sentence, not tag by tag
logging.getLogger("tifffile").setLevel(logging.CRITICAL)
PER_MM = {2: 1 / 25.4, 3: 1 / 10}
"""Resolution units of TIFF (inch, centimetre): pixels per unit times this are pixels per mm."""


def read(path: Path) -> Scan | Raster:
    """A scan of ours, or the image of another program. Raises `FileError`, also where there are several."""
    return _read(path, None)


def read_page(path: Path, page: int) -> Scan | Raster:
    """The same of a page, counted from 1 on. Raises `FileError`."""
    return _read(path, page)


def _read(path: Path, wanted: int | None) -> Scan | Raster:
    with opened(path) as stream:
        try:
            with tifffile.TiffFile(stream) as file:
                number = _chosen(file, wanted, path)
                page: Any = file.pages[number]
                shape, dtype = page.shape, page.dtype
                if len(shape) != 2 or dtype is None or dtype.kind not in "iuf":
                    raise FileError(f"{path.name} is a colour image without heights; export one channel.")
                if shape[0] * shape[1] > MOST_POINTS:
                    raise FileError(f"{path.name} declares {shape[1]} × {shape[0]} points; that is too many.")
                ours, says = _described(page), _said(page)
                z = page.asarray()
        except HemtraError:
            raise
        except Exception as error:  # tifffile raises nearly anything on damaged files
            if "imagecodecs" in str(error):
                library("imagecodecs", "imagecodecs", "Compressed TIFF")
            raise FileError(f"{path.name} is damaged or no TIFF; use another copy of it.") from error
    return Raster(z, says) if ours is None else Scan(HeightMap(z, **ours), name=path.name)


def _chosen(file: tifffile.TiffFile, wanted: int | None, path: Path) -> int:
    """Index of the page to read: the only one that is as large as the first, or the one that was named."""
    count = len(file.pages)
    if wanted is not None:
        if not 1 <= wanted <= count:
            raise FileError(f"{path.name} has {count} pages, and no page {wanted}.")
        return wanted - 1
    alike = [k for k in range(min(count, MOST_PAGES)) if file.pages[k].shape == file.pages[0].shape]
    if len(alike) > 1:
        message = f"{path.name} has {count} pages; say which of them holds the heights (--page 1)."
        raise SeveralPages(message, count)
    return 0


def _said(page: Any) -> ImportSettings:
    """Spacing and no-data value in the tags of an image."""
    grid, tags = _of_tags(page), page.tags
    unit = "mm" if page.dtype.kind == "f" else None
    no_data = None
    if NO_DATA in tags:
        with suppress(ValueError):
            no_data = float(str(tags[NO_DATA].value).strip("\x00 "))
    return ImportSettings(unit=unit, no_data=no_data, **grid)


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


def _described(page: Any) -> dict[str, float] | None:
    """The grid that we describe; None where another program wrote the file."""
    try:
        described = json.loads(page.description)
        return {key: float(described[key]) for key in ("x0", "y0", "dx", "dy")}
    except (ValueError, TypeError, KeyError, RecursionError):
        return None


def _of_tags(page: Any) -> dict[str, float]:
    """The spacing that the resolution tags give; nothing without them."""
    tags = page.tags
    unit = PER_MM.get(int(tags["ResolutionUnit"].value)) if "ResolutionUnit" in tags else None
    if unit is None or "XResolution" not in tags or "YResolution" not in tags:
        return {}
    per_mm = [tags[f"{axis}Resolution"].value for axis in "XY"]
    if any(0 in pair for pair in per_mm):
        return {}
    return {f"d{axis}": pair[1] / pair[0] / unit for axis, pair in zip("xy", per_mm, strict=True)}
