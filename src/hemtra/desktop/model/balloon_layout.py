"""Where balloons stand: on a ring around what is measured, in the order of their leaders, never overlapping."""

from __future__ import annotations

import math
from collections.abc import Sequence

from hemtra.desktop.model.viewport import Pixel

SPACING = 34.0
"""Pixels from one balloon to the next along the ring."""
ROUNDS = 60

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
    at = [along[i] for i in order]
    spacing = min(SPACING, length / len(at))
    # neighbours push each other apart; the last and the first are neighbours too
    for _ in range(ROUNDS):
        moved = False
        for k in range(len(at) if len(at) > 1 else 0):
            after = (k + 1) % len(at)
            gap = (at[after] - at[k]) % length if after else at[0] + length - at[k]
            if gap < spacing - 1e-6:
                push = (spacing - gap) / 2
                at[k] -= push
                at[after] += push
                moved = True
        if not moved:
            break
    placed: list[Pixel] = [(0.0, 0.0)] * len(anchors)
    for i, distance in zip(order, at, strict=True):
        placed[i] = _point(distance % length, ring)
    return placed


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
