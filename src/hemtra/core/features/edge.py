"""Edge: a straight edge found on many scan lines across a zone."""

from __future__ import annotations

import math
from dataclasses import astuple, dataclass, field
from typing import ClassVar, Literal

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.coverage import WHOLE, Coverage
from hemtra.core.detection.edge_lines import CHANGES, PICKS, ends_below, parting
from hemtra.core.detection.margin_kernels import parted_by_line
from hemtra.core.errors import NotMeasured
from hemtra.core.features.edge_detection import BLIND, SeenBySteps
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Line
from hemtra.core.geometry.profile_fits import robust_line
from hemtra.core.geometry.section_edge_kernels import STEEPEST, edge_candidates
from hemtra.core.maps.section import section
from hemtra.core.marks import Curve, Evidence, Polyline, Strokes
from hemtra.core.plan.kind import Outcome, StepContext
from hemtra.core.plan.registry import register
from hemtra.core.runs import runs
from hemtra.core.zones.zone import AnyZone

FEWEST = 5
"""Scan lines that must show the edge."""
MOST_LINES = 600
LEAST_CANDIDATE = 0.2
"""Share of the steepest place above which another is offered to be taken."""
FLOOR = 0.2
"""Points of the map by which a crossing may always be off the line."""
FLOOR_OF_STAIRS = 0.5
"""The same where crossings only part points: nearly along these they make stairs, and no stair is the edge."""
FLOOR_OF_STEP = 0.0005
"""Share of its step by which that of a scan line may always be off."""
MOST_OF_EDGE = 0.7
"""Share of the scan lines that must have the step for those at the ends to be left out."""


@dataclass(frozen=True, slots=True)
class FoundEdge(Line):
    """An edge with the share of scan lines it was seen on and their residual RMS in mm."""

    share: float = 0.0
    rms: float = 0.0
    places: FloatArray | None = field(default=None, compare=False)
    """(n, 2) everywhere it was seen, in mm; form must not leave out what lies off the line."""
    coverage: Coverage = WHOLE
    """Statistics of the scan lines across it."""
    spread: float = 0.0
    """Position uncertainty at its middle, as the points of the map show it, mm."""


def seen_on(seen: BoolArray, step: float, *, closed: bool = False) -> Coverage:
    """Coverage of an edge or rim looked for on lines `step` mm apart; seen: (n,) on which it shows."""
    if seen.all():
        return Coverage(points=seen.size)
    longest = max((many for _, many in runs(~seen, closed)), default=0)
    return Coverage(float(seen.mean()), longest * step, points=seen.size)


