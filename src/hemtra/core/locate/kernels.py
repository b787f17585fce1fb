"""Compiled loops of the outline search. Positions are in mm; maps are (rows, cols) float32, NaN without data.

A contour point has a normal that points from the high side (or the bright one) to the low side.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from hemtra.core.arrays import FloatArray, Heights
from hemtra.core.compiled import compiled, reordered
from hemtra.core.geometry.middle import middle_of
from hemtra.core.geometry.solving import solved


@reordered
def cell_means(values: Heights, height: int, width: int) -> Heights:
    """Means of what is there in cells of height × width points; NaN in a cell with less than an eighth of them.

    Rows and columns that fill no whole cell at the far borders are left out.
    """
    rows, cols = values.shape[0] // height, values.shape[1] // width
    means = np.empty((rows, cols), np.float32)
    total = np.empty(cols * width, np.float32)
    count = np.empty(cols * width, np.float32)
    for i in range(rows):
        total[:] = 0.0
        count[:] = 0.0
        for k in range(i * height, (i + 1) * height):
            line = values[k]
            for j in range(cols * width):
                v = line[j]
                there = v == v
                total[j] += v if there else np.float32(0.0)
                count[j] += np.float32(1.0) if there else np.float32(0.0)
        for j in range(cols):
            s = n = 0.0
            for m in range(j * width, (j + 1) * width):
                s += total[m]
                n += count[m]
            means[i, j] = s / n if 8.0 * n >= height * width else np.nan
    return means


@compiled
def fill_lowest(values: Heights, floor: float) -> Heights:
    """The map with each missing point as low as the lowest of its four neighbours along row and column.

    Missing points beside a wall are its occlusion, which is low. `floor` stands where there is no
    neighbour.
    """
    rows, cols = values.shape
    filled = values.copy()
    low = np.float32(floor)
    above = np.full(cols, low, np.float32)
    for i in range(rows):
        left = low
        for j in range(cols):
            v = values[i, j]
            if v == v:
                left = v
                above[j] = v
            else:
                filled[i, j] = min(left, above[j])
    above[:] = low
    for i in range(rows - 1, -1, -1):
        right = low
        for j in range(cols - 1, -1, -1):
            v = values[i, j]
            if v == v:
                right = v
                above[j] = v
            else:
                filled[i, j] = min(filled[i, j], min(right, above[j]))
    return filled


@compiled
def steep_cells(
    values: Heights, width: float, height: float, least: float
) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Cells where a map without gaps is steepest across the edge they lie on: u, v in cells, and direction.

    width, height: of a cell in mm. least: difference over two cells that counts. Direction in rad from high
    to low.
    """
    rows, cols = values.shape
    most = rows * cols
    us, vs, directions = np.empty(most), np.empty(most), np.empty(most)
    n = 0
    gx = np.zeros((rows, cols), np.float32)
    gy = np.zeros((rows, cols), np.float32)
    size = np.zeros((rows, cols), np.float32)
    cell = math.sqrt(width * height)
    for i in range(1, rows - 1):
        for j in range(1, cols - 1):
            a = values[i - 1, j + 1] - values[i - 1, j - 1]
            b = values[i, j + 1] - values[i, j - 1]
            c = values[i + 1, j + 1] - values[i + 1, j - 1]
            d = values[i + 1, j - 1] - values[i - 1, j - 1]
            e = values[i + 1, j] - values[i - 1, j]
            f = values[i + 1, j + 1] - values[i - 1, j + 1]
            gx[i, j] = (a + 2 * b + c) / 4 * cell / width
            gy[i, j] = (d + 2 * e + f) / 4 * cell / height
            size[i, j] = math.hypot(gx[i, j], gy[i, j])
    for i in range(1, rows - 1):
        for j in range(1, cols - 1):
            m = size[i, j]
            if m < least:
                continue
            if abs(gx[i, j]) >= abs(gy[i, j]):
                before, after, du, dv = size[i, j - 1], size[i, j + 1], 1.0, 0.0
            else:
                before, after, du, dv = size[i - 1, j], size[i + 1, j], 0.0, 1.0
            if before > m or after >= m:
                continue
            bend = before - 2 * m + after
            shift = 0.5 * (before - after) / bend if bend < 0 else 0.0
            us[n] = j + du * shift
            vs[n] = i + dv * shift
            directions[n] = math.atan2(-gy[i, j], -gx[i, j])
            n += 1
    return us[:n], vs[:n], directions[:n]


