"""Findings of a trial scan by cause: tilt, overlap steps, encoder, yaw, pitch, exposure."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.geometry.plane_fit import fit_plane
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.station.alignment import seam_between
from hemtra.core.text import percent

Remedy = Literal["level", "align", "encoder", "exposure", "correct", ""]

NEAR_BELT = 2.0
"""Search distance about the belt, mm."""
ABOVE_BELT = 3.0
"""Height above the belt from which on something is a part, mm."""
LEAST_BELT = 0.05
"""Share of the scan that must show the belt for its tilt to mean anything."""
TILTED = 0.1
"""Tilt at which a height is off by two micrometres per millimetre of distance, degrees."""
HEIGHT_OFF = 0.1
SEAM = 0.03
"""Step between two sensors that calls for an alignment, mm."""
STRETCHED = 0.015
"""Share by which a part may come out longer or shorter before the encoder is doubted."""
GROSS = 0.05
"""Share by which the belt's speed may differ from what it is set to; a belt slips and swings less than that."""
SKEWED = 0.3
"""Largest skew of a square part, degrees: five times what its ends, known to a row, can show."""
LEANING = 1.0
"""Laser pitch from which on a finding reports it, degrees."""
LEAST_SHIFT = 1.25
"""Rows by which something high must lie off the middle; half a row at either end is nothing."""
LEAST_RISE = 2.0
"""Height above the part's main face at which a raised region shows the laser's pitch, mm."""
WIDEST_GAP = 8.0
"""Travel without data that still lies within a part, mm."""
FEW_POINTS = 0.7
"""Share of the points that a part should show."""


@dataclass(frozen=True)
class Expected:
    """Known facts of the part and the line before the scan; None where unknown.

    length, width: of the part along and across travel, in mm. symmetric: whether what stands high on it lies in
    the middle of its length. square: whether its ends are at right angles to its sides. speed: mm/s that the
    belt is set to. seen_speed: mm/s that profiles and their times make of it, by the station's own resolution.
    by_clock: whether profiles come by a clock instead of the encoder.
    """

    length: float | None = None
    width: float | None = None
    symmetric: bool = False
    square: bool = True
    speed: float | None = None
    seen_speed: float | None = None
    by_clock: bool = False

    @property
    def speed_ratio(self) -> float:
        """Speed as the encoder counts it, as a multiple of what the belt is set to; 1 where it is not known."""
        if self.by_clock or not self.speed or not self.seen_speed:
            return 1.0
        return self.seen_speed / self.speed


@dataclass(frozen=True)
class Finding:
    """A finding in a sentence, and the guided task that helps."""

    text: str
    remedy: Remedy = ""


def findings(
    data: HeightMap, layers: Sequence[HeightMap], belt: float, expected: Expected
) -> tuple[Finding, ...]:
    """Findings in the scan of one part on a belt at a z in mm, the likeliest cause first.

    Causes are examined one by one, each by its own effect: the belt's plane by a tilt, a step between
    layers by sensors that stand apart, speed and length by the encoder, right angles by a laser line that is
    turned, the middle of what stands high by one that leans. layers: of several sensors what each one saw, from
    left to right.
    """
    return (*_belt(data, belt), *_seams(layers), *_part(data, belt, expected))


def _belt(data: HeightMap, belt: float) -> list[Finding]:
    flat = np.where(np.abs(data.z - belt) <= NEAR_BELT, data.z, np.float32(np.nan))
    if np.count_nonzero(~np.isnan(flat)) < LEAST_BELT * flat.size:
        return []
    try:
        fit = fit_plane(flat, None, trim=3.0)
    except NotMeasured:
        return []
    tilt = math.degrees(math.atan(math.hypot(fit.a / data.grid.dx, fit.b / data.grid.dy)))
    if tilt > TILTED:
        return [
            Finding(f"The belt is seen tilted by {tilt:.2f}°, and parts with it: level the sensor.", "level")
        ]
    if abs(fit.c - belt) > HEIGHT_OFF:
        return [
            Finding(f"The belt is seen {fit.c - belt:+.2f} mm from where it lies: level the sensor.", "level")
        ]
    return []


