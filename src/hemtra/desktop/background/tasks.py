"""Reading, writing and other long work: one thread a task, with progress and cancel."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, QThread, Signal, Slot


class Task(QThread):
    """Runs `work(task)` beside the window; `work` reports with `report` and looks at `cancelled`."""

    progress = Signal(int, int, str)
    produced = Signal(object)
    succeeded = Signal(object)
    failed = Signal(object)

    def __init__(
        self, label: str, work: Callable[[Task], Any], parent: QObject, *, background: bool = False
    ) -> None:
        """background: shown only while nothing else is under way."""
        super().__init__(parent)
        self.label, self.background = label, background
        self._work = work
        self.cancelled = False
        self.leaving = False
        """Whether it stops because the window closes, not because somebody cancelled it."""

    def report(self, done: int, of: int, what: str) -> bool:
        """Report progress; answers whether to continue."""
        self.progress.emit(done, of, what)
        return not self.cancelled

    def produce(self, item: Any) -> None:
        """Hand over a part of the result early."""
        self.produced.emit(item)

    def cancel(self) -> None:
        """Ask the work to stop at its next look."""
        self.cancelled = True

    def run(self) -> None:
        """The thread itself."""
        try:
            self.succeeded.emit(self._work(self))
        except Exception as error:  # the window must hear of whatever it is
            self.failed.emit(error)


class Tasks(QObject):
    """The tasks that are under way; calls back on the main thread."""

    changed = Signal()

    def __init__(self, on_error: Callable[[BaseException], None], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.running: list[Task] = []
        self._on_error = on_error
        self._callbacks: dict[Task, tuple[Callable[[Any], None] | None, Callable[[Any], None] | None]] = {}

    def start(
        self,
        label: str,
        work: Callable[[Task], Any],
        done: Callable[[Any], None] | None = None,
        item: Callable[[Any], None] | None = None,
        *,
        background: bool = False,
    ) -> Task:
        """Start work; `done` gets its result, `item` what it produces meanwhile, both on the main thread."""
        task = Task(label, work, self, background=background)
        self._callbacks[task] = (done, item)
        self.running.append(task)
        # bound methods of an object of this thread, so that Qt delivers them here
        task.succeeded.connect(self._succeeded)
        task.failed.connect(self._failed)
        task.produced.connect(self._produced)
        task.progress.connect(self._progressed)
        task.finished.connect(self._finished)
        task.start()
        self.changed.emit()
        return task

    def stop(self) -> None:
        """Cancel everything and wait."""
        for task in tuple(self.running):
            task.leaving = True
            task.cancel()
            task.wait()
        self.running.clear()
        self._callbacks.clear()

    @Slot(object)
    def _succeeded(self, result: Any) -> None:
        callbacks = self._callbacks.get(self._sender())
        if callbacks and callbacks[0]:
            callbacks[0](result)

    @Slot(object)
    def _failed(self, error: BaseException) -> None:
        self._on_error(error)

    @Slot(object)
    def _produced(self, item: Any) -> None:
        callbacks = self._callbacks.get(self._sender())
        if callbacks and callbacks[1]:
            callbacks[1](item)

    @Slot(int, int, str)
    def _progressed(self, done: int, of: int, what: str) -> None:
        self.changed.emit()

    @Slot()
    def _finished(self) -> None:
        task = self._sender()
        if task in self.running:
            self.running.remove(task)
        self._callbacks.pop(task, None)
        task.deleteLater()
        self.changed.emit()

    def _sender(self) -> Task:
        sender = self.sender()
        assert isinstance(sender, Task)
        return sender
