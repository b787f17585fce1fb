"""Uncertainty budget of a value."""

from __future__ import annotations

import math
from typing import Annotated, ClassVar

from pydantic import BaseModel, ConfigDict, Field

USUAL_COVERAGE = 2.0
"""Coverage factor k of an expanded uncertainty U = k u, for about 95 % of a normal distribution."""
NEAR = 3.0
"""Standard deviations of its coordinates below which a length cannot be distinguished from zero."""
RAYLEIGH = math.sqrt(math.pi / 2.0)
"""Mean length of two coordinates that scatter about zero, in standard deviations of each."""
Share = Annotated[float, Field(ge=0.0, allow_inf_nan=False)]


class Budget(BaseModel):
    """Standard uncertainty of a value by source, each in the unit of its row (JCGM 100).

    Noise and spacing push the furthest of many the same way, outward; form and sampling are added as they are
    there, elsewhere as squares.

    noise: of the points, as the scan scatters. sampling: what the spacing of the points does to it, wherever
    they lie. phase: where they come to lie on the part, and how it lies to their grid. unseen: what missing
    data leaves room for. anchors: what noise does to the features that its zones follow. calibration: scales of
    the station. form: what noise adds to a value that is never below zero, or the furthest of many. level: mm
    of noise of a point, and edges: mm by which edges that it rests on may lie off, on the scan that this was
    worked out on. edge_steps: ids of the steps that find these. floor: what a perfect part would read, of a
    value of form. outward: whether it is the furthest of many. magnitude: whether it is never below zero, as a
    distance between two places is. unit: of all shares. method: digest of how the row is measured, for which it
    was worked out.
    """

    noise: Share = 0.0
    sampling: Share = 0.0
    phase: Share = 0.0
    unseen: Share = 0.0
    anchors: Share = 0.0
    calibration: Share = 0.0
    form: Share = 0.0
    level: Share = 0.0
    edges: Share = 0.0
    edge_steps: tuple[str, ...] = ()
    floor: Share = 0.0
    outward: bool = False
    magnitude: bool = False
    unit: str = ""
    method: str = ""

    model_config = ConfigDict(frozen=True, extra="forbid")

    SOURCES: ClassVar = ("noise", "sampling", "phase", "unseen", "anchors", "calibration", "form")
    TITLES: ClassVar = {
        "noise": "point noise",
        "sampling": "spacing",
        "phase": "grid phase",
        "unseen": "unmeasured area",
        "anchors": "anchors",
        "calibration": "calibration",
        "form": "form floor",
    }

    @property
    def u(self) -> float:
        """The combined standard uncertainty."""
        return math.sqrt(sum(self._variances.values()))

    @property
    def _variances(self) -> dict[str, float]:
        """Variance by source; covariance of two sources is split in proportion."""
        found = {source: getattr(self, source) ** 2 for source in self.SOURCES}
        if self.outward:
            together = self.form + self.sampling
            found |= {"form": self.form * together, "sampling": self.sampling * together}
        return found

    @property
    def expanded(self) -> str:
        """The expanded uncertainty for about 95 %, with its unit: “U = 0.012 mm”."""
        return f"U = {USUAL_COVERAGE * self.u:.3g} {self.unit}".rstrip()

    @property
    def shares(self) -> dict[str, float]:
        """Share of the variance by source, 0 to 1, the largest first, without zeros."""
        variances = self._variances
        whole = sum(variances.values())
        found = {source: own / whole for source, own in variances.items() if own > 0.0}
        return dict(sorted(found.items(), key=lambda pair: -pair[1]))

    def on(self, value: float, level: float, edges: float) -> Budget:
        """The same on a part that reads `value`, whose points scatter by `level` mm and whose edges may lie off
        by `edges` mm; without what is unseen there. One that seems smoother is not known better for that: how
        rough it seems depends a little on how it lies.
        """
        rougher = max(level / self.level, 1.0) if self.level > 0.0 else 1.0
        wider = edges / self.edges if self.edges > 0.0 else 1.0
        noise, anchors, phase = self.noise * rougher, self.anchors * rougher, self.phase * wider
        form, scatter = self.form * rougher, math.hypot(noise, anchors, phase)
        if self.magnitude:
            form = max(form, lengthened(value, scatter))
        if self.floor > 0.0 and math.isfinite(value):
            # noise and form add as squares: the more there is of form, the less noise adds; but not less than
            # it did where this was worked out, since much of a surface may lie near its furthest place
            floor = self.floor * rougher
            added = floor * min(1.0, 2.0 * floor / max(abs(value), floor)) / math.sqrt(3.0)
            form = min(max(added, form), floor / math.sqrt(3.0))
        return self.model_copy(
            update={
                "noise": noise,
                "anchors": anchors,
                "form": form,
                "phase": phase,
                "unseen": 0.0,
                "level": level,
                "edges": edges,
            }
        )


def lengthened(value: float, scatter: float) -> float:
    """By how much a length may be too long since both of its coordinates scatter by so much (Rice 1945).

    Below `NEAR` standard deviations it cannot be distinguished from zero; one more, and it hardly is too long.
    """
    if scatter <= 0.0 or not math.isfinite(value):
        return 0.0
    return RAYLEIGH * scatter * min(max(NEAR + 1.0 - abs(value) / scatter, 0.0), 1.0)
