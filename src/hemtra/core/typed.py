"""Lengths as people type them: with a decimal comma, and in the unit of their drawing."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from decimal import Decimal
from types import MappingProxyType

from hemtra.core.errors import HemtraError

UNITS: Mapping[str, Decimal] = MappingProxyType(
    {
        "mm": Decimal(1),
        "µm": Decimal("0.001"),
        "μm": Decimal("0.001"),
        "um": Decimal("0.001"),
        "in": Decimal("25.4"),
        '"': Decimal("25.4"),
        "mil": Decimal("0.0254"),
    }
)
"""Units in mm; the micro sign and the Greek letter look alike, and both are typed."""
OF_ALL = ("in", '"', "mm")
"""Units that at the end of a text are those of all its numbers: nobody writes 4.00 ±50 µm and means 4 µm."""
_NAMES = "|".join(map(re.escape, UNITS))
_LENGTH = re.compile(rf"(\d*[.,]?\d+)\s*({_NAMES})(?![A-Za-z0-9])")
_PLAIN = re.compile(rf"(?<![\d.,])\d*[.,]?\d+(?![\d.,])(?!\s*(?:%|(?:{_NAMES})(?![A-Za-z0-9])))")


def lengths_in_mm(text: str) -> str:
    """A text whose lengths are all in mm and without a unit.

    Where only the last of several numbers has a unit, and that is inch or mm, it is that of all of them, as in
    “0.500 ±0.005 in”. Raises `HemtraError` where it stays open which unit a number has.
    """
    found = list(_LENGTH.finditer(text))
    if not found:
        return text
    open_ones, last = _PLAIN.findall(text), found[-1]
    if not open_ones:
        return _LENGTH.sub(lambda length: _scaled(length[1], UNITS[length[2]]), text)
    if len(found) == 1 and not text[last.end() :].strip() and last[2] in OF_ALL:
        scale = UNITS[last[2]]
        before = _PLAIN.sub(lambda number: _scaled(number.group(), scale), text[: last.start()])
        return before + _scaled(last[1], scale)
    which = f"which unit {open_ones[0]} has in “{text}”"
    raise HemtraError(f"It is not clear {which}; write the unit with each number.")


def number_typed(text: str, unit: str = "mm") -> float:
    """A finite number as it was typed; where it is one in mm, it may have another unit of length.

    Raises `ValueError` for anything else.
    """
    plain = text.strip().replace("−", "-")
    if unit == "mm" and len(_LENGTH.findall(plain)) == 1 and not _PLAIN.search(plain):
        plain = lengths_in_mm(plain)
    value = float(plain.replace(",", "."))
    if not math.isfinite(value):
        raise ValueError(f"{text} is not finite")
    return value


def _scaled(number: str, scale: Decimal) -> str:
    """Exact decimal value, so that half an inch is exactly 12.7 mm."""
    return f"{(Decimal(number.replace(',', '.')) * scale).normalize():f}"
