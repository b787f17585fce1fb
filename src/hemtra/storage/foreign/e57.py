"""E57 files of 3D imaging systems (ASTM E2807): the first scan in them, in metres as the standard has it."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from hemtra.core.errors import FileError, HemtraError
from hemtra.core.maps.importing import MOST_POINTS, ImportSettings, PointCloud
from hemtra.storage.files import opened
from hemtra.storage.foreign.extra import library
from hemtra.storage.foreign.numpy_files import cloud_of


def read(path: Path) -> PointCloud:
    """Its points. Raises `FileError`."""
    pye57 = library("pye57", "pye57", "E57")
    with opened(path):
        pass  # what cannot be read is said in our words
    try:
        with pye57.E57(str(path)) as file:
            count = file.get_header(0).point_count
            if count > MOST_POINTS:
                raise FileError(f"{path.name} holds {count} points; that is too many.")
            held = file.read_scan_raw(0)
            points = np.column_stack([held[f"cartesian{axis}"] for axis in "XYZ"])
    except HemtraError:
        raise
    except Exception as error:  # the library raises nearly anything on damaged files
        raise FileError(f"{path.name} is damaged or no E57; use another copy of it.") from error
    return cloud_of(points, ImportSettings(unit="m"))
