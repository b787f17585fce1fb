"""Meshes of drawings: STL and PLY, read by trimesh."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from hemtra.core.errors import FileError, HemtraError
from hemtra.core.maps.importing import UNITS
from hemtra.core.maps.mesh import Mesh
from hemtra.storage.files import opened, shown
from hemtra.storage.foreign.extra import library

SUFFIXES = (".stl", ".ply")
LARGEST = 512 * 1024**2
"""Largest size of a mesh file, bytes."""
MOST_FACES = 10_000_000


def load_mesh(path: Path, unit: str = "mm") -> Mesh:
    """The triangles of a file, in mm. unit: of its numbers. Raises `FileError`."""
    if path.suffix.lower() not in SUFFIXES:
        raise FileError(f"{shown(path)} is no mesh; it ends in {' or '.join(SUFFIXES)}.")
    if unit not in UNITS:
        raise FileError(f"“{unit}” is no unit of length; take one of {', '.join(UNITS)}.")
    trimesh = library("trimesh", "trimesh", "Mesh")
    with opened(path) as stream:
        size = path.stat().st_size
        if size > LARGEST:
            raise FileError(f"{shown(path)} is larger than the {LARGEST // 1024**2} MiB a mesh may have.")
        try:
            found = trimesh.load(stream, file_type=path.suffix.lower().lstrip("."), force="mesh", process=False)
            corners = np.asarray(found.vertices, np.float64) * UNITS[unit]
            faces = np.asarray(found.faces, np.int64).reshape(-1, 3)
        except Exception as error:  # the library raises whatever its parsers stumble over
            raise FileError(f"{shown(path)} is damaged, or is no mesh of triangles.") from error
    if len(faces) > MOST_FACES:
        raise FileError(f"{shown(path)} has {len(faces)} triangles; {MOST_FACES} are the most.")
    try:
        return Mesh(corners, faces)
    except HemtraError as error:
        raise FileError(f"{shown(path)}: {error}") from error
