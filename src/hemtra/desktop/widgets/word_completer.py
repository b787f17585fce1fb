"""Completes the word that is being typed last in a line."""

from __future__ import annotations

import re
from collections.abc import Iterable

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, Qt
from PySide6.QtWidgets import QCompleter, QLineEdit


class WordCompleter(QCompleter):
    """Offers some words that begin like the last one of a field."""

    def __init__(self, words: Iterable[str], field: QLineEdit) -> None:
        super().__init__(list(words), field)
        self._field = field
        self.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)

    def splitPath(self, path: str) -> list[str]:
        """Prefix to complete: the last word."""
        return [_last(path)]

    def pathFromIndex(self, index: QModelIndex | QPersistentModelIndex) -> str:
        """The whole line with its last word completed."""
        typed = self._field.text()
        kept = typed[: len(typed) - len(_last(typed))]
        return kept + str(index.data(Qt.ItemDataRole.EditRole))


def _last(text: str) -> str:
    return str(re.findall(r"[A-Za-z_0-9]*$", text)[0])
