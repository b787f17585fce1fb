"""Views beside or above each other, with sizes that are remembered."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QSplitter, QWidget

LARGEST = 20_000
"""Pixels; more is no screen."""


def splitter(way: Qt.Orientation, views: Iterable[QWidget]) -> QSplitter:
    """Views none of which can be pushed away."""
    made = QSplitter(way)
    for view in views:
        made.addWidget(view)
    made.setHandleWidth(6)
    made.setChildrenCollapsible(False)
    return made


class KeptSizes:
    """Sizes of splitters by name, as the user left them."""

    def __init__(self, sizes: dict[str, list[int]]) -> None:
        """sizes: where they are kept; what is damaged in it is not used."""
        self._sizes = sizes
        self._names: dict[QSplitter, str] = {}

    def keep(self, view: QSplitter, name: str, usual: Sequence[int]) -> None:
        """Give a splitter the sizes kept under a name, or the usual ones, and keep what is dragged."""
        if view not in self._names:
            view.splitterMoved.connect(lambda *_: self._take(view))
        self._names[view] = name
        kept = self._sizes.get(name, [])
        sound = len(kept) == view.count() and all(0 <= size <= LARGEST for size in kept) and sum(kept) > 0
        view.setSizes(kept if sound else list(usual))

    def _take(self, view: QSplitter) -> None:
        self._sizes[self._names[view]] = view.sizes()
