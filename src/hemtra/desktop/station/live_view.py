"""Live sensor data: points, dropouts and intensity along x, with the reference dimmed behind."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QSlider, QVBoxLayout, QWidget

from hemtra.core.maps.heightmap import Profile
from hemtra.core.station.exposure import SATURATED
from hemtra.desktop.models.station_bench import StationBench
from hemtra.desktop.widgets import theme, units

LEFT, RIGHT, TOP = 40, 14, 52
BRIGHTNESS = 34
"""Height of the intensity bars, pixels."""
BARS = 96


class LiveView(QFrame):
    """Paints the live profile of the bench, and chooses where on the part it is taken."""

    moved = Signal(float)
    """y in mm of the part where to look."""
    reference_requested = Signal()

    def __init__(self, bench: StationBench, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self.setAccessibleName("Live profile")
        self.bench = bench
        self.place = QSlider(Qt.Orientation.Horizontal)
        self.place.setRange(-450, 450)
        self.place.setValue(round(10 * bench.live_at))
        self.place.setFixedWidth(76)
        self.place.setAccessibleName("Where on the part the profile is taken, along travel")
        self.place.setToolTip("Where on the part, along travel.")
        self.place.valueChanged.connect(lambda tenths: self.moved.emit(tenths / 10))
        self.keep = QPushButton("Keep")
        self.keep.setObjectName("action")
        self.keep.setToolTip("Keep this profile as the reference, drawn dimmed behind those to come.")
        self.keep.clicked.connect(self.reference_requested)
        header = QHBoxLayout()
        header.setContentsMargins(14, 8, 14, 0)
        header.addSpacing(96)
        header.addWidget(self.place)
        header.addStretch()
        header.addWidget(self.keep)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addLayout(header)
        layout.addStretch()
        bench.live_changed.connect(self.update)
        bench.unit_changed.connect(self.update)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Axes, reference, points, dropouts, intensity."""
        super().paintEvent(event)
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(theme.colour("ink"))
        painter.setFont(theme.font(14, bold=True))
        painter.drawText(14, 23, "Live profile")
        live = self.bench.live
        if live is None:
            painter.end()
            return
        valid = live.valid
        painter.setFont(theme.font(12))
        painter.setPen(theme.colour("muted"))
        unit = self.bench.unit
        where = units.signed(f"y {unit.text(self.bench.live_at, 1)} {unit.name}")
        message = f"{np.count_nonzero(valid)} of {valid.size} points  {self.bench.exposure_message}".strip()
        line = QRectF(14, 32, self.width() - 28, 16)
        painter.drawText(line, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, message)
        painter.drawText(line, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, where)
        frame = QRectF(LEFT, TOP, self.width() - LEFT - RIGHT, self.height() - TOP - BRIGHTNESS - 34)
        self._draw_axes(painter, frame)
        if self.bench.reference is not None:
            _draw_points(painter, self._pixels(frame, self.bench.reference), QPen(theme.colour("line"), 2.2))
        _draw_points(painter, self._pixels(frame, live), QPen(theme.colour("ink"), 1.8))
        self._draw_dropouts(painter, frame, live)
        self._draw_brightness(painter, live)
        painter.end()

    def _span(self) -> float:
        """Half the view along x at the belt, mm."""
        bench = self.bench
        return bench.model.width_at(bench.mount.stand_off - bench.station.belt) / 2

    @property
    def _heights(self) -> tuple[float, float]:
        """z from and to in mm."""
        return self.bench.station.belt - 2.0, self.bench.on_belt.height + 2.0

    def _pixels(self, frame: QRectF, profile: Profile) -> np.ndarray:
        """(n, 2) pixels, NaN where there is no data."""
        low, high = self._heights
        x = frame.center().x() + (profile.x - self.bench.mount.x) / self._span() * frame.width() / 2
        y = frame.bottom() - (profile.z - low) / (high - low) * frame.height()
        return np.column_stack([x, y])

    def _draw_axes(self, painter: QPainter, frame: QRectF) -> None:
        painter.setFont(theme.font(11))
        low, high = self._heights
        for z in (-5, 0, 5):
            y = frame.bottom() - (z - low) / (high - low) * frame.height()
            painter.setPen(QPen(theme.colour("line"), 1))
            painter.drawLine(QPointF(frame.left(), y), QPointF(frame.right(), y))
            painter.setPen(theme.colour("muted"))
            painter.drawText(QRectF(0, y - 8, LEFT - 6, 16), Qt.AlignmentFlag.AlignRight, f"{z:+d}")

    def _draw_dropouts(self, painter: QPainter, frame: QRectF, live: Profile) -> None:
        """A bar where points are missing, below the profile."""
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("unmeasured"))
        columns = np.linspace(0, live.x.size, BARS * 2 + 1).astype(int)
        for a, b in pairwise(columns):
            missing = 1.0 - np.count_nonzero(live.valid[a:b]) / max(b - a, 1)
            if missing > 0.5:
                x = frame.left() + a / live.x.size * frame.width()
                painter.drawRect(QRectF(x, frame.bottom() + 3, frame.width() / (BARS * 2) + 0.5, 4))

    def _draw_brightness(self, painter: QPainter, live: Profile) -> None:
        """Bars of intensity along x; saturated ones stand out in colour and by a cap."""
        if live.intensity is None:
            return
        bottom, width = self.height() - 10.0, self.width() - LEFT - RIGHT
        painter.setFont(theme.font(11))
        painter.setPen(theme.colour("muted"))
        painter.drawText(QPointF(LEFT, bottom - BRIGHTNESS - 3), "intensity")
        painter.setPen(Qt.PenStyle.NoPen)
        for k, grey in enumerate(np.array_split(live.intensity, BARS)):
            level, saturated = float(grey.mean()), float(np.mean(grey >= SATURATED)) > 0.2
            height = BRIGHTNESS * level / 255
            painter.setBrush(theme.colour("failed" if saturated else "passed_wash"))
            box = QRectF(LEFT + k * width / BARS, bottom - height, width / BARS - 1, height)
            painter.drawRect(box)
            if saturated:
                painter.drawRect(QRectF(box.left(), bottom - BRIGHTNESS - 1, box.width(), 2))


def _draw_points(painter: QPainter, pixels: np.ndarray, pen: QPen) -> None:
    pen.setCapStyle(Qt.PenCapStyle.RoundCap)
    painter.setPen(pen)
    found = pixels[~np.isnan(pixels[:, 1])]
    painter.drawPoints(QPolygonF([QPointF(x, y) for x, y in found]))
