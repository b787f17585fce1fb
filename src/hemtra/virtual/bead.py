"""The cover's bead of paste: how wide, how high and where it lies along its path, and what is wrong with it."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.virtual.cover_kernels import BEAD_CORNER, BEAD_HALF_X, BEAD_HALF_Y, BEAD_LENGTH, BEAD_STEPS

ROUND, RAMP = 1.5, 4.0
"""Length over which paste rounds off at its ends, and over which its shape varies, mm."""
WAVES = ((0.05, 3), (0.02, 5), (0.06, 2))
"""Variation of width, height and offset, mm, and number of cycles round the part."""
CLEAR, LEAST = 2.0, 0.3
"""Margin beside a break on which no size is evaluated, and height below which there is no bead, mm."""
BREAK = 1.0
"""Longest break that the drawing accepts, mm."""
WIDTHS, HEIGHTS, OFFSETS = (2.5, 3.5), (1.3, 1.9), (-0.6, 0.6)
"""Limits of the drawing in mm."""


@dataclass(frozen=True)
class BeadDefect:
    """Defect over a stretch of the path: its middle and length in mm, and changes in mm there."""

    at: float
    length: float
    width: float = 0.0
    height: float = 0.0
    offset: float = 0.0
    broken: bool = False


@dataclass(frozen=True)
class Bead:
    """A domed bead: width and height in mm; `waves` seeds how it varies along the path, None for not at all."""

    width: float = 3.0
    height: float = 1.6
    waves: int | None = None
    flaws: tuple[BeadDefect, ...] = ()

    def with_flaw(self, flaw: BeadDefect) -> Bead:
        """The same with one more thing wrong."""
        return replace(self, flaws=(*self.flaws, flaw))

    def table(self) -> FloatArray:
        """(BEAD_STEPS, 3) width, height and offset outward in mm, from the start on."""
        s = BEAD_LENGTH * np.arange(BEAD_STEPS) / BEAD_STEPS
        table = np.tile([self.width, self.height, 0.0], (BEAD_STEPS, 1))
        if self.waves is not None:
            phases = np.random.default_rng([self.waves, 55]).uniform(0, 2 * np.pi, 3)
            for column, ((reach, times), phase) in enumerate(zip(WAVES, phases, strict=True)):
                table[:, column] += reach * np.sin(2 * np.pi * times * s / BEAD_LENGTH + phase)
        for flaw in self.flaws:
            # how far inside the stretch, negative outside
            inside = flaw.length / 2 - np.abs((s - flaw.at + BEAD_LENGTH / 2) % BEAD_LENGTH - BEAD_LENGTH / 2)
            if flaw.broken:
                t = np.clip(-inside / ROUND, 0.0, 1.0)
                table[:, :2] *= np.sqrt(1.0 - (1.0 - t) ** 2)[:, None]
            else:
                share = (1.0 - np.cos(np.pi * np.clip(inside / RAMP, 0.0, 1.0))) / 2
                table += share[:, None] * (flaw.width, flaw.height, flaw.offset)
        return table

    def truth(self) -> dict[int, float | str]:
        """Balloons 18 to 22: width, height and offset where they are farthest off, longest break, volume.

        Where it is missing for longer than `BREAK` it has no width, no height, and no offset that is known.
        """
        table, evaluated = self.table(), self._evaluated()
        step = BEAD_LENGTH / BEAD_STEPS
        worst = [
            float(table[evaluated, column][np.argmax(np.abs(table[evaluated, column] - nominal))])
            for column, nominal in ((0, 3.0), (1, 1.6), (2, 0.0))
        ]
        volume = float((2 / 3 * table[:, 0] * table[:, 1] * (1.0 + self._bends() * table[:, 2])).sum() * step)
        longest = max((length for _, length in _runs(table[:, 1] < LEAST)), default=0.0)
        if longest > BREAK:
            worst = [0.0, 0.0, math.nan]
        return {18: worst[0], 19: worst[1], 20: worst[2], 21: longest, 22: volume}

    def stretches(self) -> dict[int, list[tuple[float, float]]]:
        """Failing stretches by balloon: start and length along the path, mm."""
        table, evaluated = self.table(), self._evaluated()
        found = {21: [run for run in _runs(table[:, 1] < LEAST) if run[1] > BREAK]}
        for column, (low, high) in enumerate((WIDTHS, HEIGHTS, OFFSETS)):
            value = table[:, column]
            found[18 + column] = _runs(evaluated & ((value < low) | (value > high)))
            if column < 2:
                found[18 + column] = sorted(found[18 + column] + found[21])
        return {balloon: runs for balloon, runs in sorted(found.items()) if runs}

    def _evaluated(self) -> BoolArray:
        absent = self.table()[:, 1] < LEAST
        reach = math.ceil(CLEAR / BEAD_LENGTH * BEAD_STEPS)
        near = np.zeros(BEAD_STEPS, np.bool_)
        for k in np.flatnonzero(absent):
            near[np.arange(k - reach, k + reach + 1) % BEAD_STEPS] = True
        return ~near

    @staticmethod
    def _bends() -> FloatArray:
        """(BEAD_STEPS,) curvature of the path in 1/mm; it goes counter-clockwise, with straight sides."""
        s = BEAD_LENGTH * np.arange(BEAD_STEPS) / BEAD_STEPS
        quarter = math.pi / 2 * BEAD_CORNER
        sides = (BEAD_HALF_X - BEAD_CORNER, 2 * (BEAD_HALF_Y - BEAD_CORNER), 2 * (BEAD_HALF_X - BEAD_CORNER))
        bends, at = np.zeros(BEAD_STEPS), 0.0
        for side in (sides[0], sides[1], sides[2], sides[1]):
            at += side
            bends[(s >= at) & (s < at + quarter)] = 1.0 / BEAD_CORNER
            at += quarter
        return bends


def _runs(mask: BoolArray) -> list[tuple[float, float]]:
    """Start and length in mm of each stretch that is set, also round the start."""
    if mask.all() or not mask.any():
        return [(0.0, BEAD_LENGTH)] if mask.all() else []
    shift = int(np.argmin(mask))
    turned = np.roll(mask, -shift)
    ends = np.flatnonzero(np.diff(np.concatenate([[False], turned, [False]]).astype(np.int8))).reshape(-1, 2)
    step = BEAD_LENGTH / BEAD_STEPS
    return [(float((a + shift) % BEAD_STEPS * step), float((b - a) * step)) for a, b in ends]