def _seams(layers: Sequence[HeightMap]) -> list[Finding]:
    for left, right in pairwise(layers):
        try:
            seam = seam_between(left, right)
        except NotMeasured:
            continue
        if abs(seam.step) > SEAM:
            text = f"Two sensors disagree by {abs(seam.step):.2f} mm where both see the part: align them."
            return [Finding(text, "align")]
    return []


def _part(data: HeightMap, belt: float, expected: Expected) -> list[Finding]:
    raised = data.z > belt + ABOVE_BELT
    rows = np.flatnonzero(raised.any(axis=1))
    if rows.size == 0:
        return [
            *speed_findings(expected),
            Finding("There is no part in the scan: check the trigger, its delay, and the view."),
        ]
    cut = _cut(data, rows)
    if cut:
        # an encoder that is grossly wrong moves the part out of the scan too
        return [*speed_findings(expected), Finding(cut)]
    outline = _Outline.of(raised, data)
    found = _skewed(outline, expected) + _stretched(outline, expected) + _leaning(data, belt, outline, expected)
    if found:
        return found
    cols = np.flatnonzero(raised.any(axis=0))
    window = data.z[rows[0] : rows[-1] + 1, cols[0] : cols[-1] + 1]
    share = 1.0 - np.count_nonzero(np.isnan(window)) / window.size
    if share < FEW_POINTS:
        return [Finding(f"Only {percent(share)} of the part give points: set the exposure.", "exposure")]
    return []


def _cut(data: HeightMap, rows: NDArray[np.int64]) -> str:
    """Cuts through the part, or more than one part; empty where there are none."""
    last = data.shape[0] - 1
    if rows[0] == 0 and rows[-1] == last:
        return "The part is longer than the scan, which is cut off at both ends: scan more."
    if rows[0] == 0:
        return "The scan begins within the part: let it begin sooner."
    if rows[-1] == last:
        return "The scan ends within the part: let it be longer, or begin later."
    if int(np.diff(rows).max(initial=1)) * data.grid.dy > WIDEST_GAP:
        return "There is more than one part in the scan: make it shorter, or feed parts farther apart."
    return ""


def speed_findings(expected: Expected) -> list[Finding]:
    """Contradiction between encoder and set speed, which also shows in a scan with missed profiles."""
    if abs(expected.speed_ratio - 1.0) <= GROSS:
        return []
    return [
        Finding(
            f"By the encoder the belt runs at {expected.seen_speed:.0f} mm/s, and it is set to"
            f" {expected.speed:g}: the encoder resolution is the likeliest cause; measure it.",
            "encoder",
        )
    ]


@dataclass(frozen=True)
class _Outline:
    """Start and end of a part, in mm: along travel in each of its columns, across in each of its rows."""

    x: FloatArray
    front: FloatArray
    rear: FloatArray
    y: FloatArray
    left: FloatArray
    right: FloatArray

    @classmethod
    def of(cls, raised: BoolArray, data: HeightMap) -> _Outline:
        """Extent of the raised region; rows and columns with little of it, such as corners, are left out."""
        grid = data.grid
        across, along = raised.any(axis=0), raised.any(axis=1)
        x, front, rear = _ends(raised[:, across].T, np.flatnonzero(across) * grid.dx, grid.dy)
        y, left, right = _ends(raised[along], np.flatnonzero(along) * grid.dy, grid.dx)
        return cls(x, front, rear, y, left, right)

    @property
    def length(self) -> float:
        """Length along travel, in the median column, mm."""
        return float(np.median(self.rear - self.front))

    @property
    def width(self) -> float:
        """Width across, in the median row, mm."""
        return float(np.median(self.right - self.left))

    @property
    def skew(self) -> float:
        """Deviation of ends and sides from the right angle, degrees, the ends turned counterclockwise."""
        ends = (_slope(self.x, self.front) + _slope(self.x, self.rear)) / 2
        sides = (_slope(self.y, self.left) + _slope(self.y, self.right)) / 2
        return math.degrees(math.atan(ends) + math.atan(sides))


