"""A mesh as of a drawing, and scans of it as it lies."""

from __future__ import annotations

import numpy as np
import scipy.spatial.transform as rotations

from hemtra import HeightMap
from hemtra.core.maps.heightmap import Grid
from hemtra.core.maps.mesh import Mesh, from_above
from hemtra.core.proposals.nominal_placing import Pose


def part(bump=0.0) -> Mesh:
    """A plate of 40 × 24 × 5 mm with a dome and a step that make it unlike itself when it is turned."""
    x, y = np.meshgrid(np.linspace(-20, 20, 161), np.linspace(-12, 12, 97))
    z = 5.0 + 0.0 * x
    z += 2.0 * np.exp(-((x - 9) ** 2 + (y - 3) ** 2) / 18) + 1.2 / (1 + np.exp(-(x + 9) * 4)) + 0.02 * y
    z += bump * ((np.abs(x) < 2) & (np.abs(y) < 2))
    corners = np.column_stack([x.ravel(), y.ravel(), z.ravel()])
    index = np.arange(x.size).reshape(x.shape)
    a, b, c, d = (i.ravel() for i in (index[:-1, :-1], index[:-1, 1:], index[1:, 1:], index[1:, :-1]))
    foot = corners.copy()
    foot[:, 2] = 0.0
    faces = np.concatenate([np.column_stack([a, b, c]), np.column_stack([a, c, d])])
    return Mesh(np.vstack([corners, foot]), np.vstack([faces, faces + len(corners)]))


def scanned(mesh: Mesh, pose: Pose, noise=0.004, seed=0) -> HeightMap:
    """A scan of it as it lies, on a belt at z = 0, with a few points missing."""
    grid = Grid(-32.0, -26.0, 0.2, 0.25)
    found = from_above(mesh.moved(pose.matrix, pose.offset), grid, (209, 321))
    rng = np.random.default_rng(seed)
    z = np.where(np.isnan(found.z), 0.0, found.z) + noise * rng.standard_normal(found.shape)
    z[rng.random(z.shape) < 0.02] = np.nan
    return HeightMap(z, None, grid.dx, grid.dy, grid.x0, grid.y0)


def pose(degrees=(0.0, 0.0, 0.0), offset=(0.0, 0.0, 0.0)) -> Pose:
    return Pose(rotations.Rotation.from_euler("ZYX", degrees, degrees=True).as_matrix(), np.array(offset))
