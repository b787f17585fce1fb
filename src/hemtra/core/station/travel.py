"""Travel: how the movement of the part becomes profiles."""

from __future__ import annotations

from typing import Annotated, Literal, TypeAlias

from pydantic import BaseModel, ConfigDict, Field

from hemtra.core.station.optics import Positive

MOST_PROFILES = 100_000


class _Document(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class WheelEncoder(_Document):
    """An encoder on a measuring wheel: pulses per turn and the wheel's circumference in mm."""

    by: Literal["wheel"] = "wheel"
    pulses_per_turn: Positive
    circumference: Positive
    edges: Literal[1, 2, 4] = 1
    """Counts per pulse: 1 for a single channel, up to 4 for both edges of two channels in quadrature."""

    @property
    def counts_per_mm(self) -> float:
        """Counts that one millimetre of travel makes."""
        return self.pulses_per_turn * self.edges / self.circumference


class LinearEncoder(_Document):
    """An encoder known by its travel per pulse in mm, as measured or printed on a linear scale."""

    by: Literal["pulse"] = "pulse"
    mm_per_pulse: Positive
    edges: Literal[1, 2, 4] = 1

    @property
    def counts_per_mm(self) -> float:
        """Counts that one millimetre of travel makes."""
        return self.edges / self.mm_per_pulse


Encoder: TypeAlias = Annotated[WheelEncoder | LinearEncoder, Field(discriminator="by")]


class Travel(_Document):
    """One profile every so many counts, over a length of mm, at a speed of mm/s."""

    encoder: Encoder
    counts_per_profile: Annotated[int, Field(ge=1, le=1_000_000)]
    length: Positive
    speed: Positive = 100.0
    backward: Literal["ignored", "scanned"] = "ignored"
    """What backward motion does: nothing until the place is passed again, or profiles of its own."""

    @property
    def spacing(self) -> float:
        """mm from one profile to the next."""
        return self.counts_per_profile / self.encoder.counts_per_mm

    @property
    def profiles(self) -> int:
        """Profiles of one scan; at least two make a map."""
        return min(MOST_PROFILES, max(2, round(self.length / self.spacing)))


class ProfileCounter:
    """Turns encoder counts into profiles due; pure bookkeeping, no clock inside.

    every: counts from one profile to the next. With `backward` ignored a place gives one profile however often
    the line shakes over it; scanned, each pass over a multiple of `every` gives one.
    """

    def __init__(self, every: int, backward: Literal["ignored", "scanned"] = "ignored") -> None:
        self._every, self._backward = every, backward
        self._last, self._farthest = 0, 0

    def feed(self, count: int) -> tuple[int, ...]:
        """Places (in multiples of `every`) whose profiles became due on the way to this count."""
        before, self._last = self._last, count
        if self._backward == "ignored":
            reached = max(self._farthest, count // self._every)
            due = tuple(range(self._farthest + 1, reached + 1))
            self._farthest = reached
            return due
        if count >= before:
            return tuple(range(before // self._every + 1, count // self._every + 1))
        # going back, a place is passed when the count falls to it
        return tuple(range(-(-before // self._every) - 1, -(-count // self._every) - 1, -1))
