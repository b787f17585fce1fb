"""Trial scans: parts pass, their height maps grow, and go to the tray."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QProgressBar, QPushButton, QVBoxLayout, QWidget

from hemtra.desktop.models.station_bench import StationBench
from hemtra.desktop.station.scan_picture import ScanPicture
from hemtra.virtual.line import MISHAPS

COUNTS = (1, 5, 20)
BELOW, ABOVE = 0.6, 8.6
"""Colour range of the growing map below the belt, and above z = 0, mm."""


class TrialPanel(QWidget):
    """The growing map, what passes, and the buttons."""

    start_requested = Signal()
    stop_requested = Signal()
    triggered = Signal()
    reference_requested = Signal()

    def __init__(self, bench: StationBench) -> None:
        super().__init__()
        self.bench = bench
        self.running = False
        self.map = ScanPicture("A trial scan grows here\nwhile the part passes.")
        self.start = QPushButton()
        self.start.setObjectName("primary")
        self.start.clicked.connect(self._pressed)
        self.by_hand = QPushButton("Trigger now")
        self.by_hand.setObjectName("secondary")
        self.by_hand.clicked.connect(self.triggered)
        self.reference = QPushButton("Make it the reference")
        self.reference.setObjectName("action")
        self.reference.setToolTip("The plan is drawn on the reference scan.")
        self.reference.clicked.connect(self.reference_requested)
        self.defect, self.mishap, self.count = QComboBox(), QComboBox(), QComboBox()
        self.defect.setAccessibleName("What is wrong with the trial parts")
        self.mishap.setAccessibleName("What happens on the line")
        self.count.setAccessibleName("Number of parts")
        for mishap in MISHAPS:
            self.mishap.addItem("line runs well" if mishap == "none" else mishap, mishap)
        for count in COUNTS:
            self.count.addItem(f"{count} part{'s' if count > 1 else ''}", count)
        self.count.currentIndexChanged.connect(self.refresh)
        self.message = QLabel("No trial scan yet.")
        self.message.setObjectName("muted")
        self.message.setWordWrap(True)
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.bar.setFixedHeight(6)
        choices, buttons = QHBoxLayout(), QHBoxLayout()
        for widget in (self.defect, self.mishap):
            choices.addWidget(widget, 1)
        buttons.addWidget(self.count)
        buttons.addWidget(self.by_hand)
        buttons.addWidget(self.start, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(5)
        layout.addWidget(self.map, 1)
        layout.addWidget(self.bar)
        layout.addWidget(self.message)
        layout.addWidget(self.reference, alignment=Qt.AlignmentFlag.AlignLeft)
        layout.addLayout(choices)
        layout.addLayout(buttons)
        self._listed: object = None
        bench.trial_changed.connect(self.refresh)
        bench.document.changed.connect(self.refresh)
        self.refresh()

    def _pressed(self) -> None:
        (self.stop_requested if self.running else self.start_requested).emit()

    def set_running(self, running: bool) -> None:
        """Whether the line runs."""
        self.running = running
        self.refresh()

    def refresh(self) -> None:
        """Show how far it is."""
        on_belt, trial = self.bench.on_belt, self.bench.trial
        if self._listed is not on_belt:
            self._listed = on_belt
            self.defect.clear()
            self.defect.addItem(on_belt.name, "")
            for name in on_belt.defects:
                self.defect.addItem(name.replace("-", " "), name)
        count = int(self.count.currentData())
        usual = f"Scan {count} trial parts" if count > 1 else "Scan a trial part"
        self.start.setText("Stop the line" if self.running else usual)
        self.start.setToolTip("Lets simulated parts pass; their scans go to the tray of the Plan workspace.")
        self.by_hand.setVisible(self.bench.station.trigger.by == "manual")
        self.by_hand.setEnabled(self.running)
        self.reference.setVisible(trial is not None and trial.done and not self.running)
        self.bar.setRange(0, trial.of or 0 if trial is not None else 1)
        self.bar.setValue(0 if trial is None else trial.taken)
        if trial is None:
            self.map.show_scan(None)
            return
        if trial.done:
            self.bar.setRange(0, 1)
            self.bar.setValue(1)
        self.map.show_scan(trial.data, (self.bench.station.belt - BELOW, ABOVE))
        self.message.setText(trial.message)
