"""Form of edges and rims: straightness and roundness."""

from __future__ import annotations

import math
from abc import abstractmethod
from collections.abc import Mapping
from typing import ClassVar

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.features.circle import FoundCircle
from hemtra.core.features.edge import FoundEdge
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Circle, Line, Number, Point
from hemtra.core.marks import Curve, Evidence
from hemtra.core.plan.kind import Input, Kind, Outcome, StepContext
from hemtra.core.plan.registry import register
from hemtra.core.plan.usual_limits import form_limits

FEWEST = 8
TOGETHER = 3
"""Neighbouring places that show something that is no stray crossing."""
STANDS_OUT = 4.0
"""Standard deviations of the scatter from which on what neighbours show together is form and not scatter."""
LOCAL_MM = 0.3
"""Stretch of an edge in mm over which a local size is the median."""


def pieces(along: FloatArray, off: FloatArray, cell: float) -> tuple[FloatArray, tuple[float, float]]:
    """Medians of deviations (n,) over pieces of a length (mm), and the lowest and highest that stand out.

    Medians, so that scatter is not form. What three neighbouring places show beyond the pieces, by more than
    scatter explains, counts in full: a notch, a burr. Where nothing does, the extremes are those of the pieces.
    """
    order = np.argsort(along, kind="stable")
    along, off = along[order], off[order]
    piece = np.floor((along - along[0]) / cell).astype(np.int64)
    count = np.bincount(piece)
    full = np.flatnonzero(count >= max(1.0, 0.5 * np.median(count[count > 0])))
    middle = np.array([float(np.median(off[piece == k])) for k in full])
    low, high = float(middle.min(initial=np.inf)), float(middle.max(initial=-np.inf))
    if off.size >= 2 * TOGETHER and middle.size:
        scatter = float(np.median(np.abs(np.diff(off)))) / 0.6745 / np.sqrt(2.0)
        three = np.lib.stride_tricks.sliding_window_view(off, TOGETHER)
        least, most = float(three.max(axis=1).min()), float(three.min(axis=1).max())
        reach = STANDS_OUT * max(scatter, 1e-6)
        low = least if least < low - reach else low
        high = most if most > high + reach else high
    return middle, (low, high)


def local_sizes(one: FloatArray, other: FloatArray, along: FloatArray) -> tuple[FloatArray, FloatArray]:
    """(n, 2, 2) places in mm across from each other on two edges, and (n,) their distances (ISO 14405-1, LP).

    one, other: (m, 2) places of the edges in mm. along: (2,) their mean direction. Each place is the median of
    what lies within `LOCAL_MM`, at least three, so that one stray crossing is no size.
    """
    u = along / np.linalg.norm(along)
    w = np.array([-u[1], u[0]])
    sides = []
    for places in (one, other):
        order = np.argsort(places @ u, kind="stable")
        t, s = (places @ u)[order], (places @ w)[order]
        step = float(np.median(np.diff(t))) if t.size > 1 else LOCAL_MM
        reach = max(TOGETHER // 2, round(LOCAL_MM / 2 / max(step, 1e-9)))
        padded = np.pad(s, reach, mode="edge")
        sides.append((t, np.median(np.lib.stride_tricks.sliding_window_view(padded, 2 * reach + 1), axis=1)))
    (t, s), (t2, s2) = sides
    both = (t >= t2[0]) & (t <= t2[-1])
    if not both.any():
        raise NotMeasured("edges do not overlap; place their zones opposite each other")
    t, s = t[both], s[both]
    across = np.interp(t, t2, s2)
    pairs = np.stack([t[:, None] * u + s[:, None] * w, t[:, None] * u + across[:, None] * w], axis=1)
    sizes: FloatArray = np.abs(across - s)
    return pairs, sizes


class _Profiled(Kind):
    """Peak to valley of a profile of deviations, by medians over short pieces so that noise is not form."""

    limits_from: ClassVar = staticmethod(form_limits)
    output: ClassVar = Number
    unit: ClassVar = "mm"
    revision: ClassVar = 2
    least_coverage: ClassVar = 95.0

    cell: float = setting(
        1.0,
        "mean over",
        "The median over stretches of this length counts, so that noise is not taken for form. What three"
        " neighbouring points show beyond that still counts.",
        unit="mm",
        gt=0.0,
        le=100.0,
    )

    @abstractmethod
    def _profile(self, given: StepContext) -> tuple[FloatArray, FloatArray, Point]:
        """Place along the line in mm and deviation (n,) in mm, and where to point at."""

    def evaluate(self, given: StepContext) -> Outcome:
        """Greatest minus least deviation in mm."""
        along, off, at = self._profile(given)
        if along.size < FEWEST:
            raise NotMeasured(f"it was seen at {along.size} places, and form needs {FEWEST}")
        middle, (low, high) = pieces(along, off, self.cell)
        if middle.size < 3:
            raise NotMeasured("it is too short for stretches of that length; average over less")
        facts = (("farthest", f"{max(-low, high):.4f} mm"), ("stretches", str(middle.size)))
        return Outcome(Number(high - low, "mm", at), facts)

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The profile of deviations."""
        along, off, _ = self._profile(given)
        order = np.argsort(along, kind="stable")
        along, off = along[order], off[order]
        ends = (float(along[np.argmin(off)]), float(along[np.argmax(off)]))
        return Evidence((), Curve("deviation along the line", along, off, ends, "mm"))


@register
class StraightnessKind(_Profiled):
    """Straightness of an edge (ISO 12780-1, LSLI)."""

    kind: ClassVar = "straightness"
    title: ClassVar = "Straightness"
    glyph: ClassVar = "straightness"
    inputs: ClassVar = {"edge": Input(FoundEdge, "of", "The edge.")}

    def ideal(self, given: StepContext) -> Mapping[str, tuple[Line, ...]]:
        """The edge as a straight line."""
        return {"edge": (given.one("edge", FoundEdge),)}

    def _profile(self, given: StepContext) -> tuple[FloatArray, FloatArray, Point]:
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

    def ideal(self, given: StepContext) -> Mapping[str, tuple[Circle, ...]]:
        """The rim as a circle."""
        return {"circle": (given.one("circle", FoundCircle),)}

    def _profile(self, given: StepContext) -> tuple[FloatArray, FloatArray, Point]:
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
