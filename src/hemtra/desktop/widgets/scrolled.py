"""Content that is taller than its place."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtWidgets import QScrollArea, QWidget


class Scrolled(QScrollArea):
    """Scrolls up and down; sideways nothing is cut, since it is never narrower than its content can be."""

    def __init__(self, inner: QWidget) -> None:
        super().__init__()
        self.setWidgetResizable(True)
        # what has the focus in it is scrolled to
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setWidget(inner)
        self._inner = inner
        inner.installEventFilter(self)
        self._widen()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """The content changed."""
        if event.type() in (QEvent.Type.LayoutRequest, QEvent.Type.Polish, QEvent.Type.Show):
            self._widen()
        return super().eventFilter(watched, event)

    def _widen(self) -> None:
        bar = self.verticalScrollBar().sizeHint().width()
        self.setMinimumWidth(self._inner.minimumSizeHint().width() + bar + 2 * self.frameWidth())


def scrolled(inner: QWidget) -> QScrollArea:
    """A widget that scrolls up and down, as wide as its place."""
    return Scrolled(inner)
