"""Stretches of a section without data, and the bounds that what lies beside them gives."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.coverage import Coverage
from hemtra.core.detection.unseen import SMALL_MM, falls_short
from hemtra.core.runs import runs

BESIDE_MM, FEWEST = 0.5, 3
"""Stretch beside a gap whose slope continues into it, mm, and the points it has at least."""


@dataclass(frozen=True)
class SectionGaps:
    """Gaps between two points of a section: (n,) mm long, and mm between which the surface lies in each.

    rim_low, rim_high: (n,) mm, of the points at their ends. span: mm that were looked at; points: in it.
    """

    long: FloatArray
    low: FloatArray
    high: FloatArray
    rim_low: FloatArray
    rim_high: FloatArray
    span: float
    points: int

    def coverage(self, height: float, top: bool) -> Coverage:
        """Of the stretch looked at, for the highest or lowest point at some height, mm."""
        small = (self.long <= SMALL_MM) | falls_short(
            (self.long, self.long), (self.rim_low, self.rim_high), height, top
        )
        span = max(self.span, float(self.long.sum())) or 1.0
        seen, filled = 1.0 - float(self.long.sum()) / span, float(self.long[small].sum()) / span
        return Coverage(seen, float(self.long[~small].max(initial=0.0)), filled, 0, self.points)

    def farthest(self, top: bool) -> float:
        """Highest or lowest height that may lie unseen, mm; infinitely low or high without a gap."""
        return float(self.high.max(initial=-np.inf) if top else self.low.min(initial=np.inf))


def section_gaps(x: FloatArray, z: FloatArray, first: int, last: int) -> SectionGaps:
    """Gaps of a section z (m,) at x (m,) between two of its points, and those right beside these.

    What arches over a gap lies below the tangents at both of its ends, and what sags into it above them; but in
    the shadow of a step its upper side may continue as it rises.
    """
    known = ~np.isnan(z)
    before, behind = np.flatnonzero(known[:first]), np.flatnonzero(known[last + 1 :])
    start = int(before[-1]) if before.size else first
    end = last + 1 + int(behind[0]) if behind.size else last
    found: list[tuple[float, ...]] = []
    for at, many in runs(~known[start : end + 1], False):
        a, b = start + at - 1, start + at + many
        wide = float(x[b] - x[a])
        rise = _slope(x, z, a, -1) * wide, _slope(x, z, b, 1) * wide
        rims = float(z[a]), float(z[b])
        under = _roof((-rims[0], -rims[1]), (-rise[0], -rise[1]))
        roof = _roof(rims, rise)
        if abs(rims[0] - rims[1]) >= wide / 2.0:
            roof = max(roof, max(rims) + max(rise[int(np.argmax(rims))], 0.0))
        found.append((wide, -under, roof, min(rims), max(rims)))
    long, low, high, rim_low, rim_high = np.array(found, np.float64).reshape(-1, 5).T
    span, points = float(x[end] - x[start]), int(end - start) + 1
    return SectionGaps(long, low, high, rim_low, rim_high, span, points)


def _slope(x: FloatArray, z: FloatArray, rim: int, way: int) -> float:
    """Slope towards a gap beside its rim, from the data that continues away from it."""
    far = rim
    while 0 <= far + way < x.size and not np.isnan(z[far + way]):
        far += way
        if abs(x[far] - x[rim]) >= BESIDE_MM and abs(far - rim) + 1 >= FEWEST:
            break
    if abs(far - rim) + 1 < FEWEST:
        return 0.0
    part = slice(min(rim, far), max(rim, far) + 1)
    off = x[part] - x[part].mean()
    return -way * float(off @ z[part]) / float(off @ off)


def _roof(rims: tuple[float, float], rise: tuple[float, float]) -> float:
    """Highest place below the tangents at both rims, which rise so much over the whole of the gap."""
    (a, b), (left, right) = rims, rise
    share = (b - a + right) / (left + right) if left > 0.0 and right > 0.0 else 0.0
    return max(a, b, a + left * min(max(share, 0.0), 1.0))
