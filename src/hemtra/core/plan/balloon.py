"""Balloons: the numbers of a drawing, which may be 7, 4.1 or 12a."""

from __future__ import annotations

import re
from typing import Any, Self

from pydantic import GetCoreSchemaHandler
from pydantic_core import CoreSchema, core_schema

MOST = 9999
"""The largest number before the point or letter."""
APART = MOST + 1
"""Between one number and the same with something after it."""
_LETTERS = 100
"""From which on what follows the number is a letter; below it, a number after a point."""
_BALLOON = re.compile(r"(\d{1,4})(?:([._])(\d{1,2})|([a-z]))?")


class Balloon(int):
    """A balloon. A plain number is that number, so that older files, records and callers hold.

    What follows a number counts above it: 4.1 is 4 + 1 × 10000, 12a is 12 + 101 × 10000. They are in the order
    of a drawing: 4, 4.1, 4.2, 4a, 5.
    """

    __slots__ = ()

    @classmethod
    def parse(cls, text: str) -> Self:
        """A balloon as it is written on a drawing, or as part of a name, where 4.1 is 4_1.

        Raises `ValueError` for anything else.
        """
        found = _BALLOON.fullmatch(text.strip().lower())
        number = 0 if found is None else int(found[1])
        if found is None or not number or (found[3] is not None and not int(found[3])):
            raise ValueError(f"“{text}” is no balloon; write a number such as 7, 4.1 or 12a")
        after = int(found[3] or 0) if found[4] is None else _LETTERS + 1 + ord(found[4]) - ord("a")
        return cls(number + APART * after)

    @property
    def number(self) -> int:
        """Characters before a point or letter."""
        return int(self) % APART

    @property
    def plain(self) -> int | str:
        """For files: a number where it is one."""
        return int(self) if int(self) <= MOST else str(self)

    @property
    def name(self) -> str:
        """Form inside a name of an expression: `4_1`."""
        return str(self).replace(".", "_")

    def __str__(self) -> str:
        """Form on the drawing."""
        after = int(self) // APART
        if not after:
            return int.__repr__(self)
        return f"{self.number}.{after}" if after < _LETTERS else f"{self.number}{chr(ord('a') + after - 101)}"

    __repr__ = __str__

    def __format__(self, spec: str) -> str:
        """Form on the drawing."""
        return format(str(self), spec)

    def _place(self) -> tuple[int, int]:
        return self.number, int(self)

    def __lt__(self, other: int) -> bool:
        return self._place() < Balloon(other)._place()

    def __le__(self, other: int) -> bool:
        return self._place() <= Balloon(other)._place()

    def __gt__(self, other: int) -> bool:
        return self._place() > Balloon(other)._place()

    def __ge__(self, other: int) -> bool:
        return self._place() >= Balloon(other)._place()

    @classmethod
    def _of(cls, value: Any) -> Self:
        if isinstance(value, cls):
            return value
        if isinstance(value, bool) or not isinstance(value, (int, str)):
            raise ValueError(f"{value!r} is no balloon; write a number such as 7, 4.1 or 12a")
        return cls.parse(str(value))

    @classmethod
    def __get_pydantic_core_schema__(cls, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        """Form in files: a number, or a text where it is more than that."""
        written = core_schema.plain_serializer_function_ser_schema(lambda b: b.plain, when_used="json")
        return core_schema.no_info_plain_validator_function(cls._of, serialization=written)
