"""A tour of seven short steps on the demo, each ticked off when it is done."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton

from hemtra.core.plan.document import Characteristic, Plan
from hemtra.core.zones.zone import AnyZone

if TYPE_CHECKING:
    from hemtra.desktop.documents.session import Session

BAD_PART, FAILED = "03", 5
"""Demo part of the tour, and a balloon that it fails because of balloon 1."""
DEMO_PARTS = 24


@dataclass
class Seen:
    """State at the start of a step, to notice a change."""

    plan: Plan = field(default_factory=Plan)

    def moved_zones(self, plan: Plan) -> bool:
        """Whether a zone lies elsewhere."""
        return _zones(plan) != _zones(self.plan)

    def other_limits(self, plan: Plan) -> bool:
        """Whether a row has other limits."""
        return _limits(plan.sheet) != _limits(self.plan.sheet)


@dataclass(frozen=True)
class TourStep:
    """The instruction, and whether it is done."""

    words: str
    done: Callable[[Session, Seen], bool]


def _on_bad_part(session: Session, seen: Seen) -> bool:
    part = session.bench.tray.current
    return part is not None and part.name.endswith(BAD_PART)


STEPS = (
    TourStep(f"Press Space until part {BAD_PART} is on the stage.", _on_bad_part),
    TourStep(
        f"Balloons 1 and {FAILED} are diamonds: they fail. Click {FAILED} on the stage or in the sheet.",
        lambda session, seen: session.bench.balloon == FAILED,
    ),
    TourStep(
        "Click balloon 1. Chips lead from the scan to the value: click “Boss NE top” to open its card.",
        lambda session, seen: session.bench.card == "boss-ne-top",
    ),
    TourStep(
        "Drag the copper zone on the stage: the value follows. Release it, and the tray is inspected again.",
        lambda session, seen: seen.moved_zones(session.bench.document.plan),
    ),
    TourStep(
        "Press Ctrl+Z to undo it.",
        lambda session, seen: bool(session.bench.document.redo_label),
    ),
    TourStep(
        "Type other limits into the open row of the sheet, such as 4.00 ±0.35, and press Enter.",
        lambda session, seen: seen.other_limits(session.bench.document.plan),
    ),
    TourStep(
        "Press Alt+4: Records shows what the line has produced, what fails most, and every trend.",
        lambda session, seen: session.shown == "records",
    ),
)
END = "That was the tour. F1 opens the manual at the page for what has the focus; Ctrl+K finds any command."


class Tour(QFrame):
    """Current step of the tour, above the workspaces; not shown without a tour."""

    def __init__(self, session: Session, trigger: Callable[[str], None]) -> None:
        super().__init__()
        self.setObjectName("messageBar")
        self.setProperty("severity", "info")
        self._session, self._trigger = session, trigger
        self.number = 0
        self._seen = Seen()
        self.text, self.count = QLabel(), QLabel()
        self.text.setWordWrap(True)
        self.count.setStyleSheet("font-weight: bold;")
        self.skip, end = QPushButton("Skip"), QPushButton("End the tour")
        for button in (self.skip, end):
            button.setObjectName("action")
        self.skip.clicked.connect(self._next)
        end.clicked.connect(self.hide)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(14, 5, 10, 5)
        layout.addWidget(self.count)
        layout.addWidget(self.text, 1)
        layout.addWidget(self.skip)
        layout.addWidget(end)
        self.hide()

    def begin(self) -> None:
        """Start, on the demo, which is opened where it is not open."""
        tray = self._session.bench.tray
        if len(tray.parts) < DEMO_PARTS or not any(p.name.endswith(BAD_PART) for p in tray.parts):
            self._trigger("plan.demo")
        else:
            self._session.show("plan")
        self.number = 0
        self._show()
        self.show()

    def check(self) -> None:
        """Tick off what is done; one step at a time, so that none is missed."""
        if self.isHidden() or self.number >= len(STEPS):
            return
        if STEPS[self.number].done(self._session, self._seen):
            self._next()

    def _next(self) -> None:
        self.number += 1
        self._show()

    def _show(self) -> None:
        self._seen = Seen(self._session.bench.document.plan)
        over = self.number >= len(STEPS)
        ticks = "✓ " * self.number
        self.count.setText(ticks.strip() if over else f"{ticks}{self.number + 1} of {len(STEPS)}")
        self.text.setText(END if over else STEPS[self.number].words)
        self.skip.setVisible(not over)


def _zones(plan: Plan) -> dict[str, AnyZone | None]:
    return {step.id: step.zone for step in plan.steps}


def _limits(rows: tuple[Characteristic, ...]) -> list[tuple[float | None, float | None]]:
    return [(row.lower, row.upper) for row in rows]
