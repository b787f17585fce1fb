"""Paths from and to drawings: DXF, and CSV with x, y and if need be z."""

from __future__ import annotations

import csv
import io
import math
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from hemtra.core.edits.drawn_path import DrawnPath, points_of, through_points
from hemtra.core.errors import FileError, HemtraError
from hemtra.core.text import plain
from hemtra.core.zones.zone import PathZone
from hemtra.storage.files import atomic_write, opened, read_text, shown, write_text

LARGEST, MOST_POINTS = 64 << 20, 100_000
"""Largest file in bytes, and points of a table."""
UNITS = {1: ("in", 25.4), 2: ("ft", 304.8), 4: ("mm", 1.0), 5: ("cm", 10.0), 6: ("m", 1000.0), 13: ("µm", 1e-3)}
"""Units of a DXF header's INSUNITS, as name and mm."""
FACTORS = dict(UNITS.values())
LONGEST_HEADER = 1000


@dataclass(frozen=True)
class Drawing:
    """Paths of a file in mm, longest first, the unit they were drawn in, and remarks about them.

    unit: “” where the file does not say, and mm were taken.
    """

    paths: tuple[DrawnPath, ...]
    unit: str = ""
    notes: tuple[str, ...] = ()

    @property
    def layers(self) -> tuple[str, ...]:
        """The layers that hold paths."""
        return tuple(sorted({path.layer for path in self.paths}))

    def in_unit(self, unit: str) -> Drawing:
        """The same, taken to be drawn in another unit."""
        factor = FACTORS[unit] / FACTORS[self.unit or "mm"]
        return Drawing(tuple(p.scaled(factor) for p in self.paths), unit, self.notes)


def load_drawing(path: Path) -> Drawing:
    """The paths of a .dxf or .csv file. Raises `FileError` where there are none that can be used."""
    suffix = path.suffix.lower()
    if suffix == ".dxf":
        from hemtra.storage.dxf import read_dxf  # loads a library

        _check_size(path)
        with opened(path) as stream:
            return read_dxf(stream.read(), path)
    if suffix in (".csv", ".txt"):
        return _load_csv(path)
    raise FileError(f"{shown(path)}: paths are read from .dxf and .csv files.")


def save_path(path: Path, zone: PathZone) -> None:
    """Save a path's curve as .dxf polyline or .csv table, in mm, atomically. Raises `FileError`."""
    points = points_of(zone)
    suffix = path.suffix.lower()
    if suffix == ".csv":
        rows = "\n".join(f"{x:.4f},{y:.4f}" for x, y in points)
        write_text(path, f"x,y\n{rows}\n")
    elif suffix == ".dxf":
        from hemtra.storage.dxf import polyline  # loads a library

        text = polyline(points[:-1] if zone.closed else points, closed=zone.closed)
        with atomic_write(path) as stream:
            stream.write(text.encode())
    else:
        raise FileError(f"{shown(path)} was not saved: paths are written as .dxf or .csv.")


def _check_size(path: Path) -> None:
    with opened(path) as stream:
        if stream.seek(0, io.SEEK_END) > LARGEST:
            raise FileError(f"{shown(path)} is larger than {LARGEST >> 20} MB; save the path alone.")


def _load_csv(path: Path) -> Drawing:
    lines = [line for line in read_text(path, LARGEST).splitlines() if line.strip()]
    if len(lines) > MOST_POINTS:
        raise FileError(f"{shown(path)} holds more than {MOST_POINTS} points; save fewer of them.")
    rows: list[list[float]] = []
    for number, line in enumerate(lines, start=1):
        mark = ";" if ";" in line else "\t" if "\t" in line else ","
        try:
            fields = next(csv.reader([line], delimiter=mark))
            row = [float(field.strip().replace(",", ".")) for field in fields[:3] if field.strip()]
        except (ValueError, csv.Error):
            if number == 1 and len(line) < LONGEST_HEADER:
                continue  # the names of the columns
            raise FileError(_no_place(path, number, line)) from None
        if len(row) < 2 or not all(math.isfinite(value) for value in row):
            raise FileError(_no_place(path, number, line))
        rows.append(row)
    if len(rows) < 2:
        raise FileError(f"{shown(path)} holds no path: it needs two places or more, x and y a line.")
    points = np.array([row[:2] for row in rows])
    notes = ("its heights are left out",) if any(len(row) > 2 for row in rows) else ()
    apart = np.concatenate([[True], np.hypot(*np.diff(points, axis=0).T) > 1e-6])
    if int(apart.sum()) < 2:
        raise FileError(f"{shown(path)} holds the same place again and again; it needs two that differ.")
    try:
        return Drawing((through_points(points[apart]),), "mm", notes)
    except HemtraError as error:
        raise FileError(f"{shown(path)}: {error}") from error


def _no_place(path: Path, number: int, line: str) -> str:
    return f"{shown(path)}, line {number}: “{plain(line, 40)}” is no place; write x, y in mm."
