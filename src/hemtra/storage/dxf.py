"""Paths from and to DXF files, by a library that takes a while to load."""

from __future__ import annotations

import io
import logging
import math
from collections.abc import Iterable, Iterator
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
from hemtra.core.edits.drawn_path import DrawnPath, joined
from hemtra.core.errors import FileError, HemtraError
from hemtra.core.paths.curve import Turn
from hemtra.storage.drawings import UNITS, Drawing
from hemtra.storage.files import shown

# it repeats what is wrong in a file, letter by letter; what matters of that is said in a sentence
logging.getLogger("ezdxf").setLevel(logging.CRITICAL)
MILLIMETRES = 4
"""Units by their number in DXF."""
MOST_ENTITIES = 50_000
FARTHEST, DEEPEST = 1e7, 50
"""Largest distance of a path from the origin, mm, and depth of nested blocks."""
CURVED = ("SPLINE", "ELLIPSE")
USABLE = ("LINE", "ARC", "CIRCLE", "LWPOLYLINE", "POLYLINE", *CURVED)
CURVE_NODES = 3
"""Nodes of each Bézier piece of a curve."""
FLAT = 1e-6
"""Largest height difference in a flat drawing, mm."""


def polyline(points: FloatArray, *, closed: bool) -> str:
    """A drawing in mm of one polyline through (n, 2) points."""
    document = ezdxf.document.Drawing.new("R2010")
    document.header["$INSUNITS"] = MILLIMETRES
    document.modelspace().add_lwpolyline(
        [(float(x), float(y)) for x, y in points], close=closed, dxfattribs={"layer": "PATH"}
    )
    text = io.StringIO()
    document.write(text)
    return text.getvalue()


def read_dxf(content: bytes, path: Path) -> Drawing:
    """The paths of a file; path: what messages call it. Raises `FileError` where there are none to be used."""
    try:
        document, _ = ezdxf.recover.read(io.BytesIO(content))
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
