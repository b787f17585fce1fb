"""What a trial scan says about its station: cut parts, stretched ones, a tilted sensor, a seam."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Literal

import numpy as np

from hemtra.core.errors import NotMeasured
from hemtra.core.geometry.plane_fit import fit_plane
from hemtra.core.scan.heightmap import HeightMap
from hemtra.core.station.alignment import seam_between

Remedy = Literal["level", "align", "encoder", "exposure", ""]

NEAR_BELT = 2.0
"""mm about the belt within which it is looked for."""
ABOVE_BELT = 3.0
"""mm above the belt from which something is a part."""
LEAST_BELT = 0.05
"""Share of the scan that must show the belt for its tilt to mean anything."""
TILTED = 0.1
"""Degrees of tilt that cost a height two micrometres per millimetre of distance."""
HEIGHT_OFF = 0.1
SEAM = 0.03
"""mm of step between two sensors that is worth an alignment."""
STRETCHED = 0.015
"""Share by which a part may come out longer or shorter before the encoder is doubted."""
WIDEST_GAP = 8.0
"""mm of travel without a part that still lie within one."""
FEW_POINTS = 0.7
"""Share of the points that a part should show."""


@dataclass(frozen=True)
class Finding:
    """What looks wrong, in a sentence, and the guided task that helps."""

    text: str
    remedy: Remedy = ""


def findings(
    data: HeightMap, layers: Sequence[HeightMap], belt: float, part_length: float | None
) -> tuple[Finding, ...]:
    """What looks wrong in the scan of one part, `part_length` mm long, on a belt at a z in mm.

    layers: of several sensors what each one saw, from left to right.
    """
    found = (*_belt(data, belt), *_seams(layers), *_part(data, belt, part_length))
    return tuple(found)


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


def _part(data: HeightMap, belt: float, part_length: float | None) -> list[Finding]:
    raised = data.z > belt + ABOVE_BELT
    rows = np.flatnonzero(raised.any(axis=1))
    if rows.size == 0:
        return [Finding("There is no part in the scan: check the trigger, its delay, and the view.")]
    dy, last = data.grid.dy, data.shape[0] - 1
    if rows[0] == 0 and rows[-1] == last:
        return [Finding("The part is longer than the scan, which is cut off at both ends: scan more.")]
    if rows[0] == 0:
        return [Finding("The scan begins within the part: let it begin sooner.")]
    if rows[-1] == last:
        return [Finding("The scan ends within the part: let it be longer, or begin later.")]
    if int(np.diff(rows).max(initial=1)) * dy > WIDEST_GAP:
        return [
            Finding("There is more than one part in the scan: make it shorter, or feed parts farther apart.")
        ]
    length = (rows[-1] - rows[0] + 1) * dy
    # a row more or less at either end is no stretch
    if part_length is not None and abs(length - part_length) > STRETCHED * part_length + 2 * dy:
        text = (
            f"The part comes out {length:.1f} mm long and is {part_length:g}: measure the encoder resolution."
        )
        return [Finding(text, "encoder")]
    cols = np.flatnonzero(raised.any(axis=0))
    window = data.z[rows[0] : rows[-1] + 1, cols[0] : cols[-1] + 1]
    share = 1.0 - np.count_nonzero(np.isnan(window)) / window.size
    if share < FEW_POINTS:
        return [Finding(f"Only {100 * share:.0f} % of the part give points: tune the exposure.", "exposure")]
    return []
