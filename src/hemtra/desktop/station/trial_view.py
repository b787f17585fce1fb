"""Trial scans: the height map grows while the part passes, and goes to the tray."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QProgressBar, QPushButton, QVBoxLayout, QWidget

from hemtra.core.scan.picture import View, picture
from hemtra.desktop import theme
from hemtra.desktop.model.station_bench import StationBench
from hemtra.desktop.plan.layers import image
from hemtra.virtual.cover import BELT, DEFECTS


class GrowingMap(QWidget):
    """The trial scan so far."""

    def __init__(self, bench: StationBench) -> None:
        super().__init__()
        self.bench = bench
        self.setMinimumSize(120, 110)
        bench.trial_changed.connect(self.update)

    def paintEvent(self, event: QPaintEvent) -> None:
        """The map in the middle, as large as it fits."""
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.colour("stage"))
        trial = self.bench.trial
        if trial is None:
            painter.setPen(theme.colour("stage_ink"))
            text = "A trial scan grows here\nwhile the part passes."
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, text)
            painter.end()
            return
        x0, x1, y0, y1 = trial.data.extent
        scale = max((x1 - x0) / max(self.width() - 8, 1), (y1 - y0) / max(self.height() - 8, 1))
        w, h = max(1, int((x1 - x0) / scale)), max(1, int((y1 - y0) / scale))
        shown = picture(trial.data, View(x0, y1, scale, w, h), theme.height_palette(), BELT - 0.6, 8.6)
        painter.drawImage(QRectF((self.width() - w) / 2, (self.height() - h) / 2, w, h), image(shown))
        painter.end()


class TrialPanel(QWidget):
    """The growing map with its button."""

    def __init__(self, bench: StationBench) -> None:
        super().__init__()
        self.bench = bench
        self.map = GrowingMap(bench)
        self.start = QPushButton("Scan a trial part")
        self.start.setObjectName("primary")
        self.start.setToolTip("Lets a made-up part pass; its scan goes to the tray of the Plan workspace.")
        self.defect = QComboBox()
        self.defect.addItem("good part", "")
        for name in DEFECTS:
            self.defect.addItem(name.replace("-", " "), name)
        self.defect.setAccessibleName("What is wrong with the trial part")
        self.told = QLabel("No trial scan yet.")
        self.told.setObjectName("muted")
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.bar.setFixedHeight(6)
        below = QHBoxLayout()
        below.addWidget(self.defect, 1)
        below.addWidget(self.start)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(6)
        layout.addWidget(self.map, 1)
        layout.addWidget(self.bar)
        layout.addWidget(self.told)
        layout.addLayout(below)
        bench.trial_changed.connect(self.refresh)

    def refresh(self) -> None:
        """Show how far it is."""
        trial = self.bench.trial
        busy = trial is not None and trial.taken < trial.of
        self.start.setEnabled(not busy)
        if trial is None:
            self.bar.setValue(0)
            return
        self.bar.setRange(0, trial.of)
        self.bar.setValue(trial.taken)
        if busy:
            self.told.setText(f"{trial.taken} of {trial.of} profiles")
        elif trial.missed:
            self.told.setText(
                f"Trial {self.bench.trials}: {trial.missed} of {trial.of} profiles missed: too fast"
            )
        else:
            share = f"{100 * trial.data.data_share:.1f} %"
            self.told.setText(f"Trial {self.bench.trials}: {trial.of} profiles, {share} with data")
