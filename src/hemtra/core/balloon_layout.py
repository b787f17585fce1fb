"""Balloon layout: anchor points, and columns beside the part in which no leaders cross."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from importlib import import_module

import numpy as np
import scipy  # its parts load when they are used first

from hemtra.core.arrays import FloatArray
from hemtra.core.evaluation.results import Result
from hemtra.core.plan.document import Plan
from hemtra.core.plan.limits import CharacteristicResult

Pixel = tuple[float, float]

SPACING = 34.0
"""Distance between balloons in a column, where there is room, pixels."""
STEP = 16.0
"""Step by which columns move outwards, pixels."""

Box = tuple[float, float, float, float]
"""left, top, right, bottom in pixels"""

SOLVER = "scipy.optimize"


def is_loaded() -> bool:
    """Whether the solver is loaded, which takes half a second."""
    return SOLVER in sys.modules


def load() -> None:
    """Load the solver; to be called in a background thread, before the first layout."""
    import_module(SOLVER)


def place_balloons(
    anchors: Sequence[Pixel], box: Box, *, radius: float = 11.0, room: float = 0.0
) -> list[Pixel]:
    """A place for each anchor, in the order given, in columns along the left and right side of a box.

    Leaders are as short as they can be together, and so no two of them cross: where two crossed, changing
    their ends would make both shorter. room: pixels that the columns may move outwards, which they do where
    a steep leader would run over a balloon that is not its own. What does not fit into one column on either
    side goes into more of them, further out; leaders may then pass over balloons.
    """
    if not anchors:
        return []
    points = np.asarray(anchors, float)
    best: tuple[int, FloatArray] | None = None
    for out in np.arange(0.0, room + 1.0, STEP):
        places = _nearest(points, _slots(len(points), (box[0] - out, box[1], box[2] + out, box[3]), radius))
        hidden = _overruns(points, places, radius + 1.0)
        if best is None or hidden < best[0]:
            best = hidden, places
        if hidden == 0:
            break
    assert best is not None
    return [(float(x), float(y)) for x, y in best[1]]


def _slots(count: int, box: Box, radius: float) -> FloatArray:
    """(n, 2) places where balloons may stand: at least as many as there are, evenly along both sides."""
    height = max(box[3] - box[1], 0.0)
    closest = 2.0 * radius + 2.0
    for columns in range(1, count + 1):
        rows = -(-count // (2 * columns))
        if columns * 2 >= count or (rows - 1) * closest <= height:
            break
    fitting = int(height / SPACING) + 1
    rows = max(rows, fitting)
    apart = SPACING if rows == fitting else height / max(rows - 1, 1)
    first = (box[1] + box[3] - (rows - 1) * apart) / 2
    y = first + apart * np.arange(rows)
    slots = [
        np.column_stack([np.full(rows, x), y + (k % 2) * apart / 2])
        for k in range(columns)
        for x in (box[0] - k * closest, box[2] + k * closest)
    ]
    return np.concatenate(slots)


def _nearest(points: FloatArray, slots: FloatArray) -> FloatArray:
    """(n, 2) of the slots: the choice with the least sum of distances."""
    _, chosen = scipy.optimize.linear_sum_assignment(scipy.spatial.distance.cdist(points, slots))
    return slots[chosen]


def _overruns(points: FloatArray, places: FloatArray, radius: float) -> int:
    """Count the leaders that pass within a radius of a balloon that is not their own."""
    along = places - points
    squared = np.maximum((along**2).sum(axis=1), 1e-9)
    to = places[None, :, :] - points[:, None, :]
    share = np.clip((to * along[:, None, :]).sum(axis=2) / squared[:, None], 0.0, 1.0)
    off = np.linalg.norm(to - share[:, :, None] * along[:, None, :], axis=2)
    np.fill_diagonal(off, np.inf)
    return int(np.count_nonzero(off < radius))


def points_at(plan: Plan, result: Result, evaluated: CharacteristicResult) -> tuple[float, float] | None:
    """x and y in mm of what was measured, or of the zone where it should have been; None for nowhere."""
    if evaluated.at is not None:
        return evaluated.at.x, evaluated.at.y
    if plan.characteristic(evaluated.balloon) is None or not evaluated.step:
        return None
    inputs = [i for ids in plan.step(evaluated.step).inputs.values() for i in ids]
    found = [result.steps[i] for i in inputs if i in result.steps]
    zones = [z for r in found if (z := r.zone or r.step.zone) is not None]
    # of several inputs the smallest zone says best where the balloon belongs: datums are large
    smallest = min(zones, key=lambda zone: zone.area, default=None)
    return None if smallest is None else (smallest.x, smallest.y)
