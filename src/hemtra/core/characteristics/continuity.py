"""Continuity along a path: breaks, length, volume, and how a closed bead closes."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import ClassVar, Literal

import numpy as np

from hemtra.core.arrays import BoolArray, IntArray
from hemtra.core.errors import NotMeasured
from hemtra.core.features.along_path import Along, Break
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Number, Point
from hemtra.core.marks import Evidence, Polyline
from hemtra.core.plan.kind import Input, Kind, Outcome, StepContext
from hemtra.core.plan.registry import register
from hemtra.core.plan.usual_limits import Limits, Span, usual_limits
from hemtra.core.runs import runs

TAKES = {
    "break": "longest break",
    "breaks": "number of breaks",
    "length": "total length",
    "volume": "volume",
    "overlap": "overlap at the closing point",
    "start": "where it starts",
    "end": "where it ends",
}
MORE = 1.3
"""Share of the median section area above which two path ends overlap."""


BREAK = 1.0
"""Longest break that drawings usually accept, mm."""


def _limits(found: Number, span: Span) -> Limits:
    if found.unit != "mm":
        return usual_limits(found, span)
    return {"upper": max(BREAK, math.ceil(found.value / BREAK) * BREAK)}


@register
class ContinuityKind(Kind):
    """Whether something goes all along a path, and how much of it there is."""

    kind: ClassVar = "continuity"
    limits_from: ClassVar = staticmethod(_limits)
    title: ClassVar = "Continuity along a path"
    glyph: ClassVar = "bead"
    output: ClassVar = Number
    revision: ClassVar = 2
    unit: ClassVar = "mm"
    inputs: ClassVar = {"of": Input(Along, "of", "The bead or groove along a path.")}

    take: Literal["break", "breaks", "length", "volume", "overlap", "start", "end"] = setting(
        "break", "take", "What is asked for.", choices=TAKES
    )
    least_break: float = setting(
        0.0,
        "a break is",
        "Shorter ones do not count.",
        unit="mm",
        when={"take": ("breaks",)},
        ge=0.0,
        le=1000.0,
    )
    unseen: float = setting(
        2.0,
        "longest data gap",
        "A longer gap could hide a break, so the value is NOT MEASURED.",
        unit="mm",
        ge=0.0,
        le=1000.0,
    )

    @property
    def convergence(self) -> float:
        """A volume is a sum of areas, which make up for the kinks that they end in."""
        return 2.0 if self.take == "volume" else 1.0

    @property
    def adds_up(self) -> bool:
        """A volume does, over all sections."""
        return self.take == "volume"

    def evaluate(self, given: StepContext) -> Outcome:
        """In mm, mm³ or a count. A section that was not measured beside a break counts as broken."""
        found = given.one("of", Along)
        there, count = found.present, found.at.size
        breaks = list(found.breaks)
        hidden = self._require_seen(found, ~there & ~found.absent, "a break there cannot be excluded")
        if self.take == "volume":
            unknown = np.isnan(found.values("area")) & ~found.absent
            self._require_seen(found, unknown, "how much is there is not known")
        value, unit, k = self._value(found, there, breaks)
        place = found.places()[k % count]
        facts = tuple(("break", f"{gap.start:.1f} mm, {gap.length:.1f} mm long") for gap in breaks[:3])
        number = Number(value, unit, Point(*map(float, place)))
        most = self._at_most(found, value, [many * found.spacing for _, many in hidden])
        return Outcome(number, facts, possible=(replace(number, value=most),) if most > value else ())

    def _at_most(self, found: Along, value: float, hidden: list[float]) -> float:
        """What it may be, where each hidden stretch (mm) held a break, or for a length what counts."""
        if self.take == "break":
            return max(value, *hidden, 0.0)
        if self.take == "breaks":
            return value + sum(length >= self.least_break for length in hidden)
        return value + sum(hidden) if self.take == "length" else value

    def _require_seen(self, found: Along, unseen: BoolArray, so: str) -> list[tuple[int, int]]:
        """First section and count of each stretch of (n,) sections that says nothing.

        Raises `NotMeasured` where one of them is too long.
        """
        stretches = runs(unseen, found.path.curve.closed)
        for first, many in stretches:
            if many * found.spacing > self.unseen:
                reason = found.reasons.get(int(found.state[first]), "it could not be measured")
                ends = found.at[first], (found.at[first] + many * found.spacing) % found.path.curve.length
                raise NotMeasured(f"from {ends[0]:.1f} to {ends[1]:.1f} mm {reason}; {so}")
        return stretches

    @property
    def value_unit(self) -> str:
        """Unit of a volume, a count, or a length."""
        return {"volume": "mm³", "breaks": ""}.get(self.take, "mm")

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """Each break, drawn along the path."""
        found = given.one("of", Along)
        places, marks = found.places(), []
        for run in runs(~found.present, found.path.curve.closed):
            marks.append(Polyline(places[_of((run[0] - 1, run[1] + 2), found.at.size)], "left-out"))
        return Evidence(tuple(marks))

    def _value(self, found: Along, there: BoolArray, breaks: list[Break]) -> tuple[float, str, int]:
        """The number, its unit, and the section it belongs to."""
        spacing = found.spacing
        if self.take == "break":
            longest = max(breaks, key=lambda gap: gap.length, default=Break(0.0, 0.0, 0, 0))
            return longest.length, "mm", longest.first + longest.many // 2
        if self.take == "breaks":
            counted = [gap for gap in breaks if gap.length >= self.least_break]
            return float(len(counted)), "", counted[0].first if counted else 0
        if self.take == "volume":
            return _volume(found, there), "mm³", int(np.argmax(there))
        if self.take == "overlap":
            return _overlap(found, breaks), "mm", 0
        if not there.any():
            raise NotMeasured("there is nothing along the path")
        if self.take == "length":
            shares = np.full(found.at.size, spacing)
            if not found.path.curve.closed:
                shares[[0, -1]] = spacing / 2
            return float(shares[there].sum()), "mm", int(np.argmax(there))
        k = int(np.argmax(there)) if self.take == "start" else int(there.size - 1 - np.argmax(there[::-1]))
        return float(found.at[k]), "mm", k


def _of(run: tuple[int, int], count: int) -> IntArray:
    """The indices of a run, which may go round the start."""
    indices: IntArray = np.arange(run[0], run[0] + run[1]) % count
    return indices


def _volume(found: Along, there: BoolArray) -> float:
    """mm³: section areas over the way that their middle goes (Pappus), straight over what was not measured."""
    area = np.where(found.absent, 0.0, found.values("area"))
    known = ~np.isnan(area)
    if not known.any() or not there.any():
        return 0.0
    curve, spacing = found.path.curve, found.spacing
    area = np.interp(found.at, found.at[known], area[known], period=curve.length if curve.closed else None)
    # right of a path that turns left is the longer way
    stretch = 1.0 + curve.curvature(found.at) * np.nan_to_num(found.table[:, found.centre])
    shares = np.full(area.size, spacing)
    if not curve.closed:
        shares[[0, -1]] = spacing / 2
    return float((area * stretch * shares).sum())


def _overlap(found: Along, breaks: list[Break]) -> float:
    """Overlap of two ends about the start, mm; below zero where they do not meet."""
    if not found.path.curve.closed:
        raise NotMeasured("an open path does not close; only a closed one has a closing point")
    count = found.at.size
    for gap in breaks:
        if 0 in _of((gap.first - 1, gap.many + 2), count):
            return -gap.length
    area = found.values("area")
    usual = float(np.nanmedian(area)) if not np.isnan(area).all() else 0.0
    for run in runs(np.nan_to_num(area) > MORE * usual, True):
        if 0 in _of((run[0] - 1, run[1] + 2), count):
            return run[1] * found.spacing
    return 0.0
