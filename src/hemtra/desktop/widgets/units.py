"""The unit that lengths are shown in, for all of the window; everything is kept in millimetres."""

from __future__ import annotations

from dataclasses import dataclass

from hemtra.core.plan.document import Characteristic
from hemtra.core.plan.limits import CharacteristicResult
from hemtra.core.plan.shown_units import in_unit, tolerance_in
from hemtra.core.units import MM, LengthUnit


@dataclass
class _Shown:
    unit: LengthUnit = MM


_shown = _Shown()


def use(unit: LengthUnit) -> None:
    """Show lengths in this unit from now on."""
    _shown.unit = unit


def current() -> LengthUnit:
    """The unit that lengths are shown in."""
    return _shown.unit


def text(words: str) -> str:
    """Words whose lengths are in mm, with them in the shown unit."""
    return _shown.unit.shown(words)


def number(mm: float, decimals: int, *, sign: str = "") -> str:
    """A length without its unit, as fine as it would be with so many decimals in mm; sign: “+” to show it."""
    return f"{mm / _shown.unit.mm:{sign}.{decimals + _shown.unit.more_decimals}f}"


def result(of: CharacteristicResult) -> CharacteristicResult:
    """A result in the shown unit."""
    return in_unit(of, _shown.unit)


def tolerance(row: Characteristic, of: str) -> str:
    """The tolerance of a row whose values are in the unit `of`, in the shown one."""
    return tolerance_in(row, of, _shown.unit)
