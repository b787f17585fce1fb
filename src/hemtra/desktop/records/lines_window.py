"""All lines that write into the records: what each does now, how it passes, what it fails most."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass

from PySide6.QtGui import QColor
from PySide6.QtWidgets import QWidget

from hemtra.core.text import percent
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.records.polled_window import PolledWindow
from hemtra.desktop.widgets import theme, units
from hemtra.storage.records import Records
from hemtra.storage.records.lines import LineState, all_lines, forget
from hemtra.storage.records.store import Lot
from hemtra.storage.records.trends import failures

COLUMNS = (
    ("line", 120),
    ("computer", 100),
    ("state", 70),
    ("plan", 130),
    ("lot", 140),
    ("parts", 60),
    ("pass", 66),
    ("fails most", 150),
    ("latency", 70),
    ("waiting", 60),
)
STATE = 2
EVERY_MS = 5000
EMPTY = "No line has written into these records yet. A line says what it does every 5 s while it runs."
TINTS = {"runs": "passed", "lost": "failed"}
"""Colour of a state that should be seen from afar."""


@dataclass(frozen=True)
class ShownLine:
    """A line, and in words what its lot fails most."""

    line: LineState
    worst: str


class LinesWindow(PolledWindow):
    """Lines that are gone for good can be forgotten."""

    def __init__(self, records: Callable[[], str], tasks: Tasks, parent: QWidget) -> None:
        """records: where they are; '' where there are none."""
        super().__init__("Lines", COLUMNS, "Lines that write into the records", tasks, parent)
        self._records = records
        self.shown: tuple[ShownLine, ...] = ()
        self.message.setText(EMPTY)
        tip = "Of a line that is gone for good; its parts stay."
        self.drop = self.button("Forget the line", self._forget, tip)
        self.begin(EVERY_MS)

    def read(self, task: Task) -> tuple[ShownLine, ...]:
        """See `PolledWindow`."""
        url = self._records()
        if not url:
            return ()
        with closing(Records(url, create=False)) as records:
            return _lines(records)

    def take(self, found: tuple[ShownLine, ...]) -> None:
        """See `PolledWindow`."""
        self.shown = found
        self.message.setText(EMPTY if not found else "Updated every 5 s.")
        self.fill([_cells(one) for one in found])
        for row, one in enumerate(found):
            item = self.table.item(row, STATE)
            if item is not None and one.line.shown in TINTS:
                item.setForeground(QColor(theme.colour(TINTS[one.line.shown])))

    @property
    def _chosen(self) -> LineState | None:
        row = self.table.currentRow()
        return self.shown[row].line if 0 <= row < len(self.shown) else None

    def offer(self) -> None:
        """See `PolledWindow`."""
        chosen = self._chosen
        self.drop.setEnabled(chosen is not None and chosen.shown in ("lost", "stopped"))

    def _forget(self) -> None:
        chosen, url = self._chosen, self._records()
        if chosen is None:
            return

        def work(task: Task) -> tuple[ShownLine, ...]:
            with closing(Records(url, create=False)) as records:
                forget(records, chosen)
                return _lines(records)

        self.do(work)


def _lines(records: Records) -> tuple[ShownLine, ...]:
    newest: dict[tuple[str, str], Lot] = {}
    for one in records.all_lots():
        newest.setdefault((one.plan, one.name), one)
    shown = []
    for line in all_lines(records):
        lot = newest.get((line.plan, line.lot))
        worst = [row for row in failures(records, [lot]) if row.count] if lot is not None else []
        text = f"{worst[0].balloon} {worst[0].name}: {worst[0].count}" if worst else ""
        shown.append(ShownLine(line, text))
    return tuple(shown)


def _cells(one: ShownLine) -> tuple[str, ...]:
    line = one.line
    share = "–" if line.share is None else units.signed(percent(line.share, 1))
    latency = f"{1000 * line.latency:.0f} ms" if line.parts else "–"
    counts = str(line.parts), share, one.worst, latency, str(line.waiting)
    return (line.name, line.host, line.shown, line.plan, line.lot, *counts)
