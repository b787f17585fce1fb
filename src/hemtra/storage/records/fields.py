"""Fields kept of a characteristic on each part beside its value: declared here once.

Table, pages, exports, merging and reports follow from it. One more field takes an entry here, an attribute of
`CharacteristicResult`, and a migration that adds its column.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from hemtra.core.plan.limits import CharacteristicResult


@dataclass(frozen=True)
class RecordedNumber:
    """A number in the unit of the value, None where there is none.

    name: of the attribute and the column. key: in documents. title: on pages and in reports. digits: shown more
    than of the value.
    """

    name: str
    key: str
    title: str
    digits: int = 0


NUMBERS = (
    RecordedNumber("low", "low", "lowest possible"),
    RecordedNumber("high", "high", "highest possible"),
    RecordedNumber("least", "min", "min"),
    RecordedNumber("greatest", "max", "max"),
    RecordedNumber("u", "u", "standard uncertainty", digits=2),
)


def numbers_of(row: CharacteristicResult) -> Iterator[tuple[RecordedNumber, float]]:
    """Fields present in a result."""
    for number in NUMBERS:
        value = getattr(row, number.name)
        if value is not None:
            yield number, value


def numbers_in_words(row: CharacteristicResult) -> str:
    """Fields present in a result, for a page: “min 1.98, max 2.04”."""
    return ", ".join(
        f"{number.title} {value:.{row.decimals + number.digits}f}" for number, value in numbers_of(row)
    )