def _ends(lines: BoolArray, at: FloatArray, step: float) -> tuple[FloatArray, FloatArray, FloatArray]:
    """First and last true sample of lines (n, m), in mm of `step` a sample, and the places of these lines."""
    first = lines.argmax(axis=1) * step
    last = (lines.shape[1] - lines[:, ::-1].argmax(axis=1)) * step
    whole = last - first > 0.8 * np.median(last - first)
    return at[whole], first[whole], last[whole]


def _slope(x: FloatArray, y: FloatArray) -> float:
    """Slope of the least-squares line over the middle four fifths of places, away from rounded corners."""
    off = len(x) // 10
    x, y = x[off : len(x) - off], y[off : len(y) - off]
    if len(x) < 3:
        return 0.0
    centred = x - x.mean()
    return float(centred @ y / (centred @ centred))


def _skewed(outline: _Outline, expected: Expected) -> list[Finding]:
    if not expected.square or abs(outline.skew) <= SKEWED:
        return []
    text = (
        f"The part comes out skewed by {abs(outline.skew):.1f}°: the laser line is not at right angles to the"
        " travel. Turn the sensor about the vertical (yaw), or align several with a target."
    )
    return [Finding(text)]


def _stretched(outline: _Outline, expected: Expected) -> list[Finding]:
    along = _off(outline.length, expected.length, outline.y)
    across = _off(outline.width, expected.width, outline.x)
    found = []
    if along and across and abs(along / across - 1.0) <= STRETCHED:
        message = f"The part comes out {outline.length:.1f} mm long and {outline.width:.1f} wide and is"
        return [
            Finding(f"{message} {expected.length:g} and {expected.width:g}: check that it is the right part.")
        ]
    if along:
        message = f"The part comes out {outline.length:.1f} mm long and is {expected.length:g}"
        if expected.by_clock:
            found.append(
                Finding(f"{message}: by a clock its length follows the speed; set the speed as it is.")
            )
        else:
            found.append(Finding(f"{message}: measure the encoder resolution.", "encoder"))
    if across:
        message = f"The part comes out {outline.width:.1f} mm wide and is {expected.width:g}"
        found.append(Finding(f"{message}: correct the sensor's scale by two known sizes.", "correct"))
    return found


def _off(size: float, expected: float | None, places: FloatArray) -> float:
    """Ratio of a size to the expected one; 0 where it is as expected, or unknown."""
    if expected is None:
        return 0.0
    # a row or column more or less at either end is no stretch
    step = float(np.diff(np.sort(places)).min(initial=expected))
    return size / expected if abs(size - expected) > STRETCHED * expected + 2 * step else 0.0


def _leaning(data: HeightMap, belt: float, outline: _Outline, expected: Expected) -> list[Finding]:
    """Offset of a raised face from the middle of a symmetric part, as a pitched laser causes it."""
    if not expected.symmetric:
        return []
    heights = data.z[data.z > belt + ABOVE_BELT].astype(np.float64)
    face, top = float(np.median(heights)), float(np.quantile(heights, 0.999))
    if top - face < LEAST_RISE:
        return []
    high = data.z > face + 0.75 * (top - face)
    upper = _Outline.of(high, data)
    if upper.x.size < 2:
        return []
    # both middles over the same columns, so that a part that lies turned does not seem to lean
    columns = np.isin(outline.x, upper.x)
    if not columns.any():
        return []
    middle = float(np.median(outline.front[columns] + outline.rear[columns])) / 2
    shift = float(np.mean(upper.front + upper.rear)) / 2 - middle
    leans = math.degrees(math.atan(shift / (float(np.median(data.z[high])) - face)))
    if abs(leans) <= LEANING or abs(shift) <= LEAST_SHIFT * data.grid.dy:
        return []
    text = (
        f"What stands high on the part lies {abs(shift):.2f} mm off its middle: the laser leans about"
        f" {abs(leans):.0f}° along travel. Set the sensor upright (pitch)."
    )
    return [Finding(text)]
