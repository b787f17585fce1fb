"""The readings of a gauge study: parts, measured by operators, or in poses, several times each."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import HemtraError


@dataclass(frozen=True)
class Reading:
    """One value. operator: who or what measured it, or the pose; trial: number of the repeat, from 1.

    value: None where it was not measured, with the reason.
    """

    part: str
    operator: str
    trial: int
    value: float | None
    reason: str = ""


@dataclass(frozen=True)
class Readings:
    """A whole study. values: (parts, operators, trials), in the unit of the characteristic."""

    parts: tuple[str, ...]
    operators: tuple[str, ...]
    values: FloatArray

    @classmethod
    def of(cls, found: Iterable[Reading]) -> Readings:
        """In a table, in the order in which parts and operators come first.

        Raises `HemtraError` that names the cell where a reading is missing, comes twice or was not measured.
        """
        readings = list(found)
        if not readings:
            raise HemtraError("The study holds no readings.")
        parts = tuple(dict.fromkeys(one.part for one in readings))
        operators = tuple(dict.fromkeys(one.operator for one in readings))
        trials = max(one.trial for one in readings)
        cells: dict[tuple[str, str, int], Reading] = {}
        for one in readings:
            cell = one.part, one.operator, one.trial
            if one.trial < 1:
                raise HemtraError(f"{_named(*cell)} is no trial; they count from 1 on.")
            if cell in cells:
                raise HemtraError(f"{_named(*cell)} comes twice.")
            if one.value is None or not np.isfinite(one.value):
                raise HemtraError(f"{_named(*cell)} was not measured: {one.reason or 'no value'}. Repeat it.")
            cells[cell] = one
        values = np.empty((len(parts), len(operators), trials))
        for i, part in enumerate(parts):
            for j, operator in enumerate(operators):
                for k in range(trials):
                    held = cells.get((part, operator, k + 1))
                    if held is None or held.value is None:
                        raise HemtraError(
                            f"{_named(part, operator, k + 1)} is missing. Measure it, then continue."
                        )
                    values[i, j, k] = held.value
        return cls(parts, operators, values)


def _named(part: str, operator: str, trial: int) -> str:
    return f"Part {part}, {f'{operator}, ' if operator else ''}trial {trial}"
