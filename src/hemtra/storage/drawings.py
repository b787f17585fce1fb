"""Paths from and to drawings: DXF by its own library, and CSV with x, y and if need be z."""

from __future__ import annotations

import csv
import io
import logging
import math
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import ezdxf.disassemble
import ezdxf.document
import ezdxf.lldxf.const
import ezdxf.path
import ezdxf.recover
import numpy as np
from ezdxf.math import Bezier3P, Bezier4P

from hemtra.core.arrays import FloatArray
from hemtra.core.edits.drawn_path import DrawnPath, joined, points_of, through_points
from hemtra.core.errors import FileError, HemtraError
from hemtra.core.paths.curve import Turn
from hemtra.core.text import plain
from hemtra.core.zones.zone import PathZone
from hemtra.storage.files import atomic_write, opened, read_text, shown, write_text

# it repeats what is wrong in a file, letter by letter; what matters of that is said in a sentence
logging.getLogger("ezdxf").setLevel(logging.CRITICAL)
MILLIMETRES = 4
"""Units by their number in DXF."""
LARGEST, MOST_ENTITIES, MOST_POINTS = 64 << 20, 50_000, 100_000
"""Largest file in bytes, entities of a drawing, and points of a table."""
UNITS = {1: ("in", 25.4), 2: ("ft", 304.8), 4: ("mm", 1.0), 5: ("cm", 10.0), 6: ("m", 1000.0), 13: ("µm", 1e-3)}
"""Units of a DXF header's INSUNITS, as name and mm."""
FACTORS = dict(UNITS.values())
FARTHEST, DEEPEST = 1e7, 50
LONGEST_HEADER = 1000
"""Largest distance of a path from the origin, mm, and depth of nested blocks."""
CURVED = ("SPLINE", "ELLIPSE")
USABLE = ("LINE", "ARC", "CIRCLE", "LWPOLYLINE", "POLYLINE", *CURVED)
CURVE_NODES = 3
"""Nodes of each Bézier piece of a curve."""
FLAT = 1e-6
"""Largest height difference in a flat drawing, mm."""


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
        return _load_dxf(path)
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
        document = ezdxf.document.Drawing.new("R2010")
        kept = points[:-1] if zone.closed else points
        document.header["$INSUNITS"] = MILLIMETRES
        document.modelspace().add_lwpolyline(
            [(float(x), float(y)) for x, y in kept], close=zone.closed, dxfattribs={"layer": "PATH"}
        )
        text = io.StringIO()
        document.write(text)
        with atomic_write(path) as stream:
            stream.write(text.getvalue().encode())
    else:
        raise FileError(f"{shown(path)} was not saved: paths are written as .dxf or .csv.")


def _load_dxf(path: Path) -> Drawing:
    _check_size(path)
    with opened(path) as stream:
        try:
            document, _ = ezdxf.recover.read(io.BytesIO(stream.read()))
        except Exception as error:  # a damaged drawing fails anywhere inside the library, with nearly anything
            raise FileError(f"{shown(path)} is no drawing that can be read; it may be damaged.") from error
    name, factor = UNITS.get(document.header.get("$INSUNITS", 0), ("", 1.0))
    pieces: list[DrawnPath] = []
    heights: set[float] = set()
    left_out: set[str] = set()
    try:
        _check_entities(document, path)
        for entity in _entities(document, path):
            if entity.dxftype() not in USABLE:
                left_out.add(entity.dxftype())
                continue
            made = ezdxf.path.make_path(entity)
            if len(made):
                if not all(abs(c) * factor <= FARTHEST for v in made.control_vertices() for c in v):
                    raise FileError(
                        f"{shown(path)} reaches farther than {FARTHEST / 1000:,.0f} m; check its unit."
                    )
                points = list(made.flattening(1.0))
                heights.update(round(float(p.z) * factor, 6) for p in points)
                pieces.append(_piece(made, entity, factor))
    except HemtraError:
        raise
    except Exception as error:
        raise FileError(f"{shown(path)} is damaged: one of its lines cannot be read.") from error
    pieces = [p for p in pieces if np.isfinite(p.nodes).all() and p.length > 0.0]
    if not pieces:
        held = f"; it holds {', '.join(sorted(left_out))}" if left_out else ""
        raise FileError(f"{shown(path)} holds no lines, arcs, splines or polylines{held}.")
    notes = []
    if max(heights) - min(heights) > FLAT:
        notes.append("its lines do not lie in one plane; their heights are left out")
    return Drawing(tuple(joined(pieces)), name, tuple(notes))


def _check_entities(document: Any, path: Path) -> None:
    """Raise `FileError` where blocks within blocks come to too many entities, before any of them is made."""
    counts: dict[str, int] = {}

    def count(entities: Iterable[Any], depth: int) -> int:
        total = 0
        for entity in entities:
            times = 1
            if entity.dxftype() == "INSERT":
                dxf, name = entity.dxf, entity.dxf.get("name", "")
                if name not in counts and depth < DEEPEST:
                    block = document.blocks.get(name)
                    counts[name] = 1
                    counts[name] = 1 if block is None else count(block, depth + 1)
                times = (
                    max(dxf.get("row_count", 1), 1) * max(dxf.get("column_count", 1), 1) * counts.get(name, 1)
                )
            total += times
            if total > MOST_ENTITIES:
                raise FileError(f"{shown(path)} holds more than {MOST_ENTITIES} entities; save the path alone.")
        return max(total, 1)

    count(document.modelspace(), 0)


def _entities(document: Any, path: Path) -> Iterator[Any]:
    """The entities of the model, those of blocks too. Raises `FileError` when there are too many."""
    everything: Iterable[Any] = ezdxf.disassemble.recursive_decompose(document.modelspace())
    for count, entity in enumerate(everything):
        if count >= MOST_ENTITIES:
            raise FileError(f"{shown(path)} holds more than {MOST_ENTITIES} entities; save the path alone.")
        yield entity


def _piece(made: Any, entity: Any, factor: float) -> DrawnPath:
    """Convert one entity: straight to corners, round through the middle of each arc, else curved."""
    nodes = [_flat(made.start)]
    turns: list[Turn] = ["corner"]
    here = made.start
    for command in made.commands():
        if len(command) > 1:
            curve = _bezier(here, command)
            if entity.dxftype() in CURVED:
                nodes += [_flat(curve.point((k + 1) / (CURVE_NODES + 1))) for k in range(CURVE_NODES)]
                turns += ["curve"] * CURVE_NODES
            else:
                nodes.append(_flat(curve.point(0.5)))
                turns.append("arc")
        here = command.end
        nodes.append(_flat(here))
        turns.append("curve" if entity.dxftype() in CURVED else "corner")
    turns[-1] = "corner"
    closed = len(nodes) > 2 and math.dist(nodes[0], nodes[-1]) < 1e-6
    if closed:
        nodes, turns = nodes[:-1], turns[:-1]
    array: FloatArray = np.array(nodes) * factor
    return DrawnPath(array, tuple(turns), closed, entity.dxf.layer)


def _bezier(start: Any, command: Any) -> Any:
    """A quadratic or cubic piece."""
    if len(command) == 2:
        return Bezier3P([start, command.ctrl, command.end])
    return Bezier4P([start, command.ctrl1, command.ctrl2, command.end])


def _flat(place: Any) -> tuple[float, float]:
    return float(place[0]), float(place[1])


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