@register
class EdgeKind(SeenBySteps):
    """A straight edge across which the surface steps."""

    kind: ClassVar = "edge"
    title: ClassVar = "Edge"
    glyph: ClassVar = "edge"
    output: ClassVar = FoundEdge
    revision: ClassVar = 2
    change: Literal["falls", "rises", "either"] = setting(
        "either",
        "surface",
        "How the surface changes along the zone's width, that is in the direction of its arrow.",
        choices=CHANGES,
    )
    pick: Literal["strongest", "first", "last", "nearest"] = setting(
        "strongest", "take", "Which of several edges on a scan line counts.", choices=PICKS
    )
    place: float = setting(
        0.0,
        "its place",
        "Where the edge lies on the reference part, along the zone's width from its middle.",
        unit="mm",
        when={"pick": ("nearest",)},
        ge=-1e4,
        le=1e4,
    )

    def evaluate(self, given: StepContext) -> Outcome:
        """A `FoundEdge`: its direction is that of the zone's height; facts: residual RMS and scan lines."""
        v, found, _ = self._crossings(given)
        zone, seen = given.zone, ~np.isnan(found[:, 0])
        assert zone is not None
        share = float(np.count_nonzero(seen)) / len(v)
        if np.count_nonzero(seen) < FEWEST or 100.0 * share < self.least_seen:
            raise NotMeasured(
                f"an edge shows on {np.count_nonzero(seen)} of {len(v)} scan lines,"
                f" and {max(FEWEST, math.ceil(self.least_seen / 100 * len(v)))} are needed;"
                " move the zone across the edge, or let smaller steps count"
            )
        place, level, used, spread = self._fitted(given, v, found)
        middle = float(v[seen].mean())
        x, y = zone.outward(np.array([place[0] + place[1] * middle]), np.array([middle]))[0]
        stretch = math.hypot(1.0, place[1])
        left = found[seen, 0] - place[0] - place[1] * v[seen]
        rms = float(np.sqrt(np.mean(left[used] ** 2))) / stretch
        edge = FoundEdge(
            float(x),
            float(y),
            float(level[0] + level[1] * middle),
            (zone.rotation + 90.0 - math.degrees(math.atan(place[1])) + 180.0) % 360.0 - 180.0,
            float(np.ptp(v[seen])) * stretch,
            float(level[1]) / stretch,
            share=share,
            rms=rms,
            places=zone.outward(found[seen, 0], v[seen]),
            coverage=seen_on(seen, zone.height / len(v)),
            spread=spread,
        )
        facts = (
            ("direction", f"{edge.direction:.3f}°"),
            ("residual RMS", f"{rms * 1000:.0f} µm"),
            ("scan lines", f"{np.count_nonzero(used)} of {len(v)}"),
            *known_to(spread),
            *self._at_level(edge.z, parting(found[seen]).step),
        )
        return Outcome(edge, facts, BLIND if parting(found[seen]).blind else "")

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The crossings, used and left out, the line, and how steep the surface is across the zone."""
        edge, zone = outcome.value, given.zone
        assert zone is not None
        v, found, spacing = self._crossings(given)
        _, _, used, _ = self._fitted(given, v, found)
        seen = ~np.isnan(found[:, 0])
        v, found = v[seen], found[seen]
        apart = min(given.data.grid.dx, given.data.grid.dy) if parting(found).parts else 0.0
        places = zone.outward(found[:, 0], v)
        a, b = edge.ends()
        marks = (
            *crossed(places, found[:, 1], used, np.full(len(v), zone.rotation), (spacing, apart)),
            Polyline(np.array([(p.x, p.y, p.z) for p in (a, b)]), "fit"),
        )
        ux, uy = math.cos(math.radians(zone.rotation)), math.sin(math.radians(zone.rotation))
        half = zone.width / 2
        ends = ((zone.x + side * half * ux, zone.y + side * half * uy) for side in (-1, 1))
        profile = section(given.data, next(ends), next(ends), width=zone.height)
        steep = np.abs(np.gradient(profile.z, profile.x)) if profile.x.size > 2 else profile.z
        at = ux * (edge.x - zone.x) + uy * (edge.y - zone.y)
        x, known = profile.x - half, ~np.isnan(profile.z)
        near = edge_candidates(x, profile.z, known, STEEPEST, 0.0)
        strength = np.abs(near[:, 2])
        strong = near[strength >= LEAST_CANDIDATE * strength.max(initial=0.0), 0]
        curve = Curve(
            "steepness across the zone; click an edge to select it",
            x,
            steep,
            (at,),
            "mm/mm",
            candidates=tuple(float(v) for v in strong),
            place="place",
            taken=(("pick", "nearest"),),
        )
        return Evidence(marks, curve)

    def _crossings(self, given: StepContext) -> tuple[FloatArray, FloatArray, float]:
        """Positions of scan lines along the zone's height, their edges (n, 4), and their spacing."""
        zone, grid = given.zone, given.data.grid
        if zone is None:
            raise NotMeasured("it has no zone; draw one across the edge")
        given.window()
        count = int(np.clip(round(zone.height / max(grid.dx, grid.dy)), 2, MOST_LINES))
        v = zone.height * ((np.arange(count) + 0.5) / count - 0.5)
        starts = zone.outward(np.zeros(count), v)
        angle = math.radians(zone.rotation)
        ux, uy = math.cos(angle), math.sin(angle)
        shift = self.place if self.pick == "nearest" else 0.0
        starts = starts + shift * np.array([ux, uy])
        lines = np.column_stack([starts, np.full(count, ux), np.full(count, uy)])
        reach = zone.width / 2 + abs(shift)
        found = self._seen(given.data, lines, reach, self._wanted(self.change, self.pick))
        found[:, 0] += shift
        inside = _inside(zone, found, v)
        found[~inside] = np.nan
        return v, found, zone.height / count

    def _fitted(
        self, given: StepContext, v: FloatArray, found: FloatArray
    ) -> tuple[FloatArray, FloatArray, BoolArray, float]:
        """Place across the zone and upper level as lines over v, which crossings were used, and the spread.

        The line of the crossings, or of all points about it where these only part points on the level.
        """
        zone, grid, seen = given.zone, given.data.grid, ~np.isnan(found[:, 0])
        assert zone is not None
        spacing = max(grid.dx, grid.dy)
        place, level, used = _fitted(v[seen], found[seen], spacing)
        part = parting(found[seen])
        way = float(np.sign(found[seen, 3].sum()))
        if not part.parts or self.wall == "foot" or way == 0.0:
            return place, level, used, 0.0
        good = seen.copy()
        good[seen] = used & (np.sign(found[seen, 3]) == way)
        angle = math.radians(zone.rotation)
        frame, below = (zone.x, zone.y, math.cos(angle), math.sin(angle)), ends_below(part.step, self.wall)
        heights = (level[0], level[1], below)
        moved, turned, spread = parted_by_line(
            given.data.z,
            astuple(grid),
            frame,
            zone.height / 2,
            (place[0], place[1]),
            heights,
            way,
            part.shadow,
            good,
        )
        if not abs(moved) + abs(turned) * zone.height / 2 <= spacing:
            return place, level, used, 0.0
        return place + np.array([moved, turned]), level, used, spread


