"""Common base of small forms over a window."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtWidgets import QHBoxLayout, QPushButton


def button_row(take: str, taken: Callable[..., Any], left: Callable[..., Any]) -> QHBoxLayout:
    """The one that agrees, and the one that leaves."""
    agree, leave = QPushButton(take), QPushButton("Cancel   Esc")
    agree.setObjectName("primary")
    leave.setObjectName("action")
    agree.clicked.connect(taken)
    leave.clicked.connect(left)
    line = QHBoxLayout()
    line.addWidget(agree)
    line.addWidget(leave)
    return line
