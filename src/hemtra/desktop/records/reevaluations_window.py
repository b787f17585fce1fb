"""Re-evaluations on record and under way: who had which lot evaluated by which plan, and what came of it."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass
from datetime import datetime

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.records.polled_window import PolledWindow
from hemtra.runtime.reevaluation_jobs import Job, all_jobs
from hemtra.storage.records import Records
from hemtra.storage.records.reevaluations import KeptReevaluation, kept

COLUMNS = (
    ("when", 150),
    ("by", 100),
    ("lot", 180),
    ("plan", 190),
    ("state", 90),
    ("changes", 70),
    ("verdicts", 60),
)
EVERY_MS = 1000
EMPTY = "No lot was re-evaluated yet. “Re-evaluate with…” compares recorded lots with another plan."


@dataclass(frozen=True)
class Shown:
    """All that is listed; jobs: those under way."""

    kept: tuple[KeptReevaluation, ...] = ()
    jobs: tuple[Job, ...] = ()

    def state(self, one: KeptReevaluation) -> str:
        """State of a re-evaluation in a word."""
        if one.ended is not None:
            return "done"
        return (
            "under way"
            if any(one.digest == job.order.digest and one.lot_id in job.order.lots for job in self.jobs)
            else "stopped"
        )


class ReevaluationsWindow(PolledWindow):
    """Enter or a double click opens one that is done."""

    wanted = Signal(object)
    """A re-evaluation to open."""

    def __init__(self, records: Callable[[], str], tasks: Tasks, parent: QWidget) -> None:
        """records: where they are; '' where there are none."""
        super().__init__("Re-evaluations", COLUMNS, "Re-evaluations; Enter opens one", tasks, parent)
        self._records, self.shown = records, Shown()
        self.table.activated.connect(lambda _: self._open())
        self.message.setText(EMPTY)
        tip = "What was found is kept; started again, it continues there."
        self.stop_button = self.button("Stop", self._stop, tip)
        self.open_button = self.button("Open", self._open)
        self.begin(EVERY_MS)

    def read(self, task: Task) -> Shown:
        """See `PolledWindow`."""
        url = self._records()
        if not url:
            return Shown()
        known = {one.id: one for one in self.shown.kept if one.ended is not None}
        with closing(Records(url, create=False)) as records:
            return Shown(tuple(kept(records, known)), tuple(job for job in all_jobs() if job.is_running))

    def take(self, found: Shown) -> None:
        """See `PolledWindow`."""
        self.shown = found
        under_way = [job.state.what for job in found.jobs]
        self.message.setText("\n".join(filter(None, under_way)) or ("" if found.kept else EMPTY))
        self.fill([_cells(one, found.state(one)) for one in found.kept])

    @property
    def _chosen(self) -> KeptReevaluation | None:
        row = self.table.currentRow()
        return self.shown.kept[row] if 0 <= row < len(self.shown.kept) else None

    def offer(self) -> None:
        """See `PolledWindow`."""
        chosen = self._chosen
        self.open_button.setEnabled(chosen is not None and chosen.ended is not None)
        self.stop_button.setEnabled(bool(self.shown.jobs))

    def _open(self) -> None:
        chosen = self._chosen
        if chosen is not None and chosen.ended is not None:
            self.wanted.emit(chosen)
            self.close()

    def _stop(self) -> None:
        for job in self.shown.jobs:
            job.stop()


def _cells(one: KeptReevaluation, state: str) -> tuple[str, ...]:
    when = datetime.fromtimestamp(one.began).astimezone().strftime("%Y-%m-%d %H:%M")
    counts = ("", "") if one.result is None else (str(len(one.result["changes"])), str(one.result["flips"]))
    return (when, one.author, one.lot, one.plan, state, *counts)