def known_to(spread: float) -> tuple[tuple[str, str], ...]:
    """Fact: how well the points of the map fix the edge; nothing where that was not requested."""
    return (("place known to", f"±{spread * 1000:.0f} µm"),) if spread > 0.0 else ()


def crossed(
    places: FloatArray, z: FloatArray, used: BoolArray, across: FloatArray, size: tuple[float, float]
) -> tuple[Strokes, Strokes]:
    """Marks of the crossings (n, 2) at heights (n,), those used and those left out.

    across: (n,) degrees in which the lines run that they lie on. size: mm of a stroke, and of the way from the
    last point seen to the first that no longer is, where the edge parts these: then each has its stroke.
    """
    long, apart = size
    turn = np.radians(across)
    way = np.column_stack([np.cos(turn), np.sin(turn)])
    sides = (-0.5, 0.5) if apart > 0.0 else (0.0,)
    length = (0.5 if apart > 0.0 else 1.0) * long

    def marks(kept: BoolArray) -> FloatArray:
        here = np.concatenate([places[kept] + side * apart * way[kept] for side in sides])
        half = length / 2 * np.tile(np.column_stack([-way[kept, 1], way[kept, 0]]), (len(sides), 1))
        heights = np.tile(z[kept], len(sides))
        return np.stack([np.column_stack([here + end * half, heights]) for end in (-1, 1)], axis=1)

    return Strokes(marks(used), "used-data"), Strokes(marks(~used), "left-out")


def _inside(zone: AnyZone, found: FloatArray, v: FloatArray) -> BoolArray:
    """Mask of the crossings inside the zone, its cut-outs and its height band."""
    u = np.where(np.isnan(found[:, 0]), 0.0, found[:, 0])
    x, y = zone.outward(u, v).T
    inside = zone.contains(x, y)
    return inside if zone.band is None else inside & zone.band.holds(x, y, found[:, 1])


def _fitted(v: FloatArray, found: FloatArray, spacing: float) -> tuple[FloatArray, FloatArray, BoolArray]:
    """Place across the zone and upper level as lines over v, and which crossings were used.

    Towards an end of the zone the upper level may run out before a corner; half way down the rest of the
    step is no place of this edge. Only such ends are left out: a notch between them counts.
    """
    whole, part = np.ones(v.size, np.bool_), parting(found)
    if part.step > 0.0 and not part.parts:
        *_, alike = robust_line(v, found[:, 1] - found[:, 2], FLOOR_OF_STEP * part.step)
        held = np.flatnonzero(alike)
        if held.size >= max(FEWEST, MOST_OF_EDGE * v.size):
            whole[: held[0]] = whole[held[-1] + 1 :] = False
    floor = FLOOR_OF_STAIRS if part.parts else FLOOR
    height, slope, weight = robust_line(v[whole], found[whole, 0], floor * spacing)
    used = whole.copy()
    used[whole] = weight > 0.0
    level, climb, _ = robust_line(v[used], found[used, 1], 0.002)
    return np.array([height, slope]), np.array([level, climb]), used
