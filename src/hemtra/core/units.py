"""Units of length for display; everything is kept and computed in millimetres."""

from __future__ import annotations

import math
from dataclasses import dataclass


@dataclass(frozen=True)
class LengthUnit:
    """A unit, its size in mm, and how many decimals more than millimetres it needs."""

    name: str
    mm: float
    more_decimals: int

    def text(self, mm: float, decimals: int) -> str:
        """A length with as many decimals as would show it in mm, without the unit."""
        return f"{mm / self.mm:.{max(0, decimals + self.more_decimals)}f}"

    def short(self, mm: float) -> str:
        """A length in few digits, without the unit."""
        return f"{mm / self.mm:.6g}" if self.mm == 1.0 else f"{mm / self.mm:.3g}"

    def of(self, unit: str) -> str:
        """The name of a unit made of millimetres, such as mm/s or mm², in this one."""
        return unit.replace("mm", self.name)

    def factor(self, unit: str) -> float:
        """Millimetres (to whatever power) of one unit that is made of this one."""
        if not unit.startswith("mm") or unit.startswith("mm per"):
            return 1.0
        return self.mm ** {"²": 2, "³": 3}.get(unit[2:3], 1)


MM = LengthUnit("mm", 1.0, 0)
INCH = LengthUnit("in", 25.4, 2)
UNITS = {unit.name: unit for unit in (MM, INCH)}


def small(unit: LengthUnit, mm: float) -> str:
    """A length far below a millimetre with its unit: micrometres, or millionths of an inch."""
    if unit is INCH:
        return f"{1e6 * mm / unit.mm:.3g} µin"
    micrometres = 1000 * mm
    return f"{micrometres:.{2 if math.fabs(micrometres) < 1 else 1}f} µm"
