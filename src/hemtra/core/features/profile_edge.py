"""Edge on a section: where its height crosses a level, or changes most steeply."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.features.section import Cut
from hemtra.core.form import setting
from hemtra.core.geometry.elements import Point
from hemtra.core.marks import Curve, Evidence, Polyline
from hemtra.core.plan.kind import Given, Input, Kind, Outcome
from hemtra.core.plan.registry import register
from hemtra.core.scan.edge_kernels import SHADOWED

TICK = 0.6
"""Half height in mm of the stroke that marks the edge."""


@register
class ProfileEdgeKind(Kind):
    """An edge on a section."""

    kind: ClassVar = "profile-edge"
    title: ClassVar = "Edge on a section"
    glyph: ClassVar = "edge"
    output: ClassVar = Point
    section_input: ClassVar = "section"
    inputs: ClassVar = {"section": Input(Cut, "on", "The section whose edge is wanted.")}

    by: Literal["steepest", "level", "data"] = setting(
        "steepest",
        "found by",
        "The steepest change of height, where the height crosses a level, or where the data ends: the edge of"
        " a gap too deep to see into falls where it ends and rises where it begins again.",
        choices={"steepest": "steepest change", "level": "crossing of a level", "data": "end of the data"},
    )
    level: float = setting(
        0.0,
        "level",
        "Height of the crossing, counted from what the section follows.",
        unit="mm",
        when={"by": ("level",)},
        ge=-1e4,
        le=1e4,
    )
    change: Literal["rises", "falls", "either"] = setting(
        "either",
        "surface",
        "How the height changes along the section.",
        choices={"rises": "rises", "falls": "falls", "either": "rises or falls"},
    )
    pick: Literal["strongest", "first", "last"] = setting(
        "strongest",
        "take",
        "Which of several edges counts.",
        choices={"strongest": "strongest", "first": "first", "last": "last"},
    )
    sensitivity: float = setting(
        30.0,
        "at least",
        "Edges weaker than this share of the strongest one do not count.",
        unit="%",
        ge=1.0,
        le=100.0,
    )

    def evaluate(self, given: Given) -> Outcome:
        """A `Point`; facts: place and how steep it is there."""
        cut = given.one("section", Cut)
        places, heights, steepness = self.candidates(given)
        counted = np.flatnonzero(
            np.abs(steepness) >= self.sensitivity / 100.0 * np.abs(steepness).max(initial=0.0)
        )
        if counted.size == 0:
            where = {"level": "crosses its level", "data": "ends", "steepest": "steps"}[self.by]
            raise NotMeasured(f"the section nowhere {where}; move the zone, or let it rise or fall")
        best = {"first": 0, "last": -1, "strongest": int(np.argmax(np.abs(steepness[counted])))}[self.pick]
        k = counted[best]
        point = cut.place(float(places[k]), float(heights[k]))
        facts = (
            ("at", f"{places[k]:.3f} mm"),
            ("steepness", f"{abs(steepness[k]):.2f} mm/mm"),
            ("candidates", str(counted.size)),
        )
        return Outcome(point, facts)

    def explain(self, given: Given, outcome: Outcome) -> Evidence:
        """The edge, and how steep the section is, with all that could have been taken."""
        p: Point = outcome.value
        cut = given.one("section", Cut)
        places, _, steepness = self.candidates(given)
        strong = np.abs(steepness) >= self.sensitivity / 100.0 * np.abs(steepness).max(initial=0.0)
        inside = cut.within(given.zone)
        x, z = cut.x[inside], cut.z[inside]
        steep = np.abs(np.gradient(z, x)) if x.size > 2 else z
        stroke = np.array([(p.x, p.y, p.z - TICK), (p.x, p.y, p.z + TICK)])
        chosen = tuple(float(v) for v in places[strong])
        return Evidence(
            (Polyline(stroke, "fit"),), Curve("steepness along the section", x, steep, chosen, "mm/mm")
        )

    def candidates(self, given: Given) -> tuple[FloatArray, FloatArray, FloatArray]:
        """Places in mm along the section, heights and steepness (n,) of all edges, in their order."""
        cut = given.one("section", Cut)
        inside = cut.within(given.zone)
        x, z = cut.x[inside], cut.z[inside]
        if x.size < 3:
            raise NotMeasured(f"the section holds only {x.size} points here; an edge needs three")
        if self.by == "data":
            found = _ends_of_data(cut, inside)
        else:
            found = _crossings(x, z, self.level) if self.by == "level" else _steepest(x, z)
        wanted = {"rises": found[2] > 0, "falls": found[2] < 0, "either": found[2] != 0}[self.change]
        places, heights, steepness = (part[wanted] for part in found)
        return places, heights, steepness


def _crossings(x: FloatArray, z: FloatArray, level: float) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Where straight pieces between neighbours cross a level."""
    above = z > level
    k = np.flatnonzero(above[1:] != above[:-1])
    rise, run = z[k + 1] - z[k], x[k + 1] - x[k]
    return x[k] + (level - z[k]) / rise * run, np.full(k.size, level), rise / run


def _ends_of_data(cut: Cut, inside: BoolArray) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Half a sample beyond the last point before each gap, and before the first behind it; as wide as that.

    Gaps of fewer than `SHADOWED` samples are dropouts.
    """
    found = np.flatnonzero(inside)
    gaps = np.flatnonzero(np.diff(found) > SHADOWED)
    before, after = found[gaps], found[gaps + 1]
    half = float(np.median(np.diff(cut.x))) / 2
    wide = cut.x[after] - cut.x[before]
    places = np.concatenate([cut.x[before] + half, cut.x[after] - half])
    order = np.argsort(places, kind="stable")
    heights, sizes = np.concatenate([cut.z[before], cut.z[after]]), np.concatenate([-wide, wide])
    return places[order], heights[order], sizes[order]


def _steepest(x: FloatArray, z: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Steepest places between neighbours, to fractions of a step by a parabola through three slopes."""
    slope = np.diff(z) / np.diff(x)
    size = np.abs(slope)
    before, after = np.append(-1.0, size[:-1]), np.append(size[1:], -1.0)
    peaks = np.flatnonzero((size > before) & (size >= after) & (size > 0.0))
    same = np.sign(slope)
    middle = (x[1:] + x[:-1]) / 2
    shift = np.zeros(peaks.size)
    for n, k in enumerate(peaks):
        if 0 < k < size.size - 1 and same[k - 1] == same[k] == same[k + 1]:
            bend = size[k - 1] - 2 * size[k] + size[k + 1]
            shift[n] = 0.5 * (size[k - 1] - size[k + 1]) / bend if bend < 0 else 0.0
    place = middle[peaks] + shift * (x[peaks + 1] - x[peaks])
    return place, np.interp(place, x, z), slope[peaks]
