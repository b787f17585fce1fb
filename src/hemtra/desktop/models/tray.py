"""The tray: recorded scans that the plan is tried on."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from hemtra.core.detection.part_box import height_span, part_box
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.possible import least_coverage
from hemtra.core.evaluation.results import Result
from hemtra.core.evaluation.rows import Rests, evaluated_series, weighed
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.scan import Scan
from hemtra.core.plan.document import ByProfile, Characteristic
from hemtra.core.plan.limits import CharacteristicResult, Verdict, part_verdict
from hemtra.desktop.models.observe import Signal

TAGS = ("good", "bad", "not measurable", "unknown")
"""Known state of a part: good, bad, or unknown."""
EXPECTED = {"good": Verdict.PASS, "bad": Verdict.FAIL, "not measurable": Verdict.NOT_MEASURED}
MARGIN = 0.05
"""Room around a part in its view, as a share of its size."""


@dataclass
class TrayPart:
    """A scan with its tag and what the plan makes of it; `stale` until the last change has reached it."""

    scan: Scan
    path: Path | None = None
    tag: str = "unknown"
    result: Result | None = None
    error: str = ""
    stale: bool = True
    engine: Engine = field(init=False)
    height_span: tuple[float, float] = field(init=False)
    """Heights in mm that colours of its thumbnail span."""
    extent: tuple[float, float, float, float] = field(init=False)
    """x from, x to, y from, y to in mm of the part itself, without the bare belt around it."""

    def __post_init__(self) -> None:
        self.engine = Engine(self.scan.data, self.scan.serial)
        self.height_span = height_span(self.scan.data)
        self.extent = _with_room(part_box(self.scan.data), self.scan.data)

    @property
    def name(self) -> str:
        """Name of the part in the tray."""
        return Path(self.scan.name).stem or "scan"

    @property
    def agrees(self) -> bool | None:
        """Whether the verdict is what the tag says; None without a tag, a verdict or a row to evaluate by.

        A part that is bad should fail: that it was not measured says nothing of it, unless its tag says so.
        """
        if self.tag == "unknown" or self.result is None or not self.result.characteristics:
            return None
        return self.result.verdict is EXPECTED[self.tag]


def _with_room(
    box: tuple[float, float, float, float] | None, data: HeightMap
) -> tuple[float, float, float, float]:
    """The box of a part with room around it; the whole scan where no part is raised."""
    if box is None:
        return data.extent
    x0, x1, y0, y1 = box
    room = MARGIN * max(x1 - x0, y1 - y0)
    return x0 - room, x1 + room, y0 - room, y1 + room


def verdict_changes(
    parts: list[TrayPart], row: Characteristic, by_profile: ByProfile | None = None
) -> list[TrayPart]:
    """The parts whose verdict would change if a row had other limits; from their values as they are."""
    flipped = []
    for part in parts:
        if part.result is None:
            continue
        verdicts = [
            _verdict(row, part.result, c, by_profile) if c.balloon == row.balloon else c.verdict
            for c in part.result.characteristics
        ]
        if part_verdict(verdicts) is not part.result.verdict:
            flipped.append(part)
    return flipped


def _verdict(
    row: Characteristic, result: Result, before: CharacteristicResult, by_profile: ByProfile | None
) -> Verdict:
    """Re-evaluate a row's value with other limits; too little data stays too little."""
    series = result.series.get(row.balloon)
    if series is not None:
        return evaluated_series(row, series, before.unit, by_profile).verdict
    if before.value is None or row.step is None:
        return before.verdict
    span = None if before.low is None or before.high is None else (before.low, before.high)
    least = least_coverage(result.steps, row.step)
    return weighed(row, before.value, Rests(span, before.coverage, least))[0]


class Tray:
    """The recorded parts and which of them is on the stage."""

    def __init__(self) -> None:
        self.changed = Signal()
        self.current_changed = Signal()
        self.parts: list[TrayPart] = []
        self._current = -1

    @property
    def current(self) -> TrayPart | None:
        """The part on the stage."""
        return self.parts[self._current] if 0 <= self._current < len(self.parts) else None

    @property
    def agreement(self) -> tuple[int, int]:
        """Number of tagged parts with the right verdict, and of tagged parts."""
        known = [part.agrees for part in self.parts if part.agrees is not None]
        return sum(known), len(known)

    def clear(self) -> None:
        """Take everything out."""
        self.parts, self._current = [], -1
        self.changed.emit()
        self.current_changed.emit()

    def add(self, *parts: TrayPart) -> None:
        """Add parts at the end; the first one of all is shown on the stage."""
        self.parts += parts
        self.changed.emit()
        if self._current < 0:
            self.select(0)

    def select(self, index: int) -> None:
        """Show a part on the stage."""
        if 0 <= index < len(self.parts) and index != self._current:
            self._current = index
            self.current_changed.emit()

    def step(self, by: int) -> None:
        """Go to another part, around the ends."""
        if self.parts:
            self.select((self._current + by) % len(self.parts))

    def tag(self, part: TrayPart, tag: str) -> None:
        """Tag a part as good, bad or unknown."""
        part.tag = tag
        self.changed.emit()

    def mark_stale(self) -> None:
        """The plan has changed; no result stands until it is evaluated again."""
        for part in self.parts:
            part.stale = True
        self.changed.emit()
