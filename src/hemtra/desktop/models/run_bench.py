"""State of the Run workspace: the last parts, counts, trends, and the health of outputs and records."""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass, field
from math import inf
from statistics import stdev

from hemtra.core.events import Event
from hemtra.core.plan.document import Plan
from hemtra.core.plan.limits import CharacteristicResult, Verdict
from hemtra.desktop.models.observe import Signal
from hemtra.runtime.production import Done
from hemtra.runtime.times import Times
from hemtra.storage.records.store import Counts

RIBBON, TREND, EVENTS = 60, 200, 100
"""Parts of the ribbon and of a trend, and events, that are held."""


@dataclass(frozen=True)
class RunEnvironment:
    """The state of what surrounds a run, as last looked at.

    link: whether the I/O module answers, None without one. lines: of each signal its name, its state in words,
    and whether it is on. speed: mm/s of the belt, None where it has none. free: GB of disk, None where no scans
    are kept.
    """

    link: bool | None = None
    lines: tuple[tuple[str, str, bool], ...] = ()
    speed: float | None = None
    waiting: int = 0
    in_flight: int = 0
    free: float | None = None
    times: Times = field(default_factory=Times)
    cycle: float | None = None
    """Time between two parts, where the line states it, s."""
    master: tuple[str, bool] | None = None
    """State of the master part in words, and whether parts may pass; None where the plan needs none."""


class RunBench:
    """Model of the Run workspace."""

    def __init__(self) -> None:
        self.changed, self.outside_changed = Signal(), Signal()
        self.state = "idle"
        """“idle”, “starting”, “running”, “paused” or “stopping”."""
        self.plan: Plan | None = None
        self.lot = ""
        self.counts = Counts()
        self.parts: deque[Done] = deque(maxlen=RIBBON)
        self.trends: dict[int, deque[CharacteristicResult]] = {}
        self.events: deque[Event] = deque(maxlen=EVENTS)
        self.outside = RunEnvironment()
        self.trouble = ""
        self.began = 0.0
        self._held: int | None = None

    @property
    def is_running(self) -> bool:
        """Whether a line is taken care of."""
        return self.state != "idle"

    @property
    def shown(self) -> Done | None:
        """The part that is held, or the last one."""
        if self._held is not None:
            found = next((d for d in self.parts if d.record.id == self._held), None)
            if found is not None:
                return found
        return self.parts[-1] if self.parts else None

    @property
    def is_held(self) -> bool:
        """Whether a part is held while the line continues."""
        return self._held is not None and any(d.record.id == self._held for d in self.parts)

    def hold(self, done: Done | None) -> None:
        """Hold a part, or release it and show the last one again."""
        self._held = None if done is None else done.record.id
        self.changed.emit()

    def begin(self, plan: Plan, lot: str, counts: Counts, now: float) -> None:
        """A run has begun."""
        self.plan, self.lot, self.counts, self.began = plan, lot, counts, now
        self.trouble, self._held = "", None
        self.trends = {row.balloon: deque(maxlen=TREND) for row in plan.sheet if not row.off}
        self.set_state("running")

    def set_state(self, state: str) -> None:
        """State of the run."""
        self.state = state
        self.changed.emit()

    def take(self, done: Done, lot: str, counts: Counts) -> None:
        """A part is through."""
        self.lot, self.counts = lot, counts
        self.parts.append(done)
        for row in done.found.rows:
            self.trends.setdefault(row.balloon, deque(maxlen=TREND)).append(row)
        self.changed.emit()

    def happened(self, event: Event) -> None:
        """A message for the user."""
        self.events.append(event)
        self.changed.emit()

    def look(self, outside: RunEnvironment) -> None:
        """The state of what is outside."""
        if outside != self.outside:
            self.outside = outside
            self.outside_changed.emit()

    def ended(self, trouble: str) -> None:
        """The run is over."""
        self.trouble = trouble
        self.set_state("idle")

    def rows_by_margin(self, first: int, most: int) -> list[int]:
        """Balloons whose trends are shown, after the first so many: what failed or nearly did comes first."""
        scored = []
        for balloon, rows in self.trends.items():
            if not rows:
                continue
            last = list(rows)[-30:]
            failed = sum(row.verdict is not Verdict.PASS for row in last)
            scored.append((-failed, _margin(last), balloon))
        return sorted(balloon for *_, balloon in sorted(scored)[first : first + most])


def _margin(rows: Sequence[CharacteristicResult]) -> float:
    """Distance of the nearest of some values from a limit, in standard deviations of all of them.

    What was not measured counts as having none left. Values that do not vary are taken to vary by half the last
    digit shown.
    """
    values = [row.value for row in rows if row.value is not None]
    if len(values) < len(rows):
        return 0.0
    left = min(
        min(
            inf if row.lower is None else value - row.lower,
            inf if row.upper is None else row.upper - value,
        )
        for row, value in zip(rows, values, strict=True)
    )
    spread = stdev(values) if len(values) > 1 else 0.0
    return left / max(spread, 0.5 * 10.0 ** -rows[-1].decimals)
