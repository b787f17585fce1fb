"""Source of a station's profiles; a run or a trial uses nothing but `Source`."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from hemtra.core.station.source import Source
from hemtra.core.station.station import Station
from hemtra.virtual.line import Mishap
from hemtra.virtual.parts import Part, part_named
from hemtra.virtual.source import VirtualLine


@dataclass(frozen=True)
class PassingParts:
    """Set-up of the simulated line. seed: of noise and jitter. mishap: the fault simulated."""

    parts: Sequence[Part]
    seed: int = 0
    mishap: Mishap = "none"


def made_up_parts(seed: int, count: int) -> PassingParts:
    """Pump covers, each as its number has it."""
    return PassingParts([part_named("rain-pump-cover", seed + k) for k in range(count)], seed)


def source_of(station: Station, passing: PassingParts, triggered: Callable[[], bool] = lambda: False) -> Source:
    """The source of a station; triggered: answers once with True when a hand has triggered."""
    return VirtualLine(station, passing.parts, passing.seed, passing.mishap, triggered)
