"""Messages and next steps in a bar at the top; work in progress, with cancel."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QProgressBar, QPushButton, QVBoxLayout, QWidget

from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.widgets import units
from hemtra.desktop.widgets.notifications import Notice

PATIENCE_MS = 350
"""Work shorter than this shows no progress: a flash would only disturb."""


class MessageBar(QFrame):
    """The latest notice until it is closed."""

    notice_wanted = Signal(object)
    """Takes notices from any thread to this one."""

    def __init__(self, trigger: Callable[[str], None], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("messageBar")
        self._trigger = trigger
        self.text = QLabel()
        self.text.setWordWrap(True)
        self._buttons = QHBoxLayout()
        close = QPushButton("Close")
        close.setObjectName("action")
        close.clicked.connect(self.hide)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(14, 5, 10, 5)
        layout.addWidget(self.text, 1)
        layout.addLayout(self._buttons)
        layout.addWidget(close)
        self.notice_wanted.connect(self._show)
        self.hide()

    def _show(self, notice: Notice) -> None:
        if not notice.text:
            self.hide()
            return
        self.setProperty("severity", notice.severity)
        self.style().polish(self)
        self.text.setText(units.signed(notice.text))
        while self._buttons.count():
            item = self._buttons.takeAt(0)
            widget = item.widget() if item else None
            if widget is not None:
                widget.deleteLater()
        for label, action in notice.actions:
            button = QPushButton(label)
            button.setObjectName("action")
            button.clicked.connect(lambda _=False, wanted=action: self._chosen(wanted))
            self._buttons.addWidget(button)
        self.show()

    def _chosen(self, action: str) -> None:
        self.hide()
        self._trigger(action)


class ProgressStrip(QFrame):
    """The oldest task under way; one in the background where there is no other."""

    def __init__(self, tasks: Tasks, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("messageBar")
        self.setProperty("severity", "info")
        self._tasks = tasks
        self._task: Task | None = None
        self._label, self._bar, cancel = QLabel(), QProgressBar(), QPushButton("Cancel")
        self._bar.setTextVisible(False)
        self._bar.setFixedSize(260, 6)
        cancel.setObjectName("action")
        cancel.clicked.connect(self._cancel)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(14, 5, 10, 5)
        layout.addWidget(self._label)
        layout.addWidget(self._bar)
        layout.addStretch()
        layout.addWidget(cancel)
        self._patience = QTimer(self, singleShot=True, interval=PATIENCE_MS)
        self._patience.timeout.connect(lambda: self.setVisible(bool(tasks.running)))
        tasks.changed.connect(self._refresh)
        self.hide()

    def _refresh(self) -> None:
        running = self._tasks.running
        if not running:
            self._patience.stop()
            self._task = None
            self.hide()
            return
        shown = min(running, key=lambda task: task.background)
        if shown is not self._task:
            self._task = shown
            self._label.setText(self._task.label)
            self._bar.setRange(0, 0)
            self._task.progress.connect(self._progressed)
            self._patience.start()

    def _progressed(self, done: int, of: int, what: str) -> None:
        if self.sender() is not self._task:
            return
        self._bar.setRange(0, of)
        self._bar.setValue(done)
        self._label.setText(f"{self._task.label if self._task else ''}: {what}")

    def _cancel(self) -> None:
        if self._task is not None:
            self._task.cancel()


def stacked(*widgets: QWidget) -> QWidget:
    """Widgets below each other without gaps."""
    holder = QWidget()
    layout = QVBoxLayout(holder)
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(0)
    for widget in widgets:
        layout.addWidget(widget)
    return holder
