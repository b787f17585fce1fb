"""Painting that waits a moment for what is about to change too."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QWidget

SOON = 25
"""ms for which a drag is not painted, in case its new value is there by then."""


class PaintSoon:
    """Updates of a widget: at once, or while `waits` says so within a moment, with what else comes by then."""

    def __init__(self, widget: QWidget, waits: Callable[[], bool]) -> None:
        self._widget, self._waits = widget, waits
        self._timer = QTimer(widget, singleShot=True, interval=SOON)
        self._timer.timeout.connect(widget.update)

    def paint(self) -> None:
        """Something has changed; more may be about to."""
        if not self._waits():
            self._widget.update()
        elif not self._timer.isActive():
            self._timer.start()

    def now(self) -> None:
        """All has changed that was waited for."""
        self._timer.stop()
        self._widget.update()
