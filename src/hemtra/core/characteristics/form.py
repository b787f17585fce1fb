"""Form: how far a surface departs from its ideal shape."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar, Literal

import numpy as np
import scipy  # its parts load when they are used first

from hemtra.core.arrays import FloatArray
from hemtra.core.characteristics.surface_points import Extent, Surface, Surfaces
from hemtra.core.errors import NotMeasured
from hemtra.core.features.plane import FittedPlane
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Number, Plane
from hemtra.core.marks import Dimension, Evidence, Histogram, Polyline
from hemtra.core.plan.kind import Input, Kind, Outcome, StepContext
from hemtra.core.plan.registry import register
from hemtra.core.plan.usual_limits import form_limits

EXACT = 1e-10
"""Tolerance of the linear programme, as a share of what least squares leave."""
HISTOGRAM_BINS = 32


@register
class FlatnessKind(Kind):
    """Flatness of one surface, or of several taken as one."""

    kind: ClassVar = "flatness"
    limits_from: ClassVar = staticmethod(form_limits)
    title: ClassVar = "Flatness"
    glyph: ClassVar = "flatness"
    output: ClassVar = Number
    unit: ClassVar = "mm"
    looks_at_data: ClassVar = True
    inputs: ClassVar = {
        "surfaces": Input(
            FittedPlane,
            "surfaces",
            "The planes in whose zones the surface lies; several count as one common surface.",
            many=True,
        )
    }
    revision: ClassVar = 2
    least_coverage: ClassVar = 95.0

    points: Literal["all", "near"] = setting(
        "all",
        "points",
        "All points of the zones but isolated ones; or only those that the planes were fitted through, which"
        " leaves out bumps and dents and so does not prove form.",
        choices={"near": "points near the plane only"},
    )

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
    )

    @property
    def convergence(self) -> float:
        """Surfaces are smooth, also where they are highest and lowest."""
        return 2.0

    def evaluate(self, given: StepContext) -> Outcome:
        """Distance in mm of two planes parallel to the fitted one that hold all points (ISO 12781-1)."""
        _, _, extent = self._extent(given)
        facts = (
            ("highest", f"{extent.high:+.3f} mm"),
            ("lowest", f"{extent.low:+.3f} mm"),
            ("isolated points", str(extent.coverage.spikes)),
        )
        value = Number(extent.width, "mm", extent.highest)
        possible = (Number(extent.possible_width, "mm", extent.highest),)
        note = "" if self.points == "all" else "only points near the plane: this does not prove form"
        return Outcome(value, facts, note, possible, extent.coverage)

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The outlines of the surfaces, their farthest points and the histogram of deviations."""
        cells, plane, extent = self._extent(given)
        deviation = (cells[:, 2] - plane.height_at(cells[:, 0], cells[:, 1])) * plane.normal[2]
        pad = max(extent.width * 0.02, 1e-4)
        edges = np.linspace(extent.low - pad, extent.high + pad, HISTOGRAM_BINS + 1)
        counts = np.histogram(deviation, edges)[0].astype(np.float64)
        outlines = []
        for surface in given.many("surfaces", FittedPlane):
            xy = surface.zone.outline()
            z = surface.height_at(xy[:, 0], xy[:, 1])
            outlines.append(Polyline(np.column_stack([xy, z]), "fit", closed=True))
        far = tuple(
            Dimension(plane.foot(point), point, f"{off:+.3f}")
            for point, off in ((extent.lowest, extent.low), (extent.highest, extent.high))
        )
        histogram = Histogram("deviation of the cells", "mm", edges, counts, counts)
        return Evidence((*outlines, *far), histogram)

    def ideal(self, given: StepContext) -> Mapping[str, tuple[Plane, ...]]:
        """All surfaces in their common plane."""
        _, plane, _ = self._extent(given)
        return {"surfaces": (plane,) * len(given.many("surfaces", FittedPlane))}

    def _extent(self, given: StepContext) -> tuple[FloatArray, Plane, Extent]:
        """(n, 3) centres of the cells in mm, their plane, and how far all points lie from it."""
        surfaces = [
            Surface(plane.zone, plane, None if self.points == "all" else (plane.low, plane.high))
            for plane in given.many("surfaces", FittedPlane)
        ]
        held = Surfaces(surfaces, given.data, self.cell)
        cells = held.cells
        if len(cells) < 4:
            raise NotMeasured(f"only {len(cells)} cells of {self.cell:g} mm hold data; flatness needs four")
        middle = cells.mean(axis=0)
        u, v, w = (cells - middle).T
        if self.method == "minimum zone":
            slopes = minimum_zone(u, v, w)
        else:
            slopes, *_ = np.linalg.lstsq(np.column_stack([u, v]), w, rcond=None)
        plane = Plane(*map(float, (*middle, *slopes)))
        return cells, plane, held.extent(plane)


def minimum_zone(u: FloatArray, v: FloatArray, w: FloatArray) -> FloatArray:
    """(2,) slopes of the parallel planes that lie closest along z and hold all points (n,) between them.

    A linear programme: the least reach h with |w - a u - b v - c| <= h. Only corners of the convex hull of the
    points decide it, but a few hundred cells need no such care. Points must lie apart, as cells do: the solver
    cannot distinguish places that differ by a millionth of their extent.
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
