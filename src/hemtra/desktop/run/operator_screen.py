"""Operator screen, read from afar: verdict, part, and the last parts."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QSplitter, QWidget

from hemtra.desktop.models.run_bench import RunBench
from hemtra.desktop.run.part_view import PartView
from hemtra.desktop.run.ribbon import Ribbon
from hemtra.desktop.run.verdict_view import VerdictView
from hemtra.desktop.widgets.second_screen import OwnWindow


class OperatorScreen(OwnWindow):
    """Other views of the same run; nothing can be changed in them."""

    def __init__(self, bench: RunBench, parent: QWidget) -> None:
        super().__init__("Hemtra: operator's screen", parent)
        upper = QSplitter(Qt.Orientation.Horizontal)
        self.verdict, self.part, self.ribbon = VerdictView(bench), PartView(bench), Ribbon(bench)
        for view in (self.verdict, self.part):
            upper.addWidget(view)
        upper.setSizes([600, 400])
        self.ribbon.setFixedHeight(88)
        self.body.setContentsMargins(8, 8, 8, 8)
        self.body.addWidget(upper, 1)
        self.body.addWidget(self.ribbon)
