"""A master part: what it reads where all is well, and how often the line wants to see it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import date, datetime, time, timedelta
from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field, StringConstraints

from hemtra.core.errors import HemtraError
from hemtra.core.plan.limits import CharacteristicResult, Verdict

MOST_HOURS, MOST_SHARE, MOST_SHIFTS = 1000.0, 100.0, 12
HOUR = 3600.0
CLOCK = re.compile(r"([01]?\d|2[0-3])[:.]([0-5]\d)\Z")
Hours = Annotated[float, Field(gt=0.0, le=MOST_HOURS, allow_inf_nan=False)]
Percent = Annotated[float, Field(gt=0.0, le=MOST_SHARE, allow_inf_nan=False)]
Value = Annotated[float, Field(allow_inf_nan=False)]
DIGITS = 2
"""More than a row is shown with, for limits that are a share of its tolerance."""


class MasterPart(BaseModel):
    """A part that is kept aside and presented again and again.

    serial: by which a line recognises it. hours: after which it is due again. shifts: local times at which
    shifts begin, when it is due too. share: percent of the tolerance of a row by which it may read off its
    value. values: what it reads, by balloon.
    """

    serial: Annotated[str, StringConstraints(min_length=1, max_length=120)]
    hours: Hours = 8.0
    shifts: Annotated[tuple[time, ...], Field(max_length=MOST_SHIFTS)] = ()
    share: Percent = 10.0
    values: dict[str, Value] = {}

    model_config = ConfigDict(frozen=True, extra="forbid")

    def due_again(self, passed: float) -> tuple[float, time | None]:
        """When it is due after a pass, both in s since 1970; and the shift that it is due for, if it is one."""
        day = datetime.fromtimestamp(passed).date()
        starts = [(_moment(day + timedelta(k), shift), shift) for k in (0, 1) for shift in self.shifts]
        first = min((start for start in starts if start[0] > passed), default=None)
        at = passed + HOUR * self.hours
        return (at, None) if first is None or first[0] > at else first

    def wrong(self, rows: Sequence[CharacteristicResult]) -> tuple[str, ...]:
        """Problems of the master part as just measured, in words; empty where it passes."""
        read = {str(row.balloon): row for row in rows}
        missing = [f"{balloon} is not measured" for balloon in self.values if balloon not in read]
        return (*missing, *filter(None, map(self._off, rows)))

    def _off(self, row: CharacteristicResult) -> str:
        wanted = self.values.get(str(row.balloon))
        if wanted is None:
            return ""
        if row.value is None or row.verdict is Verdict.NOT_MEASURED:
            # a value that rests on too little proves nothing of the gauge either
            return f"{row.balloon} {row.name} is not measured: {row.reason}"
        reach = self.share / 100.0 * _room(row, wanted)
        if abs(row.value - wanted) <= reach:
            return ""
        low, high = (f"{wanted + side * reach:.{row.decimals + DIGITS}f}" for side in (-1, 1))
        return f"{row.balloon} {row.name} reads {row.value:.{row.decimals + DIGITS}f}; {low} … {high} is wanted"


def shifts_typed(text: str) -> tuple[time, ...]:
    """Times of the day at which shifts begin, as in “6:00 14:00”. Raises `ValueError` for anything else."""
    found = [CLOCK.match(part) for part in re.split(r"[,;\s]+", text.strip()) if part]
    if None in found:
        raise ValueError(f"“{text}” are no times of the day; write them as 6:00, 14:00")
    return tuple(sorted({time(int(one[1]), int(one[2])) for one in found if one is not None}))


def read_on(
    serial: str,
    rows: Sequence[CharacteristicResult],
    hours: float,
    share: float,
    shifts: tuple[time, ...] = (),
) -> MasterPart:
    """A master part by what a plan reads on it now. Raises `HemtraError` where that is nothing."""
    values = {
        str(row.balloon): row.value
        for row in rows
        if row.value is not None and not row.text and row.verdict is not Verdict.NOT_MEASURED
    }
    if not values:
        raise HemtraError("Nothing is measured on that part; it cannot be the master part.")
    if not serial.strip():
        raise HemtraError("That part has no serial, by which a line could recognise it. Give it one.")
    if not (0.0 < hours <= MOST_HOURS and 0.0 < share <= MOST_SHARE):
        raise HemtraError(
            f"A master part is due after at most {MOST_HOURS:g} hours, and may read off by {MOST_SHARE:g} %."
        )
    if len(shifts) > MOST_SHIFTS:
        raise HemtraError(f"A day has at most {MOST_SHIFTS} shifts.")
    return MasterPart(serial=serial.strip()[:120], hours=hours, shifts=shifts, share=share, values=values)


def _moment(day: date, at: time) -> float:
    """A local time of a day, in s since 1970."""
    return datetime.combine(day, at).timestamp()


def _room(row: CharacteristicResult, wanted: float) -> float:
    """Width of the tolerance; with one limit twice the way from the master to it."""
    if row.lower is not None and row.upper is not None:
        return row.upper - row.lower
    limit = row.upper if row.upper is not None else row.lower
    return 0.0 if limit is None else 2.0 * abs(limit - wanted)
