"""Work beside the window: frozen requests in, responses out on the main thread."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from functools import partial
from typing import Any

from PySide6.QtCore import QObject, Qt, QThread, Signal, Slot

Superseded = Callable[[], bool]
Work = Callable[[Any, Superseded], Iterator[Any]]


class LatestTaskWorker(QThread):
    """One worker thread. Only the newest request counts: an older one that waits is dropped, one that runs is
    learns through its second argument that it is superseded."""

    responded = Signal(object, object)
    """(request, response), on the thread that the worker was made on."""
    failed = Signal(object, object)
    """(request, exception)"""
    _made = Signal(object, object)
    """The same from the worker's own thread: (request, response, or the exception in its place)."""

    def __init__(self, work: Work, name: str, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.setObjectName(name)
        self._work = work
        self._wake = threading.Condition()
        self._pending: Any = None
        self._generation = 0
        self._busy = False
        self._stopping = False
        self._under_way = 0
        """Responses that have not reached whoever waits for them."""
        self._made.connect(self._deliver, Qt.ConnectionType.QueuedConnection)

    def submit(self, request: Any) -> None:
        """Submit a request; it replaces the one that waits. Nothing is begun once the thread was ended."""
        with self._wake:
            if self._stopping:
                return
            self._pending = request
            self._generation += 1
            self._wake.notify()
        if not self.isRunning():
            self.start()

    def finish(self, request: Any) -> None:
        """Do this last request here and now, once nothing else is under way; when nobody will wait for it."""
        with self._wake:
            self._pending = None
            while self._busy:
                self._wake.wait()
        try:
            for response in self._work(request, lambda: False):
                self.responded.emit(request, response)
        except Exception as error:  # as in `run`
            self.failed.emit(request, error)

    def cancel(self) -> None:
        """Drop the request."""
        with self._wake:
            self._pending = None
            self._generation += 1

    @property
    def idle(self) -> bool:
        """Whether nothing waits or runs, and all that was made has been taken."""
        with self._wake:
            return self._pending is None and not self._busy and not self._under_way

    def stop(self) -> None:
        """End the thread and wait for it."""
        with self._wake:
            self._stopping = True
            self._generation += 1
            self._wake.notify()
        self.wait()

    def _is_past(self, generation: int) -> bool:
        return generation != self._generation

    def run(self) -> None:
        """The thread itself."""
        while True:
            with self._wake:
                self._busy = False
                self._wake.notify_all()
                while self._pending is None and not self._stopping:
                    self._wake.wait()
                if self._stopping:
                    return
                request, self._pending = self._pending, None
                generation, self._busy = self._generation, True
            superseded = partial(self._is_past, generation)
            try:
                for response in self._work(request, superseded):
                    self._hand_over(request, response)
            except Exception as error:  # whatever it is, the window must hear of it and the lane must live on
                self._hand_over(request, error)

    def _hand_over(self, request: Any, made: Any) -> None:
        with self._wake:
            self._under_way += 1
        self._made.emit(request, made)

    @Slot(object, object)
    def _deliver(self, request: Any, made: Any) -> None:
        try:
            (self.failed if isinstance(made, BaseException) else self.responded).emit(request, made)
        finally:
            with self._wake:
                self._under_way -= 1
