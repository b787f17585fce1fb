"""Shapes of all virtual parts as one type of record, so that what looks at a part is compiled once."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from hemtra.core.arrays import FloatArray
from hemtra.core.compiled import lean
from hemtra.virtual.cover_kernels import COVER, HUB_RADIUS, RIB_HEIGHT, cover_surface
from hemtra.virtual.relief_kernels import RELIEF, relief_surface
from hemtra.virtual.runner_kernels import HEM, RUNNER, runner_surface

OF_COVER, OF_RUNNER, OF_RELIEF = range(3)
SHAPE = np.dtype(
    [
        ("which", np.int64),  # of the three below describes the part
        ("top", np.float64),  # upper bound of its height, mm
        ("cover", COVER),
        ("runner", RUNNER),
        ("relief", RELIEF),
    ]
)
"""Surface of a part; kernels pass a record by its address."""


def cover_shape(specks: FloatArray, print_: NDArray[np.uint8], **sizes: Any) -> np.record:
    """A cover; specks (n, 4) and print_ (side, side) as many as there are, sizes by field of `COVER`."""
    shape = _shape(OF_COVER)
    cover = shape.cover
    for name, size in sizes.items():
        cover[name] = size
    cover.spots, cover.side = len(specks), len(print_)
    cover.specks[: len(specks)] = specks
    cover.print_[: len(print_), : len(print_)] = print_
    hub = cover.hub_height + HUB_RADIUS * math.hypot(cover.hub_slope_x, cover.hub_slope_y)
    highest = max(hub, *cover.boss_heights, *cover.bead[:, 1], cover.plug_flush, RIB_HEIGHT)
    shape.top = highest + max(cover.bow, 0.0) * max(1.0, cover.length / 120.0) ** 2
    return shape


def runner_shape(**sizes: Any) -> np.record:
    """A drawer runner, sizes by field of `RUNNER`."""
    shape = _shape(OF_RUNNER)
    for name, size in sizes.items():
        shape.runner[name] = size
    shape.top = HEM + max(shape.runner.upper, shape.runner.lower + shape.runner.flush)
    return shape


def relief_shape(pieces: FloatArray, base: float, bump: tuple[float, float, float, float]) -> np.record:
    """Frustums, pieces (n, 8), base and bump as in `RELIEF`."""
    shape = _shape(OF_RELIEF)
    relief = shape.relief
    relief.count, relief.base, relief.bump = len(pieces), base, bump
    relief.pieces[: len(pieces)] = pieces
    shape.top = pieces[:, 4].max(initial=base) + max(bump[3], 0.0)
    return shape


def _shape(which: int) -> np.record:
    shape: np.record = np.zeros(1, SHAPE).view(np.recarray)[0]
    shape.which = which
    return shape


def without_specks(shape: np.record) -> np.record:
    """The same surface in even light."""
    bare: np.record = shape.copy()
    bare.cover.spots = 0
    return bare


@lean
def surface_at(x: float, y: float, shape: Any) -> tuple[float, float, int]:
    """Height in mm, reflectance and element at a place of any part; (-inf, 0, 0) beside it."""
    if shape.which == OF_COVER:
        return cover_surface(x, y, shape.cover)
    if shape.which == OF_RUNNER:
        return runner_surface(x, y, shape.runner)
    return relief_surface(x, y, shape.relief)
