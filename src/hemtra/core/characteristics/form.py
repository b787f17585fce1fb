"""Form: how far a surface departs from its ideal shape."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
import scipy  # its parts load when they are used first

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.features.plane import FittedPlane
from hemtra.core.form import setting
from hemtra.core.geometry.elements import Number, Point
from hemtra.core.geometry.kernels import EVERYWHERE, cell_moments
from hemtra.core.marks import Evidence, Histogram, Polyline
from hemtra.core.plan.kind import Given, Input, Kind, Outcome
from hemtra.core.plan.registry import register
from hemtra.core.scan.heightmap import HeightMap
from hemtra.core.scan.zones import window

EXACT = 1e-10
"""Tolerance of the linear programme, as a share of what least squares leave."""
HALF_FULL = 0.5
"""Share of a cell that must hold used data for its mean to count."""
HISTOGRAM_BINS = 32


@register
class FlatnessKind(Kind):
    """Flatness of one surface, or of several taken as one."""

    kind: ClassVar = "flatness"
    title: ClassVar = "Flatness"
    glyph: ClassVar = "flatness"
    output: ClassVar = Number
    unit: ClassVar = "mm"
    inputs: ClassVar = {
        "surfaces": Input(
            FittedPlane,
            "surfaces",
            "The planes whose used points make up the surface; several count as one common surface.",
            many=True,
        )
    }

    cell: float = setting(
        2.0,
        "cell",
        "Heights are averaged over cells of this size first, so that sensor noise is not taken for form.",
        unit="mm",
        gt=0.0,
        le=100.0,
    )

    method: Literal["least squares", "minimum zone"] = setting(
        "least squares",
        "plane by",
        "Deviations count from the least-squares plane, or from the two closest parallel planes that hold all.",
        choices={"least squares": "least squares", "minimum zone": "minimum zone"},
    )

    def evaluate(self, given: Given) -> Outcome:
        """Greatest minus least deviation from the common plane in mm (ISO 12781-1, LSPL or MZPL)."""
        cells, deviation = self._deviations(given)
        value = float(deviation.max() - deviation.min())
        highest = cells[int(np.argmax(deviation))]
        at = Point(float(highest[0]), float(highest[1]), float(highest[2]))
        facts = (
            ("highest", f"{deviation.max():+.3f} mm"),
            ("lowest", f"{deviation.min():+.3f} mm"),
            ("cells", str(len(cells))),
        )
        return Outcome(Number(value, "mm", at), facts)

    def explain(self, given: Given, outcome: Outcome) -> Evidence:
        """The outlines of the surfaces and the histogram of deviations."""
        _, deviation = self._deviations(given)
        pad = max(float(np.ptp(deviation)) * 0.02, 1e-4)
        edges = np.linspace(deviation.min() - pad, deviation.max() + pad, HISTOGRAM_BINS + 1)
        counts = np.histogram(deviation, edges)[0].astype(np.float64)
        outlines = []
        for surface in given.many("surfaces", FittedPlane):
            xy = surface.zone.outline()
            z = surface.height_at(xy[:, 0], xy[:, 1])
            outlines.append(Polyline(np.column_stack([xy, z]), "fit", closed=True))
        return Evidence(tuple(outlines), Histogram("deviation of the cells", "mm", edges, counts, counts))

    def _deviations(self, given: Given) -> tuple[FloatArray, FloatArray]:
        """(n, 3) centres of the cells and (n,) perpendicular deviations from their common plane, in mm."""
        surfaces = given.many("surfaces", FittedPlane)
        cells = np.concatenate([_cells(surface, given.data, self.cell) for surface in surfaces])
        if len(cells) < 4:
            raise NotMeasured(f"only {len(cells)} cells of {self.cell:g} mm hold data; flatness needs four")
        middle = cells.mean(axis=0)
        u, v, w = (cells - middle).T
        if self.method == "minimum zone":
            slopes = minimum_zone(u, v, w)
        else:
            slopes, *_ = np.linalg.lstsq(np.column_stack([u, v]), w, rcond=None)
        deviation = (w - u * slopes[0] - v * slopes[1]) / np.sqrt(1.0 + float(slopes @ slopes))
        return cells, deviation


def minimum_zone(u: FloatArray, v: FloatArray, w: FloatArray) -> FloatArray:
    """(2,) slopes of the parallel planes that lie closest along z and hold all points (n,) between them.

    A linear programme: the least reach h with |w - a u - b v - c| <= h. Only corners of the convex hull of the
    points decide it, but a few hundred cells need no such care. Points must lie apart, as cells do: the solver
    cannot tell places that differ by a millionth of their extent.
    """
    scale = max(float(np.abs(u).max()), float(np.abs(v).max()), 1e-9)
    design, reach = np.column_stack([u / scale, v / scale, np.ones(u.size)]), np.ones((u.size, 1))
    # what least squares leave, as parts of itself: the solver's tolerance is an absolute one
    start = np.linalg.lstsq(design, w, rcond=None)[0]
    left = w - design @ start
    size = float(np.abs(left).max()) or 1.0
    sides = np.block([[-design, -reach], [design, -reach]])
    heights = np.concatenate([-left, left]) / size
    found = scipy.optimize.linprog(
        [0.0, 0.0, 0.0, 1.0],
        A_ub=sides,
        b_ub=heights,
        bounds=[(None, None)] * 4,
        options={"primal_feasibility_tolerance": EXACT, "dual_feasibility_tolerance": EXACT},
    )
    if not found.success or found.x is None:
        raise NotMeasured("the two closest planes about the surface could not be found; take least squares")
    # the points that the planes rest on settle what the solver's tolerance leaves open
    tight = found.ineqlin.marginals < -EXACT
    settled = found.x + np.linalg.lstsq(sides[tight], heights[tight] - sides[tight] @ found.x, rcond=None)[0]
    slopes: FloatArray = (start[:2] + settled[:2] * size) / scale
    return slopes


def _cells(surface: FittedPlane, data: HeightMap, size: float) -> FloatArray:
    """(n, 3) mean positions in mm of the used points in cells of a size."""
    view = window(surface.zone, data)
    grid, z = view.grid(data), data.z[view.rows, view.cols]
    mask = EVERYWHERE if view.inside is None else view.inside
    upright = surface.normal[2]
    x, y = grid.x0 + grid.dx * (z.shape[1] - 1) / 2, grid.y0 + grid.dy * (z.shape[0] - 1) / 2
    level = float(surface.height_at(np.array(x), np.array(y)))
    plane = surface.slope_x * grid.dx, surface.slope_y * grid.dy, level
    used = surface.low / upright, surface.high / upright
    cell = max(1, round(size / grid.dy)), max(1, round(size / grid.dx))
    sums = cell_moments(z, mask, plane, used, cell)
    count, u, v, rise = sums[:, sums[0] >= max(1.0, HALF_FULL * cell[0] * cell[1])]
    at_x, at_y = x + grid.dx * u / count, y + grid.dy * v / count
    return np.column_stack([at_x, at_y, surface.height_at(at_x, at_y) + rise / count])
