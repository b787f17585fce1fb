"""A field for the path of a file or folder, with a button that requires it."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QWidget


def path_field(field: QLineEdit, label: str, ask: Callable[[], str]) -> QWidget:
    """A field with “…” beside it. ask: shows a dialog, and answers with the path, '' where it was left."""
    row, button = QWidget(), QPushButton("…")
    field.setAccessibleName(label)
    button.setObjectName("action")
    button.setAccessibleName(f"{label}: choose")
    button.setToolTip(f"Choose: {label}.")

    def chosen() -> None:
        path = ask()
        if path:
            field.setText(path)
            field.editingFinished.emit()

    button.clicked.connect(chosen)
    line = QHBoxLayout(row)
    line.setContentsMargins(0, 0, 0, 0)
    line.addWidget(field, 1)
    line.addWidget(button)
    return row
