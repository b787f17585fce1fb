"""How lengths and numbers are shown, for all of the window: in which unit, and with which decimal sign.

Everything is kept in millimetres and written to files with a point. Fields take both signs.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

from hemtra.core.plan.document import Characteristic
from hemtra.core.plan.limits import CharacteristicResult, format_limits, format_value
from hemtra.core.plan.shown_units import in_unit, tolerance_in
from hemtra.core.units import MM, LengthUnit

POINT = "."
_KEPT = "|".join(
    (
        r"“[^”]*”",
        r"[Bb]alloons? \S+",
        r"\d+\.\d+(?= [A-ZÄÖÜ][a-zäöüß]{2})",  # a balloon before the name of its row
        r"\S*[/\\]\S*",
        r"\d+(?:\.\d+){2,}",
        r"[\w-]*[^\W\d][\w-]*\.\w[\w.]*",
    )
)
"""What keeps its point: quoted words, balloons, places of files, versions, and names with a point."""
_POINT = re.compile(rf"(?P<kept>{_KEPT})|(?P<whole>\d+)\.(?=\d)")


@dataclass
class _Shown:
    unit: LengthUnit = MM
    sign: str = POINT


_shown = _Shown()


def use(unit: LengthUnit, sign: str = POINT) -> None:
    """Show lengths in this unit and numbers with this decimal sign from now on."""
    _shown.unit, _shown.sign = unit, sign


def current() -> LengthUnit:
    """The unit that lengths are shown in."""
    return _shown.unit


def way() -> tuple[LengthUnit, str]:
    """Unit and decimal sign, which tell whether what was painted still holds."""
    return _shown.unit, _shown.sign


def signed(words: str) -> str:
    """Words with numbers in them, which get the decimal sign that is shown."""
    if _shown.sign == POINT:
        return words
    return _POINT.sub(lambda found: found["kept"] or f"{found['whole']}{_shown.sign}", words)


def text(words: str) -> str:
    """Words whose lengths are in mm, with them in the shown unit."""
    return signed(_shown.unit.shown(words))


def number(mm: float, decimals: int, *, sign: str = "") -> str:
    """A length without its unit, as fine as it would be with so many decimals in mm; sign: “+” to show it."""
    return signed(f"{mm / _shown.unit.mm:{sign}.{decimals + _shown.unit.more_decimals}f}")


def field(value: float) -> str:
    """A number as it stands in a field."""
    return signed(f"{value:.6g}")


def result(of: CharacteristicResult) -> CharacteristicResult:
    """A result in the shown unit."""
    shown = in_unit(of, _shown.unit)
    return shown if _shown.sign == POINT else replace(shown, reason=signed(shown.reason))


def value(of: CharacteristicResult, decimals: int) -> str:
    """The value of a result with its unit, which is shown as it is; a code that was read stays as it was."""
    is_read = of.text and not of.text.endswith(" %")
    return of.text if is_read else signed(format_value(of, decimals))


def limits(lower: float | None, upper: float | None, decimals: int) -> str:
    """Lower and upper limit, which are in the shown unit."""
    return signed(format_limits(lower, upper, decimals))


def tolerance(row: Characteristic, of: str) -> str:
    """The tolerance of a row whose values are in the unit `of`, in the shown one."""
    return signed(tolerance_in(row, of, _shown.unit))
