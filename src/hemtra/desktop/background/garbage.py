"""Collection of unreachable Python objects between events, on the thread of the windows.

Python may collect wherever objects are made: on a thread that evaluates, or while Qt goes through all widgets
to style them. A closed window that refers to itself would be destroyed there, which crashes.

How much there is, is counted in blocks of memory: a list of all objects would hold those that other threads are
just making, too, and a tuple that somebody else holds cannot be finished (SystemError).
"""

from __future__ import annotations

import gc
import sys

from PySide6.QtCore import QObject, QTimer

EVERY_MS = 100
"""Interval between checks, ms."""
GROWTH = 1.25
"""Growth of what survived a full collection from which on the next is worth its time."""


class GarbageCollection(QObject):
    """Collects in place of Python's own collector, as often as that would have."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        gc.collect()
        gc.freeze()  # what is there before the first window stays, and need not be gone through again
        gc.disable()
        self._start = sys.getallocatedblocks()
        self._survivors = 0
        timer = QTimer(self, interval=EVERY_MS)
        timer.timeout.connect(self.collect)
        timer.start()

    def collect(self) -> None:
        """Collect the generations that are due."""
        counted = zip(gc.get_count(), gc.get_threshold(), strict=True)
        due = [generation for generation, (count, most) in enumerate(counted) if count > most]
        if not due:
            return
        oldest = max(due)
        if oldest == 2 and self._made() < GROWTH * self._survivors:
            oldest = 1
        gc.collect(oldest)
        if oldest == 2:
            self._survivors = self._made()

    def _made(self) -> int:
        """Blocks of memory since the start."""
        return sys.getallocatedblocks() - self._start
