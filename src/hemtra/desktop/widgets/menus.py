"""Menus offered at a place."""

from __future__ import annotations

from PySide6.QtCore import QPoint
from PySide6.QtWidgets import QMenu

_open: set[QMenu] = set()
"""Menus on screen: without a parent, nothing else holds on to them."""


def offer(menu: QMenu, at: QPoint) -> None:
    """Show a menu at a place of the screen, until something is chosen or it is left."""

    def gone() -> None:
        _open.discard(menu)
        menu.deleteLater()

    _open.add(menu)
    menu.aboutToHide.connect(gone)
    menu.popup(at)
