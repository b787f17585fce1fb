"""Output interface of a line: states in, acknowledgement and time out."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Protocol


@dataclass(frozen=True)
class PartShown:
    """The part that the lines are about. verdict: its code. result: changes with every part."""

    number: int
    verdict: int
    result: bool


@dataclass(frozen=True)
class OutputState:
    """A change to write at once, and the listener for its acknowledgement.

    lines: digital ones by number. levels: counts of analogue outputs by number. ready, busy: None where they
    stay. done: hears when it stood there, as `time.monotonic` counts, or None where it never will. deadline:
    counted alike, after which it must not be written any more; `late` hears of that, and when it got there
    later than that. only_newest: only its newest value matters, so that it never waits by itself.
    """

    lines: Mapping[int, bool] = field(default_factory=dict)
    levels: Mapping[int, int] = field(default_factory=dict)
    part: PartShown | None = None
    ready: bool | None = None
    busy: bool | None = None
    done: Callable[[float | None], None] = lambda at: None
    deadline: float = math.inf
    late: Callable[[], None] = lambda: None
    only_newest: bool = False


class Output(Protocol):
    """Output of states to a line. No method waits for the other end."""

    @property
    def up(self) -> bool:
        """Whether what is there answers."""

    @property
    def lines(self) -> Mapping[int, bool]:
        """Wanted states of the digital lines."""

    @property
    def levels(self) -> Mapping[int, int]:
        """The counts that the analogue outputs should have."""

    def start(self) -> None:
        """Begin."""

    def put(self, state: OutputState) -> None:
        """Show a state, after those that were put before."""

    def stop(self) -> None:
        """Show what waits, take `ready` away, and end."""
