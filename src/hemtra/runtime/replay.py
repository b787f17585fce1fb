"""A folder of recorded scans as a source: their rows pass again as the profiles they once were."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np

from hemtra.core.errors import FileError
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.station.assembler import Arrival, Batch, Layout, Profiles, TriggerSeen
from hemtra.core.station.trigger import TriggerRules
from hemtra.storage.scans import FORMATS, load_scan

PIECE = 64
GAP = 10
"""Profiles without data between two parts."""


class FolderReplay:
    """Scans of one folder, in the order of their names, one after the other with a gap between them.

    All must have the grid of the first. Iterating reads one file at a time and raises `FileError`.
    """

    def __init__(self, folder: Path) -> None:
        self.paths = (
            sorted(p for p in folder.iterdir() if p.suffix.lower() in FORMATS) if folder.is_dir() else []
        )
        if not self.paths:
            raise FileError(f"There are no scans in {folder}.")
        self._first = load_scan(self.paths[0]).data

    @property
    def layout(self) -> Layout:
        """Layout of its profiles into rows."""
        grid, cols = self._first.grid, self._first.shape[1]
        return Layout(grid, cols, (cols,))

    @property
    def rules(self) -> TriggerRules:
        """Each scan lasts as long as its trigger."""
        return TriggerRules(delay=0, length=None, waiting=2)

    def __iter__(self) -> Iterator[Arrival]:
        grid, cols = self._first.grid, self._first.shape[1]
        at = 0
        for path in self.paths:
            data = self._first if path == self.paths[0] else load_scan(path).data
            same = np.allclose((data.grid.x0, data.grid.dx, data.grid.dy), (grid.x0, grid.dx, grid.dy))
            if data.shape[1] != cols or not same:
                raise FileError(f"{path.name} has another grid than {self.paths[0].name}; replay them apart.")
            rows = data.shape[0]
            yield TriggerSeen(at, "front")
            for first in range(0, rows, PIECE):
                if first + PIECE >= rows:
                    yield TriggerSeen(at + rows, "end")
                yield _batch(data, slice(first, min(first + PIECE, rows)), at + first)
            at += rows
            yield _nothing(cols, at)
            at += GAP


def _batch(data: HeightMap, rows: slice, first: int) -> Batch:
    z = data.z[rows]
    grey = np.full(z.shape, 128, np.uint8) if data.intensity is None else data.intensity[rows]
    n = z.shape[0]
    x = np.array(np.broadcast_to(data.x, z.shape), np.float64)
    places = np.arange(first, first + n)
    return Batch(first, (Profiles(x, z, grey),), np.zeros(n), places)


def _nothing(cols: int, first: int) -> Batch:
    shape = (GAP, cols)
    seen = Profiles(np.zeros(shape), np.full(shape, np.nan, np.float32), np.zeros(shape, np.uint8))
    return Batch(first, (seen,), np.zeros(GAP), np.arange(first, first + GAP))
