"""Filter of parts: verdict, balloon, serial, days, plan revision."""

from __future__ import annotations

import time
from collections.abc import Sequence
from contextlib import suppress
from typing import Any

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QComboBox, QFrame, QHBoxLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout

from hemtra.core.plan.limits import Verdict
from hemtra.desktop.models.records_bench import RecordsBench
from hemtra.storage.records.pages import NOT_PASS, Filter

TYPING = 250
"""Delay between the last key and the search, ms."""
ONE_ROW = 1100
"""Width from which on it fits into one row, pixels."""
DAY = "%Y-%m-%d"
VERDICTS: tuple[tuple[str, tuple[Verdict, ...]], ...] = (
    ("any verdict", ()),
    ("did not pass", NOT_PASS),
    ("FAIL", (Verdict.FAIL,)),
    ("NOT MEASURED", (Verdict.NOT_MEASURED,)),
    ("PASS", (Verdict.PASS,)),
)


class FilterBar(QFrame):
    """Each change asks anew; “all parts” takes every condition away."""

    def __init__(self, bench: RecordsBench) -> None:
        super().__init__()
        self._bench, self._filling = bench, False
        self.verdict, self.balloon, self.revision = QComboBox(), QComboBox(), QComboBox()
        for title, verdicts in VERDICTS:
            self.verdict.addItem(title, verdicts)
        self.serial, self.since, self.until = QLineEdit(), QLineEdit(), QLineEdit()
        self.clear, self.message = QPushButton("All parts"), QLabel()
        self.clear.setObjectName("action")
        self.message.setObjectName("muted")
        self._name_fields()
        self._first, self._second = QHBoxLayout(), QHBoxLayout()
        self._narrow_now: bool | None = None
        rows = QVBoxLayout(self)
        rows.setContentsMargins(10, 6, 10, 4)
        rows.setSpacing(4)
        for widget, width in (
            (self.verdict, 124),
            (self.balloon, 190),
            (self.revision, 178),
            (self.serial, 120),
            (self.since, 112),
            (self.until, 112),
        ):
            widget.setFixedWidth(width)
        self.message.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        rows.addLayout(self._first)
        rows.addLayout(self._second)
        self._arrange(narrow=False)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(TYPING)
        self._timer.timeout.connect(self._narrow)
        for choice in (self.verdict, self.balloon, self.revision):
            choice.activated.connect(self._narrow)
        for field in (self.serial, self.since, self.until):
            field.textEdited.connect(lambda _: self._timer.start())
            field.returnPressed.connect(self._narrow)
        self.clear.clicked.connect(self._take_away)
        bench.overview_changed.connect(self._fill)
        bench.lots_changed.connect(self._fill)
        bench.parts_changed.connect(self._announce)
        self._fill()

    def _arrange(self, *, narrow: bool) -> None:
        """Arrange in one row, or in two."""
        if narrow == self._narrow_now:
            return
        self._narrow_now = narrow
        for line in (self._first, self._second):
            while line.count():
                line.takeAt(0)
            line.setSpacing(8)
        for widget in (self.verdict, self.balloon, self.revision):
            self._first.addWidget(widget)
        second = self._second if narrow else self._first
        for other in (self.serial, self.since, self.until, self.clear):
            second.addWidget(other)
        if narrow:
            self._second.addStretch(1)
        self._first.addWidget(self.message, 1)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """There may be room for one row."""
        super().resizeEvent(event)
        self._arrange(narrow=self.width() < ONE_ROW)

    def _name_fields(self) -> None:
        for field, name, hint, help_text in (
            (self.serial, "Serial", "serial begins", "How the serial number begins."),
            (self.since, "From day", "from day", "The first day, like 2026-01-31."),
            (self.until, "To day", "to day", "The last day, like 2026-01-31."),
        ):
            field.setAccessibleName(name)
            field.setPlaceholderText(hint)
            field.setToolTip(help_text)
            field.setClearButtonEnabled(True)
        for choice, name, help_text in (
            (self.verdict, "Verdict", "Of the part."),
            (self.balloon, "Balloon", "A characteristic that the part does not pass."),
            (self.revision, "Plan revision", "What the part was evaluated with."),
        ):
            choice.setAccessibleName(name)
            choice.setToolTip(help_text)

    def _fill(self) -> None:
        """Offer what the chosen lots hold."""
        overview = self._bench.overview
        balloons = sorted(overview.failures, key=lambda row: row.balloon)
        _offer(
            self.balloon,
            # numbers, which a list finds again
            [("any balloon", None), *((f"{row.balloon} {row.name}", int(row.balloon)) for row in balloons)],
            self._bench.filter.balloon,
        )
        revisions: list[tuple[str, int | None]] = [("any revision", None)]
        for revision in overview.revisions:
            seen = time.strftime("%Y-%m-%d %H:%M", time.localtime(revision.seen))
            again = any(seen == other for other, _ in revisions)
            revisions.append(
                (f"{seen}:{time.localtime(revision.seen).tm_sec:02d}" if again else seen, revision.id)
            )
        _offer(self.revision, revisions, self._bench.filter.revision)

    def _narrow(self) -> None:
        self._timer.stop()
        since, until = day_of(self.since), day_of(self.until)
        self._bench.narrow(
            Filter(
                verdicts=self.verdict.currentData(),
                balloon=self.balloon.currentData(),
                serial=self.serial.text().strip(),
                since=since,
                until=None if until is None else next_day(until),
                revision=self.revision.currentData(),
            )
        )

    def _take_away(self) -> None:
        for field in (self.serial, self.since, self.until):
            field.clear()
            field.setProperty("wrong", False)
            field.style().polish(field)
        for choice in (self.verdict, self.balloon, self.revision):
            choice.setCurrentIndex(0)
        self._narrow()

    def show_failing(self, balloon: int | None) -> None:
        """Want the parts that do not pass a characteristic."""
        self.balloon.setCurrentIndex(max(self.balloon.findData(balloon), 0))
        self._narrow()

    def _announce(self) -> None:
        bench = self._bench
        number = "…" if bench.total is None else f"{bench.total:,}".replace(",", " ")
        of = "" if bench.total == bench.counts.all else f" of {bench.counts.all:,}".replace(",", " ")
        self.message.setText(f"{number}{of} parts")


def _offer(choice: QComboBox, entries: Sequence[tuple[str, Any]], chosen: Any) -> None:
    """Fill a choice and keep what is chosen."""
    if [(choice.itemText(k), choice.itemData(k)) for k in range(choice.count())] != list(entries):
        choice.clear()
        for title, value in entries:
            choice.addItem(title, value)
    choice.setCurrentIndex(max(choice.findData(chosen), 0))


def day_of(field: QLineEdit) -> float | None:
    """The beginning of the day that was typed, in seconds since 1970; the field is marked where it is none."""
    text, found = field.text().strip(), None
    with suppress(ValueError, OverflowError):
        found = time.mktime(time.strptime(text, DAY)) if text else None
    wrong = bool(text) and found is None
    if bool(field.property("wrong")) != wrong:
        field.setProperty("wrong", wrong)
        field.style().polish(field)
    return found


def next_day(day: float) -> float:
    """The beginning of the day after; not always 24 hours later."""
    at = time.localtime(day)
    return time.mktime((at.tm_year, at.tm_mon, at.tm_mday + 1, 0, 0, 0, 0, 0, -1))
