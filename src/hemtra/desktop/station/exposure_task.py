"""Guided task: tune the exposure until the part is as bright as it should be."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QLabel, QPushButton, QWidget

from hemtra.core.station.exposure import NEAR_ENOUGH, SATURATED, Tuned, brightness_of
from hemtra.core.text import percent
from hemtra.desktop.models.station_bench import StationBench
from hemtra.desktop.station.guided_task import GuidedTask, Start, in_a_row, number_field, number_in
from hemtra.desktop.widgets import theme, units
from hemtra.virtual.sensor import tuned_exposure

UNEVEN = 0.03
"""Share of points both dark and saturated from which one exposure cannot serve all."""


class LookCurve(QWidget):
    """Intensity of each look, with the target as a band."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedSize(200, 84)
        self._tuned: Tuned | None = None
        self._target = 0.0

    def show_looks(self, tuned: Tuned | None, target: float) -> None:
        """Take other looks."""
        self._tuned, self._target = tuned, target
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """The looks from left to right."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(4, 4, self.width() - 8, self.height() - 22)
        painter.setPen(QPen(theme.colour("line"), 1))
        painter.drawRect(box)

        def y(grey: float) -> float:
            return box.bottom() - grey / 255 * box.height()

        if self._tuned is not None:
            low, high = y(self._target * (1 - NEAR_ENOUGH)), y(self._target * (1 + NEAR_ENOUGH))
            painter.fillRect(QRectF(box.left(), high, box.width(), low - high), theme.colour("passed_wash"))
            looks = self._tuned.looks
            step = box.width() / max(len(looks), 2)
            points = [
                QPointF(box.left() + step * (k + 0.5), y(look.brightness)) for k, look in enumerate(looks)
            ]
            painter.setPen(QPen(theme.colour("ink"), 1.4))
            painter.drawPolyline(QPolygonF(points))
            painter.setBrush(theme.colour("copper"))
            for point in points:
                painter.drawEllipse(point, 3, 3)
        painter.setPen(theme.colour("muted"))
        painter.setFont(theme.font(10))
        painter.drawText(QPointF(4, self.height() - 5), "intensity per trial exposure")
        painter.end()


class ExposureTask(GuidedTask):
    """Scans the part with other exposures until its intensity is reached."""

    def __init__(self, bench: StationBench, start: Start) -> None:
        super().__init__(
            bench,
            "Set the exposure",
            "Too dark an image loses points or is noisy; too bright a one gives false heights on shiny areas."
            " The sensor scans the part with several exposures until the intensity of its points reaches the"
            " target.",
            "Keep this exposure",
        )
        self._start = start
        self.tuned: Tuned | None = None
        self.target = number_field(120, "Target intensity, 0 to 255", 56)
        self.longest = number_field(4, "Longest exposure, times nominal", 56)
        self.look = QPushButton("Measure exposure")
        self.look.setObjectName("secondary")
        self.look.clicked.connect(self.run)
        self.curve = LookCurve()
        self.automatic = QPushButton("Automatic from now on")
        self.automatic.setObjectName("secondary")
        self.automatic.setToolTip("The exposure is set automatically before every scan.")
        self.automatic.clicked.connect(self._take_automatic)
        self.two = QPushButton("Merge two exposures")
        self.two.setObjectName("secondary")
        self.two.setToolTip("A long one for what is dark, a short one for what shines; half the rate.")
        self.two.clicked.connect(self._take_two)
        self.steps.addLayout(
            in_a_row(QLabel("intensity"), self.target, QLabel("at most"), self.longest, QLabel("×"), self.look)
        )
        self.steps.addLayout(in_a_row(self.curve, self.message))
        self.buttons.insertWidget(1, self.automatic)
        self.buttons.insertWidget(2, self.two)

    def begin(self) -> None:
        """Start with what the station has."""
        exposure = self.bench.mount.exposure
        self.target.setText(str(exposure.brightness))
        self.longest.setText(units.field(exposure.longest))
        self.tuned = None
        self._show(self._now())

    def _now(self) -> str:
        live = self.bench.live
        if live is None or live.intensity is None:
            return "Measure the exposure."
        grey = live.intensity[live.valid].astype(np.uint8)
        dark = 1.0 - np.count_nonzero(live.valid) / live.valid.size
        bright = np.count_nonzero(grey >= SATURATED) / max(grey.size, 1)
        text = f"Now: intensity {brightness_of(grey):.0f}; {percent(dark)} of the points missing"
        if dark > UNEVEN and bright > UNEVEN:
            return f"{text} while {percent(bright)} are saturated: no one exposure serves both, merge two."
        return f"{text}, {percent(bright)} saturated."

    def run(self) -> None:
        """Try exposures until the part is bright enough, or cannot become so."""
        target, longest = number_in(self.target), number_in(self.longest)
        if target is None or not 10 <= target <= 240 or longest is None or not 0.02 <= longest <= 100:
            self.message.setText("Type an intensity from 10 to 240 and a maximum exposure up to 100 ×.")
            return
        bench, path = self.bench, f"{self.bench.path}.exposure"
        wanted = {"by": "automatic", "brightness": round(target), "longest": longest}
        station, sensor = bench.document.value.with_part(path, **wanted), bench.sensor
        part = bench.on_belt.part(1)
        self._start("Looking", lambda task: tuned_exposure(part, station, sensor), self.show_tuned)

    def show_tuned(self, tuned: Tuned) -> None:
        """Show where the exposure settled."""
        self.tuned = tuned
        tint = theme.current().passed if tuned.reached else theme.current().failed
        count = len(tuned.looks)
        looks = f"{count} trial exposure{'s' if count > 1 else ''}"
        self._show(f"After {looks}, <span style='color:{tint}'>it {tuned.message}</span>.<br>{self._now()}")

    def _show(self, text: str) -> None:
        self.message.setText(text)
        self.curve.show_looks(self.tuned, number_in(self.target) or 0.0)
        for button in (self.take, self.automatic):
            button.setEnabled(self.tuned is not None)

    def _set(self, label: str, **changes: object) -> None:
        station, path = self.bench.document.value, f"{self.bench.path}.exposure"
        self.finish(label, lambda: station.with_part(path, **changes))

    def take_result(self) -> None:
        """Look as long from now on."""
        if self.tuned is not None:
            self._set("exposure", by="manual", time=round(self.tuned.time, 3))

    def _take_automatic(self) -> None:
        target, longest = number_in(self.target), number_in(self.longest)
        if target is not None and longest is not None:
            self._set("automatic exposure", by="automatic", brightness=round(target), longest=longest)

    def _take_two(self) -> None:
        self._set("two exposures", by="two", time=3.0, short=0.3)
