"""Limits for a new row, from the value that a good part shows."""

from __future__ import annotations

import math
from typing import Protocol

import numpy as np

from hemtra.core.geometry.elements import Number
from hemtra.core.plan.general_tolerances import SIZES, permissible
from hemtra.core.plan.series import MeasuredAlong, Series

Limits = dict[str, float]
"""Some of “nominal”, “lower” and “upper”, in the unit of the value."""
Span = tuple[float, float] | None
"""Bounds of a value where data is missing."""


class LimitRule(Protocol):
    """Makes limits of a new row from its value on a good part."""

    def __call__(self, found: Number, span: Span, /) -> Limits:
        """found: the value; span: its bounds where data is missing."""


ANGLE = 0.5
"""Usual tolerance of an angle, degrees: the medium class of ISO 2768-1 for 10 to 50 mm."""
SHARE = 0.1
"""Error share of areas and volumes."""
SPAN_ROOM = 1.2
"""Minimum tolerance of areas and volumes, in multiples of their bounds where data is missing."""
ROUNDED = 0.05
"""Nominals are proposed in multiples of this many mm."""


def usual_limits(found: Number, span: Span) -> Limits:
    """Nominal and limits as the unit of a value suggests."""
    if isinstance(found, MeasuredAlong) and found.series is not None:
        return limits_along(found.series)
    value = found.value
    if found.text:
        return {"lower": 1.0}
    if found.unit == "%":
        return {"lower": math.floor(value / 5.0) * 5.0 - 5.0}
    if found.unit in ("mm²", "mm³"):
        nominal, room = round(value, 1), 0.0 if span is None else max(span[1] - value, value - span[0])
        return _either_way(nominal, round(max(SHARE * nominal, SPAN_ROOM * room), 2), 2)
    nominal = round(round(value / ROUNDED) * ROUNDED, 4)
    return _either_way(nominal, ANGLE if found.unit == "°" else permissible(min(abs(nominal), SIZES[-1])), 4)


def form_limits(found: Number, span: Span) -> Limits:
    """An upper limit with room for twice what this part shows, in numbers as drawings have them."""
    return {"upper": round(max(ROUNDED, math.ceil(2.0 * found.value / ROUNDED) * ROUNDED), 4)}


def exact_limits(found: Number, span: Span) -> Limits:
    """Limits of counts, which must come out the same."""
    return {"nominal": found.value, "lower": found.value, "upper": found.value}


def limits_along(series: Series) -> Limits:
    """Nominal and limits that every section of a good part passes, with half as much again for room."""
    values = series.values[series.measured]
    nominal = round(round(float(np.median(values)) / ROUNDED) * ROUNDED, 4)
    reach = max(1.5 * float(np.abs(values - nominal).max()), permissible(min(abs(nominal), SIZES[-1])))
    return _either_way(nominal, round(math.ceil(reach / ROUNDED) * ROUNDED, 4), 4)


def _either_way(nominal: float, reach: float, digits: int) -> Limits:
    return {
        "nominal": nominal,
        "lower": round(nominal - reach, digits),
        "upper": round(nominal + reach, digits),
    }
