"""Units of length for display; everything is kept and computed in millimetres."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

_NUMBER = r"[-+±−]?\d+(?:\.\d+)?"
_LENGTHS = re.compile(rf"({_NUMBER}(?:(?:, | × | … | to |/){_NUMBER})*) mm([²³]?)(?![\w²³])(?! per)")
"""One number or several, in mm, mm² or mm³."""


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

    def more_digits(self, unit: str) -> int:
        """Decimals more than a number in a unit made of millimetres needs to say as much in this one."""
        return math.ceil(math.log10(self.factor(unit)))

    def shown(self, text: str) -> str:
        """A text for people whose lengths, areas and volumes are in millimetres, with them in this unit."""
        return text if self.mm == 1.0 else _LENGTHS.sub(self._converted, text)

    def _converted(self, found: re.Match[str]) -> str:
        unit = f"mm{found[2]}"
        factor, more = self.factor(unit), self.more_digits(unit)

        def convert(number: re.Match[str]) -> str:
            sign, digits = ("±", number[0][1:]) if number[0].startswith("±") else ("", number[0])
            shows_plus = "+" if digits.startswith("+") else ""
            places = len(digits.partition(".")[2]) + more
            return f"{sign}{float(digits.replace('−', '-')) / factor:{shows_plus}.{places}f}"

        return f"{re.sub(_NUMBER, convert, found[1])} {self.of(unit)}"


MM = LengthUnit("mm", 1.0, 0)
INCH = LengthUnit("in", 25.4, 2)
UNITS = {unit.name: unit for unit in (MM, INCH)}


def small(unit: LengthUnit, mm: float) -> str:
    """A length far below a millimetre with its unit: micrometres, or millionths of an inch."""
    if unit is INCH:
        return f"{1e6 * mm / unit.mm:.3g} µin"
    micrometres = 1000 * mm
    return f"{micrometres:.{2 if math.fabs(micrometres) < 1 else 1}f} µm"


_INCH = 25.4
_MEASURES: dict[str, dict[str, float]] = {
    "length": {
        "mm": 1.0,
        "µm": 1e-3,
        "μm": 1e-3,
        "um": 1e-3,
        "nm": 1e-6,
        "cm": 10.0,
        "m": 1000.0,
        **dict.fromkeys(("in", "inch", "″", '"'), _INCH),
        **dict.fromkeys(("mil", "thou"), _INCH / 1000),
        **dict.fromkeys(("µin", "uin"), _INCH / 1e6),
    },
    "angle": {
        **dict.fromkeys(("°", "deg"), 1.0),
        **dict.fromkeys(("′", "'", "arcmin"), 1 / 60),
        "arcsec": 1 / 3600,
        "rad": 180.0 / math.pi,
        "mrad": 0.18 / math.pi,
    },
    "area": {
        **dict.fromkeys(("mm²", "mm2", "mm^2"), 1.0),
        **dict.fromkeys(("cm²", "cm2"), 100.0),
        **dict.fromkeys(("in²", "in2"), _INCH**2),
    },
    "volume": {
        **dict.fromkeys(("mm³", "mm3", "mm^3", "µl"), 1.0),
        **dict.fromkeys(("cm³", "cm3", "ml"), 1000.0),
        **dict.fromkeys(("in³", "in3"), _INCH**3),
    },
    "share": {"%": 1.0, "‰": 0.1},
    "number": dict.fromkeys(("", "1", "pcs", "pc"), 1.0),
}
"""Units of drawings by quantity, with sizes in mm, degrees, mm², mm³ or percent."""


def conversion(unit: str, to: str) -> float | None:
    """By how much a number in one unit is multiplied to be in another; None where they do not compare.

    Unknown units convert to themselves only. Lengths squared and cubed are areas and volumes.
    """
    if unit == to:
        return 1.0
    for sizes in _MEASURES.values():
        one, other = (sizes.get(name.strip(), sizes.get(name.strip().lower())) for name in (unit, to))
        if one is not None and other is not None:
            return one / other
    return None
