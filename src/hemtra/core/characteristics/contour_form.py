"""Form of edges and rims: straightness and roundness."""

from __future__ import annotations

import math
from abc import abstractmethod
from typing import ClassVar

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.features.circle import FoundCircle
from hemtra.core.features.edge import FoundEdge
from hemtra.core.form import setting
from hemtra.core.geometry.elements import Number, Point
from hemtra.core.marks import Curve, Evidence
from hemtra.core.plan.kind import Given, Input, Kind, Outcome
from hemtra.core.plan.registry import register

FEWEST = 8


class _Profiled(Kind):
    """Peak to valley of a profile of deviations, by medians over short pieces so that noise is not form."""

    output: ClassVar = Number
    unit: ClassVar = "mm"

    cell: float = setting(
        1.0,
        "mean over",
        "The median over pieces of this length counts, so that noise is not taken for form.",
        unit="mm",
        gt=0.0,
        le=100.0,
    )

    @abstractmethod
    def _profile(self, given: Given) -> tuple[FloatArray, FloatArray, Point]:
        """Place along the line in mm and deviation (n,) in mm, and where to point at."""

    def evaluate(self, given: Given) -> Outcome:
        """Greatest minus least deviation in mm."""
        along, off, at = self._pieces(given)
        facts = (("farthest", f"{float(np.abs(off).max()):.4f} mm"), ("pieces", str(along.size)))
        return Outcome(Number(float(np.ptp(off)), "mm", at), facts)

    def explain(self, given: Given, outcome: Outcome) -> Evidence:
        """The profile of deviations."""
        along, off, _ = self._pieces(given)
        ends = (float(along[np.argmin(off)]), float(along[np.argmax(off)]))
        return Evidence((), Curve("deviation along the line", along, off, ends, "mm"))

    def _pieces(self, given: Given) -> tuple[FloatArray, FloatArray, Point]:
        along, off, at = self._profile(given)
        if along.size < FEWEST:
            raise NotMeasured(f"it was seen at {along.size} places, and form needs {FEWEST}")
        piece = np.floor((along - along.min()) / self.cell).astype(np.int64)
        count = np.bincount(piece)
        full = np.flatnonzero(count >= max(1.0, 0.5 * np.median(count[count > 0])))
        if full.size < 3:
            raise NotMeasured("it is too short for pieces of that length; average over less")
        # medians, so that a stray crossing is not form either
        middle = [np.array([float(np.median(part[piece == k])) for k in full]) for part in (along, off)]
        return middle[0], middle[1], at


@register
class StraightnessKind(_Profiled):
    """Straightness of an edge (ISO 12780-1, LSLI)."""

    kind: ClassVar = "straightness"
    title: ClassVar = "Straightness"
    glyph: ClassVar = "straightness"
    inputs: ClassVar = {"edge": Input(FoundEdge, "of", "The edge.")}

    def _profile(self, given: Given) -> tuple[FloatArray, FloatArray, Point]:
        edge = given.one("edge", FoundEdge)
        places = np.empty((0, 2)) if edge.places is None else edge.places
        if len(places) < 2:
            raise NotMeasured("the edge was seen at too few places")
        ux, uy = edge.along
        u, v = places[:, 0] - edge.x, places[:, 1] - edge.y
        along, off = u * ux + v * uy, v * ux - u * uy
        slope, middle = np.polyfit(along, off, 1)
        return along, off - slope * along - middle, Point(edge.x, edge.y, edge.z)


@register
class RoundnessKind(_Profiled):
    """Roundness of a rim (ISO 12181-1, LSCI)."""

    kind: ClassVar = "roundness"
    title: ClassVar = "Roundness"
    glyph: ClassVar = "roundness"
    inputs: ClassVar = {"circle": Input(FoundCircle, "of", "The rim.")}

    def _profile(self, given: Given) -> tuple[FloatArray, FloatArray, Point]:
        circle = given.one("circle", FoundCircle)
        places = np.empty((0, 2)) if circle.places is None else circle.places
        u, v = places[:, 0] - circle.x, places[:, 1] - circle.y
        turn = np.arctan2(v, u)
        # once about the least-squares centre of exactly these points
        off = np.hypot(u, v)
        design = np.column_stack([np.ones(u.size), np.cos(turn), np.sin(turn)])
        if u.size >= 3:
            off = off - design @ np.linalg.lstsq(design, off, rcond=None)[0]
        return (turn + math.pi) * circle.radius, off, Point(circle.x, circle.y, circle.z)
