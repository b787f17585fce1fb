"""PNG images whose grey levels are heights."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PIL import Image, UnidentifiedImageError

from hemtra.core.errors import FileError
from hemtra.core.maps.importing import MOST_POINTS, ImportSettings, Raster
from hemtra.storage.files import opened

GREY = ("L", "I;16", "I;16B", "I")
"""Modes of one channel of 8, 16 or 32 bits."""


def read(path: Path) -> Raster:
    """The grey levels; pixels a metre, where the file has them, give the spacing. Raises `FileError`."""
    with opened(path) as stream:
        try:
            with Image.open(stream, formats=("PNG",)) as image:
                if image.mode not in GREY:
                    raise FileError(f"{path.name} is a colour or palette image; export grey levels.")
                if image.width * image.height > MOST_POINTS:
                    raise FileError(f"{path.name} has {image.width} × {image.height} pixels; that is too many.")
                values = np.asarray(image)
                per_inch = image.info.get("dpi")
        except (
            UnidentifiedImageError,
            OSError,
            ValueError,
            SyntaxError,
            Image.DecompressionBombError,
        ) as error:
            raise FileError(f"{path.name} is damaged or no PNG; use another copy of it.") from error
    if per_inch is None or not all(value > 0.0 for value in per_inch):
        return Raster(values)
    return Raster(values, ImportSettings(dx=25.4 / float(per_inch[0]), dy=25.4 / float(per_inch[1])))
