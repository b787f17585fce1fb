"""PLY files (Stanford polygon format), read and written as clouds of points."""

from __future__ import annotations

import warnings
from pathlib import Path
from typing import Any

import numpy as np

from hemtra.core.errors import FileError, HemtraError
from hemtra.core.maps.importing import MOST_POINTS, PointCloud
from hemtra.core.maps.scan import Scan
from hemtra.storage.files import atomic_write, opened
from hemtra.storage.foreign.extra import library
from hemtra.storage.foreign.numpy_files import cloud_of

INTENSITIES = ("intensity", "scalar_intensity", "scalar_Intensity", "grey", "gray")
"""Names of a property that is the reflected light."""


def read(path: Path) -> PointCloud:
    """Its vertices. Raises `FileError`."""
    plyfile = library("plyfile", "plyfile", "PLY")
    with opened(path) as stream, warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            vertices = plyfile.PlyData.read(stream)["vertex"]
            if vertices.count > MOST_POINTS:
                raise FileError(f"{path.name} holds {vertices.count} points; that is too many.")
            names = [prop.name for prop in vertices.properties]
            wanted = ["x", "y", "z", *[name for name in INTENSITIES if name in names][:1]]
            rows = np.empty((vertices.count, len(wanted)))
            for k, name in enumerate(wanted):
                rows[:, k] = vertices[name]
        except HemtraError:
            raise
        except Exception as error:  # plyfile raises nearly anything on damaged files
            raise FileError(f"{path.name} is damaged or no PLY with vertices; use another copy.") from error
    return cloud_of(rows)


def write(scan: Scan, path: Path) -> None:
    """Save the points that hold data, in mm, with intensity where the scan has one. Raises `FileError`."""
    plyfile = library("plyfile", "plyfile", "PLY")
    data = scan.data
    i, j = np.nonzero(~np.isnan(data.z))
    kinds: list[Any] = [("x", "f8"), ("y", "f8"), ("z", "f4")]
    kinds += [("intensity", "u1")] if data.intensity is not None else []
    points = np.empty(len(i), kinds)
    points["x"], points["y"], points["z"] = data.x[j], data.y[i], data.z[i, j]
    if data.intensity is not None:
        points["intensity"] = data.intensity[i, j]
    element = plyfile.PlyElement.describe(points, "vertex")
    with atomic_write(path) as stream:
        plyfile.PlyData([element], comments=["unit mm"]).write(stream)
