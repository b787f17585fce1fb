"""Start of scans: the station's trigger, and triggers derived from the profiles themselves."""

from __future__ import annotations

from typing import Annotated, Literal, Protocol, Self, TypeAlias

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from hemtra.core.compiled import compiled
from hemtra.core.form_fields import Form, setting
from hemtra.core.station.optics import Limit, Positive
from hemtra.core.station.travel import MOST_PROFILES, Travel
from hemtra.core.station.trigger import Early, TriggerRules

What: TypeAlias = Literal["front", "end"]
Started: TypeAlias = tuple[int, What]
"""Profile, and whether something started there or ended."""

EYE, DISTANCE, HEIGHT = ({"by": (by,)} for by in ("eye", "distance", "height"))
DELAYED = {"by": ("eye", "height", "manual", "reversal")}


class Trigger(Form):
    """Cause, delay and duration of a scan."""

    by: Literal["free", "eye", "distance", "height", "reversal", "manual"] = setting(
        "eye",
        "trigger",
        "What starts a scan.",
        choices={
            "free": "free running",
            "distance": "travelled distance",
            "height": "height threshold",
            "manual": "by hand",
        },
    )
    distance: Annotated[float, Field(ge=0, le=1e6, allow_inf_nan=False)] = setting(
        0.0, "eye", "From the eye to the laser.", unit="mm", when=EYE
    )
    every: Positive = setting(300.0, "every", "Travel from scan to scan.", unit="mm", when=DISTANCE)
    over: Limit = setting(0.0, "over", "Height that something must exceed.", unit="mm", when=HEIGHT)
    wide: Positive = setting(5.0, "for", "Width that must exceed it.", unit="mm", when=HEIGHT)
    in_profiles: Annotated[int, Field(ge=1, le=1000)] = setting(
        3, "in profiles", "Profiles in a row that must show it.", when=HEIGHT
    )
    delay: Limit = setting(
        0.0,
        "delay",
        "From the trigger to the first profile; below zero the scan begins before its trigger.",
        when=DELAYED,
    )
    delay_in: Literal["mm", "pulses", "ms"] = setting(
        "mm",
        "delay in",
        "What the delay is counted in.",
        choices={"pulses": "counts"},
        when=DELAYED,
    )
    length: Positive = setting(100.0, "scan length", "Of one scan.")
    length_in: Literal["mm", "profiles", "trigger"] = setting(
        "mm",
        "length in",
        "What the length is counted in, or whether a scan lasts as long as its trigger.",
        choices={"trigger": "while trigger is on"},
    )
    early: Early = setting(
        "ignore",
        "early trigger",
        "What a trigger does whose scan would begin before the one before is complete.",
        choices={
            "ignore": "is ignored",
            "close": "end current scan",
            "pad": "end and pad current scan",
            "share": "both share",
        },
    )
    waiting: Annotated[int, Field(ge=1, le=1000)] = setting(
        8, "trigger queue limit", "Triggers in transit from the eye to the laser.", when=EYE
    )
    time_limit: Annotated[float, Field(gt=0, le=86_400, allow_inf_nan=False)] | None = setting(
        None, "time limit", "A scan that takes longer is closed as faulty.", unit="s"
    )

    @model_validator(mode="after")
    def _makes_sense(self) -> Self:
        if self.delay_in == "ms" and self.delay < 0:
            raise ValueError("a delay in ms cannot be below zero; count it in mm to begin before the trigger")
        if self.length_in == "trigger" and self.by not in ("eye", "height"):
            raise ValueError("only an eye or a height threshold says when a part has passed")
        return self

    def delay_mm(self, travel: Travel) -> float:
        """The delay as travel, at the speed of the belt where it is a time."""
        if self.by not in DELAYED["by"]:
            return 0.0
        per = {"mm": 1.0, "pulses": 1.0 / travel.encoder.counts_per_mm, "ms": travel.speed / 1000.0}
        return self.delay * per[self.delay_in]

    def length_mm(self, travel: Travel) -> float | None:
        """The length of a scan in mm; None when it lasts as long as its trigger."""
        if self.length_in == "trigger":
            return None
        return self.length * (travel.spacing if self.length_in == "profiles" else 1.0)

    def rules(self, travel: Travel) -> TriggerRules:
        """All of it counted in profiles and seconds."""
        spacing, length = travel.spacing, self.length_mm(travel)
        delay = self.delay_mm(travel)
        # what has passed the eye lies as far before the laser as its front did; the lead is kept behind it
        tail = 2 * self.distance - delay if self.by == "eye" else -delay
        profiles = None if length is None else travel.profiles_in(length)
        seen_late = self.in_profiles - 1 if self.by == "height" else 0
        by_time = self.delay_in == "ms" and self.by in DELAYED["by"]
        return TriggerRules(
            delay=0 if by_time else max(round(delay / spacing), -MOST_PROFILES) - seen_late,
            length=profiles,
            early=self.early,
            waiting=self.waiting,
            time_limit=self.time_limit,
            tail=round(tail / spacing) - seen_late,
            delay_time=self.delay / 1000.0 if by_time else None,
            tail_time=max(0.0, tail / travel.speed) if by_time else 0.0,
        )


