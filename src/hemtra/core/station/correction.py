"""Corrections of scale: two known heights, a known distance or diameter."""

from __future__ import annotations

import math

from hemtra.core.errors import NotMeasured
from hemtra.core.station.calibration import Calibration

LEAST_STEP = 0.1
"""Minimum distance of two known heights, mm; nearer ones would turn noise into gain."""
MOST_CHANGE = 0.1
"""Share by which a scale may be corrected at once; more is a mistake, not a correction."""


def correct_heights(now: Calibration, measured: tuple[float, float], true: tuple[float, float]) -> Calibration:
    """The calibration under which two heights in mm, measured with `now`, come out at their reference values.

    Raises `NotMeasured` when they cannot say anything.
    """
    if not all(map(math.isfinite, (*measured, *true))):
        raise NotMeasured("both faces need a measured and a true height")
    if min(abs(measured[1] - measured[0]), abs(true[1] - true[0])) < LEAST_STEP:
        raise NotMeasured(f"the two heights are less than {LEAST_STEP:g} mm apart; take faces farther apart")
    gain = (true[1] - true[0]) / (measured[1] - measured[0])
    scaled = now.model_copy(update={"gain_z": now.gain_z * _plausible(gain)})
    # offset: what the heights become with the gain alone, and what is missing to the first one
    missing = true[0] - gain * measured[0]
    per_mm = scaled.gain_z * math.cos(math.radians(now.pitch))
    return Calibration.model_validate({**scaled.model_dump(), "z": now.z + missing / per_mm})


def correct_width(now: Calibration, measured: float, true: float) -> Calibration:
    """The calibration under which a distance along x comes out at its reference value. Raises `NotMeasured`."""
    return Calibration.model_validate({**now.model_dump(), "gain_x": now.gain_x * _ratio(measured, true)})


def correct_resolution(counts_per_mm: float, measured: float, true: float) -> float:
    """Counts per mm from the scan of an artefact of a true length along travel, in mm. Raises `NotMeasured`."""
    return counts_per_mm / _ratio(measured, true)


def _ratio(measured: float, true: float) -> float:
    if not (math.isfinite(true) and math.isfinite(measured) and true > 0 and measured > 0):
        raise NotMeasured("the artefact needs a size above zero, both true and measured")
    return _plausible(true / measured)


def _plausible(gain: float) -> float:
    if abs(gain - 1.0) > MOST_CHANGE:
        raise NotMeasured(
            f"that would change the scale by {100 * (gain - 1):+.0f} %;"
            " check which face is which, and the numbers"
        )
    return gain
