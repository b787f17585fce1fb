"""Results and limits in the unit that they are shown in; they are kept and evaluated in millimetres."""

from __future__ import annotations

import re
from dataclasses import replace

from hemtra.core.plan.document import Characteristic
from hemtra.core.plan.limits import CharacteristicResult
from hemtra.core.units import LengthUnit

_REASON = re.compile(
    r"^(?:(?P<beyond>\S+, (?:above|below) \S+)|(?P<between>between \S+ and \S+)(?=, as part)"
    r"|(?P<within>\S+ lies within ±\S+ of the limit \S+))"
)
"""Reasons that name the value and its limit: they say no unit, since there it is that of the value."""
_NUMBER = re.compile(r"(?<![\w.])-?\d+(?:\.\d+)?(?:e-?\d+)?(?![\w.])")


def in_unit(evaluated: CharacteristicResult, unit: LengthUnit) -> CharacteristicResult:
    """A result with its numbers, and those of its reason, in another unit where they are lengths."""
    factor = unit.factor(evaluated.unit)
    if factor == 1.0:
        return evaluated
    more = unit.more_digits(evaluated.unit)

    exact = [
        v
        for v in (evaluated.value, evaluated.lower, evaluated.upper, evaluated.low, evaluated.high)
        if v is not None
    ]

    def convert(number: re.Match[str]) -> str:
        said, places = float(number[0]), len(number[0].partition(".")[2])
        # from the number itself, so that it reads as it does beside the reason
        known = next((v for v in exact if f"{v:.{places}f}" == number[0]), said)
        return f"{known / factor:.{places + more}f}"

    said = _REASON.match(evaluated.reason)
    reason = evaluated.reason
    if said is not None:
        reason = _NUMBER.sub(convert, said[0]) + reason[said.end() :]
    return replace(
        evaluated,
        value=_divided(evaluated.value, factor),
        nominal=_divided(evaluated.nominal, factor),
        lower=_divided(evaluated.lower, factor),
        upper=_divided(evaluated.upper, factor),
        low=_divided(evaluated.low, factor),
        high=_divided(evaluated.high, factor),
        least=_divided(evaluated.least, factor),
        greatest=_divided(evaluated.greatest, factor),
        u=_divided(evaluated.u, factor),
        unit=unit.of(evaluated.unit),
        decimals=evaluated.decimals + more,
        reason=unit.shown(reason),
    )


def tolerance_in(row: Characteristic, of: str, unit: LengthUnit) -> str:
    """The tolerance of a row whose values are in the unit `of`, as it is typed in another."""
    factor = unit.factor(of)
    if factor == 1.0 or (row.lower is None and row.upper is None):
        return row.tolerance
    names = ("nominal", "lower", "upper", "uncertainty")
    numbers = {name: _divided(getattr(row, name), factor) for name in names}
    if numbers["uncertainty"] is not None:
        numbers["uncertainty"] = float(f"{numbers['uncertainty']:.3g}")
    text = row.edited(**numbers).written(row.decimals + unit.more_digits(of))
    return f"{text} {unit.of(of)}"


def _divided(value: float | None, by: float) -> float | None:
    return None if value is None else value / by
