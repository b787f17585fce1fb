"""States of a signal over the last parts, as a stepped line."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPointF, QSize
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from hemtra.core.plan.limits import CharacteristicResult, Verdict
from hemtra.core.plan.signals import FULL, AnySignal, Digital
from hemtra.desktop.widgets import theme, units

SHOWN = 24
"""Largest number of parts."""
Evaluated = tuple[Verdict, Sequence[CharacteristicResult]]


class SignalTimeline(QWidget):
    """A step a part, the last one at the right; its state is also said in words."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self._name = name
        self.shares: list[float] = []
        """0 to 1 a part."""
        self.setFixedSize(self.sizeHint())

    def sizeHint(self) -> QSize:
        """Wide enough for all parts."""
        return QSize(6 * SHOWN + 4, 22)

    def show_parts(self, signal: AnySignal, parts: Sequence[Evaluated]) -> str:
        """Take the last parts; what the signal is for the last of them, in a word."""
        self.shares, state = [], "no part yet"
        for verdict, rows in parts[-SHOWN:]:
            if isinstance(signal, Digital):
                on = signal.state(verdict, rows)
                self.shares.append(float(on))
                state = "on" if on else "off"
            else:
                level = signal.level(rows)
                self.shares.append(min(level / FULL[signal.span], 1.0))
                state = units.signed(f"{level:.2f} {signal.span.split()[1]}")
        self.setAccessibleName(f"{self._name}, last part: {state}")
        self.setToolTip(
            f"The last {len(self.shares)} parts." if self.shares else "No part has been evaluated yet."
        )
        self.update()
        return state

    def paintEvent(self, event: QPaintEvent) -> None:
        """The line, and a mark on the last part."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        low, high = self.height() - 4.0, 4.0
        painter.setPen(QPen(theme.colour("line"), 1))
        painter.drawLine(QPointF(0, low), QPointF(self.width(), low))
        first = self.width() - 2 - 6 * len(self.shares)
        corners = [
            QPointF(first + 6 * (k + end), low + (high - low) * share)
            for k, share in enumerate(self.shares)
            for end in (0, 1)
        ]
        painter.setPen(QPen(theme.colour("copper"), 1.6))
        painter.drawPolyline(QPolygonF(corners))
        painter.end()
