"""What balloons point at, and where they stand: on a ring, in the order of their leaders, never overlapping."""

from __future__ import annotations

import math
from collections.abc import Sequence

from hemtra.core.evaluation.results import Result
from hemtra.core.plan.document import Plan
from hemtra.core.plan.limits import CharacteristicResult

Pixel = tuple[float, float]

SPACING = 34.0
"""Pixels from one balloon to the next along the ring."""

Box = tuple[float, float, float, float]
"""left, top, right, bottom in pixels"""


def place_balloons(anchors: Sequence[Pixel], ring: Box) -> list[Pixel]:
    """A place on the ring for each anchor, in the order given."""
    length = _length(ring)
    if not anchors or length <= 0:
        return []
    middle = (ring[0] + ring[2]) / 2, (ring[1] + ring[3]) / 2
    along = [_project(anchor, middle, ring) for anchor in anchors]
    order = sorted(range(len(anchors)), key=along.__getitem__)
    # the ring is cut open at its widest gap, where nobody has to push anybody
    gaps = [(along[order[k]] - along[order[k - 1]]) % length for k in range(len(order))]
    cut = gaps.index(max(gaps))
    order = order[cut:] + order[:cut]
    wanted = [along[order[0]] + (along[i] - along[order[0]]) % length for i in order]
    spacing = min(SPACING, length / len(order))
    at = _spread(wanted, spacing)
    if at[-1] - at[0] > length - spacing:
        at = [at[0] + k * length / len(at) for k in range(len(at))]
    placed: list[Pixel] = [(0.0, 0.0)] * len(anchors)
    for i, distance in zip(order, at, strict=True):
        placed[i] = _point(distance % length, ring)
    return placed


def points_at(plan: Plan, result: Result, judged: CharacteristicResult) -> tuple[float, float] | None:
    """x and y in mm of what was measured, or of the zone where it should have been; None for nowhere."""
    if judged.at is not None:
        return judged.at.x, judged.at.y
    if plan.characteristic(judged.balloon) is None or not judged.step:
        return None
    inputs = [i for ids in plan.step(judged.step).inputs.values() for i in ids]
    found = [result.steps[i] for i in inputs if i in result.steps]
    zones = [z for r in found if (z := r.zone or r.step.zone) is not None]
    # of several inputs the smallest zone says best where the balloon belongs: datums are large
    smallest = min(zones, key=lambda zone: zone.area, default=None)
    return None if smallest is None else (smallest.x, smallest.y)


def _spread(wanted: Sequence[float], spacing: float) -> list[float]:
    """The places nearest to the wanted ones, in squares, that keep a spacing (pool adjacent violators)."""
    blocks: list[tuple[float, int]] = []
    for k, place in enumerate(wanted):
        mean, count = place - k * spacing, 1
        while blocks and blocks[-1][0] >= mean:
            before, size = blocks.pop()
            mean = (before * size + mean * count) / (size + count)
            count += size
        blocks.append((mean, count))
    slack = [mean for mean, count in blocks for _ in range(count)]
    return [place + k * spacing for k, place in enumerate(slack)]


def _length(ring: Box) -> float:
    return 2 * (ring[2] - ring[0] + ring[3] - ring[1])


def _project(anchor: Pixel, middle: Pixel, ring: Box) -> float:
    """Distance along the ring, clockwise from its upper left corner, of the anchor seen from the middle."""
    half_w, half_h = (ring[2] - ring[0]) / 2, (ring[3] - ring[1]) / 2
    dx, dy = anchor[0] - middle[0], anchor[1] - middle[1]
    if math.hypot(dx, dy) < 1.0:
        dx, dy = 0.0, -1.0  # an anchor in the very middle goes straight up
    reach = min(half_w / abs(dx) if dx else math.inf, half_h / abs(dy) if dy else math.inf)
    x, y = dx * reach + half_w, dy * reach + half_h
    w, h = 2 * half_w, 2 * half_h
    if y <= 1e-6:
        return x
    if x >= w - 1e-6:
        return w + y
    if y >= h - 1e-6:
        return w + h + (w - x)
    return 2 * w + h + (h - y)


def _point(distance: float, ring: Box) -> Pixel:
    w, h = ring[2] - ring[0], ring[3] - ring[1]
    if distance <= w:
        return ring[0] + distance, ring[1]
    if distance <= w + h:
        return ring[2], ring[1] + distance - w
    if distance <= 2 * w + h:
        return ring[2] - (distance - w - h), ring[3]
    return ring[0], ring[3] - (distance - 2 * w - h)