@compiled
def vote(
    edges: FloatArray,
    model: FloatArray,
    first: NDArray[np.int64],
    angles: FloatArray,
    box: tuple[float, float, float],
    shape: tuple[int, int],
) -> NDArray[np.int16]:
    """The generalised Hough transform (Ballard 1981): (angles, rows, cols) votes for the model's centre.

    edges: (n, 3) x, y in mm and direction in rad. model: (m, 3) x, y from its centre and direction, sorted by
    direction; first: (bins + 1,) where each bin of directions starts in it. box: x, y in mm of the first cell
    and the size of a cell. Each edge votes, at each angle, with the points of its own bin of directions and of
    the nearer one beside it.
    """
    votes = np.zeros((angles.size, shape[0], shape[1]), np.int16)
    zero, width, height = np.float32(0.0), np.float32(shape[1]), np.float32(shape[0])
    cols = np.uint32(shape[1])
    bins = first.size - 1
    turn = 2 * math.pi
    us, vs = np.empty(model.shape[0], np.float32), np.empty(model.shape[0], np.float32)
    for k in range(angles.size):
        c, s = math.cos(angles[k]) / box[2], math.sin(angles[k]) / box[2]
        for p in range(model.shape[0]):
            us[p] = c * model[p, 0] - s * model[p, 1]
            vs[p] = s * model[p, 0] + c * model[p, 1]
        page = votes[k].ravel()
        for e in range(edges.shape[0]):
            u0 = np.float32((edges[e, 0] - box[0]) / box[2])
            v0 = np.float32((edges[e, 1] - box[1]) / box[2])
            exact = ((edges[e, 2] - angles[k]) % turn) / turn * bins
            b = int(exact) % bins
            beside = (b + 1) % bins if exact - int(exact) >= 0.5 else (b - 1) % bins
            for n in (b, beside):
                for p in range(first[n], first[n + 1]):
                    u, v = u0 - us[p], v0 - vs[p]
                    if (u >= zero) & (u < width) & (v >= zero) & (v < height):
                        # an unsigned place needs no check for counting from the end
                        page[np.uint32(v) * cols + np.uint32(u)] += np.int16(1)
    return votes


@compiled
def fit_turn(
    points: FloatArray, offsets: FloatArray, x: float, y: float, floor: float, rounds: int
) -> tuple[float, float, float]:
    """Shift in mm and turn in rad about (x, y) that bring contour points (n, 4) onto their edges.

    offsets: (n,) mm along the normals, NaN where no edge was found. Robust least squares with Tukey's biweight,
    its scale from the median deviation, at least `floor` mm.
    """
    seen = np.flatnonzero(~np.isnan(offsets))
    n = seen.size
    left = np.empty(n)
    sx = sy = turn = 0.0
    for _ in range(rounds):
        for m in range(n):
            p = points[seen[m]]
            arm = (p[0] - x) * p[3] - (p[1] - y) * p[2]
            left[m] = offsets[seen[m]] - sx * p[2] - sy * p[3] - turn * arm
        scale = max(1.4826 * middle_of(np.abs(left), n), floor)
        a = np.zeros((3, 3))
        b = np.zeros(3)
        for m in range(n):
            r = left[m] / (4.685 * scale)
            if abs(r) >= 1.0:
                continue
            w = (1.0 - r * r) ** 2
            p = points[seen[m]]
            j = (p[2], p[3], (p[0] - x) * p[3] - (p[1] - y) * p[2])
            for i in range(3):
                b[i] += w * j[i] * offsets[seen[m]]
                for k in range(3):
                    a[i, k] += w * j[i] * j[k]
        # a trace of stiffness, so that a bare straight line still has a solution
        a[0, 0] += 1e-6
        a[1, 1] += 1e-6
        a[2, 2] += 1e-6
        found = solved(a, b)
        sx, sy, turn = found[0], found[1], found[2]
    return sx, sy, turn
