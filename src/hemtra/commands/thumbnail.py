"""A small picture of a scan, or of the reference scan of a plan, for a file manager."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from hemtra.core.errors import HemtraError
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.rendering.palettes import height_palette
from hemtra.core.rendering.picture import View, picture
from hemtra.storage.files import atomic_write
from hemtra.storage.plans import load_plan_file
from hemtra.storage.scans import load_scan


def save_thumbnail(source: Path, target: Path, size: int) -> None:
    """Write a PNG whose longer side has so many pixels. Raises `FileError`, or `HemtraError` without a scan."""
    from PIL import Image

    if source.suffix == ".hplan":
        reference = load_plan_file(source).reference
        if reference is None:
            raise HemtraError(f"{source.name} has no reference scan to show.")
        data = reference.data
    else:
        data = load_scan(source).data
    pixels = Image.fromarray(_picture(data, size))
    with atomic_write(target) as stream:
        pixels.save(stream, "PNG")


def _picture(data: HeightMap, size: int) -> np.ndarray:
    left, right, bottom, top = data.x[0], data.x[-1], data.y[0], data.y[-1]
    scale = max(right - left, top - bottom, 1e-9) / size
    width, height = (max(1, round(float(length) / scale)) for length in (right - left, top - bottom))
    known = data.z[~np.isnan(data.z)]
    low, high = np.percentile(known, (1.0, 99.0)) if known.size else (0.0, 1.0)
    view = View(float(left), float(top), float(scale), width, height)
    return picture(data, view, height_palette(), float(low), float(high) + 1e-3)
