"""Fits of closed outlines to points: ellipses and rounded rectangles."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import TypeAlias

import numpy as np
import scipy  # its parts load when they are used first

from hemtra.core.arrays import BoolArray, FloatArray

Distances: TypeAlias = Callable[[FloatArray], FloatArray]
"""From parameters to the distances of all points."""
ROUNDS = 12
CORNERS = (0.02, 0.15, 0.3, 0.45, 0.6, 0.8, 1.0)
"""Corner radii tried for a start, as shares of half the width."""
TUKEY = 4.685


def fit_ellipse(points: FloatArray, floor: float) -> tuple[FloatArray, FloatArray] | None:
    """(5,) centre x, y, half axes (the longer first) and direction in radians; and the distances (n,).

    Starts from the direct least squares of Halíř and Flusser (1998), then minimises the distances in the
    direction of the gradient (Sampson 1982) with Tukey's biweight. None where the points make no ellipse.
    floor: mm by which a point may always be off.
    """
    middle = points.mean(axis=0)
    size = float(np.abs(points - middle).max()) or 1.0
    x, y = ((points - middle) / size).T
    quadratic, linear = np.column_stack([x * x, x * y, y * y]), np.column_stack([x, y, np.ones(x.size)])
    s1, s2, s3 = quadratic.T @ quadratic, quadratic.T @ linear, linear.T @ linear
    try:
        t = -np.linalg.solve(s3, s2.T)
        m = s1 + s2 @ t
        values, vectors = np.linalg.eig(np.array([m[2] / 2, -m[1], m[0] / 2]))
    except np.linalg.LinAlgError:
        return None
    vectors = np.real(vectors[:, np.isreal(values)])
    good = 4 * vectors[0] * vectors[2] - vectors[1] ** 2 > 0
    if not good.any():
        return None
    a = vectors[:, good][:, 0]
    start = _of_conic(np.concatenate([a, t @ a]))
    if start is None:
        return None
    start[:4] *= size
    start[:2] += middle

    def off(p: FloatArray) -> FloatArray:
        return ellipse_distance(points, p)

    return settled(off, start, floor)


def ellipse_distance(points: FloatArray, ellipse: FloatArray) -> FloatArray:
    """(n,) signed distance in mm from an ellipse to first order, positive outside (Sampson 1982)."""
    cx, cy, a, b, turn = ellipse
    c, s = math.cos(turn), math.sin(turn)
    u = c * (points[:, 0] - cx) + s * (points[:, 1] - cy)
    v = c * (points[:, 1] - cy) - s * (points[:, 0] - cx)
    value = (u / a) ** 2 + (v / b) ** 2 - 1.0
    slope = 2.0 * np.hypot(u / a**2, v / b**2)
    distance: FloatArray = value / np.maximum(slope, 1e-12)
    return distance


def fit_rounded_rectangle(points: FloatArray, floor: float) -> tuple[FloatArray, FloatArray]:
    """(6,) centre x, y, half length and half width, direction in radians and corner radius; and distances (n,).

    Starts from the rectangle of minimum area about the points, then minimises their distances with Tukey's
    biweight.
    """
    turns = np.radians(np.arange(0.0, 90.0, 1.0))
    c, s = np.cos(turns)[:, None], np.sin(turns)[:, None]
    u = c * points[:, 0] + s * points[:, 1]
    v = c * points[:, 1] - s * points[:, 0]
    # stray points do not decide the start
    low_u, high_u, low_v, high_v = (np.percentile(part, q, axis=1) for part in (u, v) for q in (2, 98))
    k = int(np.argmin((high_u - low_u) * (high_v - low_v)))
    mu, mv = (low_u[k] + high_u[k]) / 2, (low_v[k] + high_v[k]) / 2
    half_u, half_v, turn = (high_u[k] - low_u[k]) / 2, (high_v[k] - low_v[k]) / 2, turns[k]
    centre = np.array([np.cos(turn) * mu - np.sin(turn) * mv, np.sin(turn) * mu + np.cos(turn) * mv])
    if half_v > half_u:
        half_u, half_v, turn = half_v, half_u, turn + math.pi / 2
    # corners far off their radius would count as strays for good
    starts = [np.array([*centre, half_u, half_v, turn, share * half_v]) for share in CORNERS]
    start = min(starts, key=lambda s: float(np.abs(rounded_distance(points, s)).sum()))

    def off(p: FloatArray) -> FloatArray:
        return rounded_distance(points, p)

    return settled(off, start, floor)


def rounded_distance(points: FloatArray, shape: FloatArray) -> FloatArray:
    """(n,) signed distance in mm from a rectangle with rounded corners, positive outside."""
    cx, cy, half_u, half_v, turn, radius = shape
    radius = min(max(radius, 0.0), half_u, half_v)
    c, s = math.cos(turn), math.sin(turn)
    u = np.abs(c * (points[:, 0] - cx) + s * (points[:, 1] - cy)) - half_u + radius
    v = np.abs(c * (points[:, 1] - cy) - s * (points[:, 0] - cx)) - half_v + radius
    outside = np.hypot(np.maximum(u, 0.0), np.maximum(v, 0.0))
    distance: FloatArray = outside + np.minimum(np.maximum(u, v), 0.0) - radius
    return distance


def used_of(distances: FloatArray, floor: float) -> BoolArray:
    """(n,) which points a settled fit has used."""
    used: BoolArray = np.abs(distances) < _scale(distances, floor)
    return used


def _scale(left: FloatArray, floor: float) -> float:
    return TUKEY * max(1.4826 * float(np.median(np.abs(left))), floor)


def settled(off: Distances, start: FloatArray, floor: float) -> tuple[FloatArray, FloatArray]:
    """Parameters with the least weighted distances, from a start, and the distances."""
    found = start
    for _ in range(ROUNDS):
        left = off(found)
        weighted = _Weighted(off, np.maximum(1.0 - (left / _scale(left, floor)) ** 2, 0.0))
        solved = scipy.optimize.least_squares(weighted, found, method="lm", xtol=1e-12, ftol=1e-12)
        moved = float(np.abs(solved.x - found).max())
        found = solved.x
        if moved < 1e-8:
            break
    return found, off(found)


@dataclass(frozen=True)
class _Weighted:
    """Distances by how much each counts: the root of Tukey's weight."""

    off: Distances
    weight: FloatArray

    def __call__(self, p: FloatArray) -> FloatArray:
        return self.weight * self.off(p)


def _of_conic(a: FloatArray) -> FloatArray | None:
    """Centre, half axes and direction of a conic a0 x² + a1 xy + a2 y² + a3 x + a4 y + a5 = 0."""
    matrix = np.array([[a[0], a[1] / 2], [a[1] / 2, a[2]]])
    centre = np.linalg.solve(-2 * matrix, a[3:5])
    rest = a[5] + 0.5 * float(a[3:5] @ centre)
    values, vectors = np.linalg.eigh(matrix)
    squares = -rest / values
    if (squares <= 0).any():
        return None
    order = np.argsort(-squares)
    main = vectors[:, order[0]]
    return np.array([*centre, *np.sqrt(squares[order]), math.atan2(float(main[1]), float(main[0]))])
