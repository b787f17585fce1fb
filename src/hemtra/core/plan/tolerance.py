"""Tolerances as people write them on drawings."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from decimal import Decimal

from hemtra.core.errors import HemtraError
from hemtra.core.plan.general_tolerances import permissible

NUMBER = r"[+\-−]?\d*[.,]?\d+"
EXAMPLES = (
    "4.00 ±0.10, 2.5 +0.15 -0.05, 84 ±2 %, ref ±2 %, ≤ 0.15, ≥ 3, 3.9 … 4.1, 84 ISO 2768-m or 4.00 ±0.10 U 0.01"
)

MOST_COVERED = 10.0

_UNCERTAINTY = re.compile(rf"^(?P<rest>.*\S)\s*[Uu]\s*=?\s*(?P<u>{NUMBER})(?P<own>\s*u)?$")
_FORMS = {
    "percent": re.compile(rf"^(?P<n>{NUMBER})?\s*(?:±|\+/-|\+-)\s*(?P<d>{NUMBER})\s*%$"),
    "plus_minus": re.compile(rf"^(?P<n>{NUMBER})?\s*(?:±|\+/-|\+-)\s*(?P<d>{NUMBER})$"),
    "two": re.compile(rf"^(?P<n>{NUMBER})?\s*(?P<a>[+\-−]\s*\d*[.,]?\d+)\s*/?\s*(?P<b>[+\-−]\s*\d*[.,]?\d+)$"),
    "general": re.compile(rf"^(?P<n>{NUMBER})?\s*(?:ISO\s*)?2768(?:-1)?\s*-?\s*(?P<c>[fmcv])[HKLhkl]?$"),
    "most": re.compile(rf"^(?:≤|<=|<|max\.?)\s*(?P<a>{NUMBER})$", re.IGNORECASE),
    "least": re.compile(rf"^(?:≥|>=|>|min\.?)\s*(?P<a>{NUMBER})$", re.IGNORECASE),
    "range": re.compile(rf"^(?P<a>{NUMBER})\s*(?:…|\.\.\.?|–|to)\s*(?P<b>{NUMBER})$"),
}


@dataclass(frozen=True)
class Tolerance:
    """Nominal, limits and expanded uncertainty, None where there is none."""

    nominal: float | None
    lower: float | None
    upper: float | None
    uncertainty: float | None = None
    covers: float | None = None
    """Coverage factor with which each part is evaluated by its own uncertainty."""


def parse_tolerance(text: str, nominal: float | None = None) -> Tolerance:
    """Read a tolerance; `nominal` is kept when the text names none. Raises `HemtraError` with examples."""
    text = " ".join(text.split())
    uncertain = _UNCERTAINTY.match(text)
    if uncertain:
        reach = _number(uncertain["u"])
        if reach <= 0.0:
            raise HemtraError("An uncertainty is a number above zero; write it like 4.00 ±0.10 U 0.01.")
        limits = parse_tolerance(uncertain["rest"], nominal)
        if not uncertain["own"]:
            return replace(limits, uncertainty=reach)
        if reach > MOST_COVERED:
            raise HemtraError(f"A coverage factor is at most {MOST_COVERED:g}; 2 is usual: 4.00 ±0.10 U 2u.")
        return replace(limits, covers=reach)
    for form, pattern in _FORMS.items():
        found = pattern.match(text)
        if found:
            if form == "general":
                return _general(found["n"], found["c"], nominal)
            parts = {name: _number(value) for name, value in found.groupdict().items() if value}
            return _limits(form, parts, nominal)
    raise HemtraError(f"“{text}” is not a tolerance; write it like {EXAMPLES}.")


def _general(number: str | None, class_: str, nominal: float | None) -> Tolerance:
    """General tolerance about a nominal (ISO 2768-1)."""
    centre = nominal if number is None else _number(number)
    if centre is None:
        raise HemtraError("A general tolerance needs the nominal; write it like 84 ISO 2768-m.")
    reach = permissible(centre, class_)
    return Tolerance(centre, round(centre - reach, 9), round(centre + reach, 9))


def _limits(form: str, parts: dict[str, float], nominal: float | None) -> Tolerance:
    if form == "most":
        return Tolerance(nominal, None, parts["a"])
    if form == "least":
        return Tolerance(nominal, parts["a"], None)
    if form == "range":
        low, high = parts["a"], parts["b"]
        if low > high:
            raise HemtraError(f"The lower limit {low:g} lies above the upper limit {high:g}.")
        return Tolerance(nominal if nominal is not None and low <= nominal <= high else None, low, high)
    centre = parts.get("n", nominal)
    if centre is None:
        raise HemtraError("Limits around a nominal need the nominal; write it like 4.00 ±0.10.")
    reach = abs(parts.get("d", 0.0))
    if form == "percent":
        reach = float(Decimal(repr(reach)) * abs(Decimal(repr(centre))) / 100)
    deviations = sorted((parts["a"], parts["b"]) if form == "two" else (-reach, reach))
    # limits are decimals, and so are their sums: 2.5 + 0.15 is 2.65
    lower, upper = (float(Decimal(repr(centre)) + Decimal(repr(off))) for off in deviations)
    return Tolerance(centre, lower, upper)


def _number(text: str) -> float:
    return float(text.replace("−", "-").replace(",", ".").replace(" ", ""))