class TriggerDetector(Protocol):
    """Detects starts and ends in arriving profiles."""

    def feed(self, first: int, z: NDArray[np.float32], places: NDArray[np.int64]) -> list[Started]:
        """Starts within these profiles. z: (n, cols) heights in mm; places: (n,) along the travel."""


class _Every:
    """A scan every so many profiles: a travelled distance, or one after the other."""

    def __init__(self, profiles: int) -> None:
        self._profiles = profiles

    def feed(self, first: int, z: NDArray[np.float32], places: NDArray[np.int64]) -> list[Started]:
        """Every so manyth profile."""
        start = -(-first // self._profiles) * self._profiles
        return [(index, "front") for index in range(start, first + len(z), self._profiles)]


class _Height:
    """Something higher than `over` on `wide` columns in so many profiles in a row; likewise its end."""

    def __init__(self, over: float, wide: int, in_profiles: int) -> None:
        self._over, self._wide, self._needed = over, wide, in_profiles
        self._present, self._others = False, 0

    def feed(self, first: int, z: NDArray[np.float32], places: NDArray[np.int64]) -> list[Started]:
        """Place where enough consecutive profiles show something, or nothing any more."""
        found: list[Started] = []
        for index, width in enumerate(widest_over(z, self._over), start=first):
            if (width >= self._wide) == self._present:
                self._others = 0
                continue
            self._others += 1
            if self._others == self._needed:
                self._present, self._others = not self._present, 0
                found.append((index, "front" if self._present else "end"))
        return found


class _Reversal:
    """The line sets off, or turns round."""

    def __init__(self) -> None:
        self._last: int | None = None
        self._direction = 0

    def feed(self, first: int, z: NDArray[np.float32], places: NDArray[np.int64]) -> list[Started]:
        """Places where the positions begin to rise or to fall."""
        found: list[Started] = []
        for index, place in enumerate(places.tolist(), start=first):
            direction = 1 if self._last is None or place > self._last else -1
            if direction != self._direction:
                found.append((index, "front"))
            self._last, self._direction = place, direction
        return found


def starter(trigger: Trigger, travel: Travel, pitch: float) -> TriggerDetector | None:
    """What looks at the profiles for a trigger, None where nothing does. spacing: of the columns in mm."""
    if trigger.by == "free":
        return _Every(travel.profiles_in(trigger.length_mm(travel) or trigger.length))
    if trigger.by == "distance":
        return _Every(max(1, round(trigger.every / travel.spacing)))
    if trigger.by == "height":
        return _Height(trigger.over, max(1, round(trigger.wide / pitch)), trigger.in_profiles)
    return _Reversal() if trigger.by == "reversal" else None


@compiled
def widest_over(z: NDArray[np.float32], over: float) -> NDArray[np.int64]:
    """Columns of the widest stretch higher than `over` in each row of z (rows, cols), in mm.

    A stretch reaches from its first to its last point over it; points without data do not break it.
    """
    widest = np.zeros(z.shape[0], np.int64)
    for i in range(z.shape[0]):
        start = -1
        for j in range(z.shape[1]):
            height = z[i, j]
            if np.isnan(height):
                continue
            if height <= over:
                start = -1
                continue
            if start < 0:
                start = j
            widest[i] = max(widest[i], j - start + 1)
    return widest
