"""Counts, yield, rate, latency, and the state of everything around the line."""

from __future__ import annotations

import time

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from hemtra.core.plan.limits import Verdict
from hemtra.core.text import percent
from hemtra.desktop.models.run_bench import RunBench, RunEnvironment
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.symbols import draw_balloon, draw_panel

LINE = 21.0
GOOD, WARN, BAD, NONE = "passed", "copper", "failed", "muted"


class StatusPanel(QWidget):
    """Paints numbers large enough to read, and a sign for each thing outside."""

    def __init__(self, bench: RunBench) -> None:
        super().__init__()
        self.setMinimumSize(236, 330)
        self._bench = bench
        for changed in (bench.changed, bench.outside_changed):
            changed.connect(self._changed)
        self._changed()

    def _changed(self) -> None:
        message = "; ".join(f"{name} {words}" for name, words, _ in outside_rows(self._bench))
        c = self._bench.counts
        counts = f"{c.all} parts, {c.passed} pass, {c.failed} fail, {c.missing} not measured"
        counts += f", {c.unproven} not proven" if c.unproven else ""
        self.setAccessibleName(f"{counts}. {message}")
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Lot, counts, yield, times, and what is outside."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        draw_panel(painter, self)
        bench, left, right = self._bench, 14.0, self.width() - 14.0
        y = 22.0
        self._row(painter, y, bench.lot or "no lot yet", _since(bench), bold=True)
        y += 10
        counts = bench.counts
        for label, number, tint in (
            ("parts", counts.all, "ink"),
            ("pass", counts.passed, "passed"),
            ("fail", counts.failed, "failed"),
            ("not measured", counts.missing, "unmeasured"),
        ):
            y += 27
            painter.setPen(theme.colour("muted"))
            painter.setFont(theme.font(14))
            painter.drawText(QPointF(left, y), label)
            painter.setPen(theme.colour(tint))
            painter.setFont(theme.font(22, bold=True))
            box = QRectF(left, y - 22, right - left, 28)
            painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, str(number))
        if counts.unproven:
            y += 22
            draw_balloon(painter, QPointF(left + 7, y - 5), "", Verdict.NOT_PROVEN, radius=6.0)
            self._row(painter, y, "with a value not proven", str(counts.unproven), indent=20.0)
        share, times = counts.share, bench.outside.times
        y += 12
        self._bar(painter, y, share or 0.0, theme.colour("passed"))
        y += 26
        message = "–" if share is None else units.signed(percent(share, 1))
        self._row(painter, y, f"yield {message}", units.signed(f"{times.rate:.1f} parts/s"), bold=True)
        y += 24
        cycle = bench.outside.cycle
        late = 1000 * times.latency
        words = f"{late:.0f} ms" if cycle is None else f"{late:.0f} of {1000 * cycle:.0f} ms"
        words = words if times.latency else "–"
        self._row(painter, y, "scan to signal", words)
        y += 6
        if cycle:
            held = theme.colour("spruce" if times.worst < cycle else "failed")
            self._bar(painter, y, times.latency / cycle, held)
        y += 16
        for name, words, tint in outside_rows(bench):
            y += LINE
            if y > self.height() - 6:
                break
            _draw_state(painter, QPointF(left + 5, y - 4), tint)
            self._row(painter, y, name, words, indent=16.0)
        painter.end()

    def _row(
        self,
        painter: QPainter,
        y: float,
        label: str,
        words: str,
        *,
        bold: bool = False,
        indent: float = 0.0,
    ) -> None:
        left, right = 14.0 + indent, self.width() - 14.0
        painter.setPen(theme.colour("ink"))
        painter.setFont(theme.font(13, bold=bold))
        painter.drawText(QPointF(left, y), label)
        used = painter.fontMetrics().horizontalAdvance(label)
        painter.setPen(theme.colour("muted"))
        painter.setFont(theme.font(12))
        text = painter.fontMetrics().elidedText(
            words, Qt.TextElideMode.ElideRight, round(right - left - used - 8)
        )
        box = QRectF(left, y - 14, right - left, 18)
        painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text)

    def _bar(self, painter: QPainter, y: float, share: float, tint: QColor) -> None:
        box = QRectF(14, y, self.width() - 28, 7)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("line"))
        painter.drawRoundedRect(box, 3.5, 3.5)
        box.setWidth(box.width() * min(max(share, 0.0), 1.0))
        painter.setBrush(tint)
        painter.drawRoundedRect(box, 3.5, 3.5)


def outside_rows(bench: RunBench) -> list[tuple[str, str, str]]:
    """Name, state in words, and the colour of its sign, of everything around the line."""
    out: RunEnvironment = bench.outside
    last = bench.parts[-1] if bench.parts else None
    rows = []
    if last is not None and last.found.look is not None:
        missing = 100.0 * (1.0 - last.found.look.data_share)
        rows.append(("Sensor", units.signed(f"{missing:.1f} % no data"), GOOD if missing < 50.0 else WARN))
    elif last is not None:
        rows.append(("Sensor", "no scan", BAD))
    if out.speed is not None:
        rows.append(("Encoder", f"{out.speed:.0f} mm/s", GOOD if out.speed > 0 else WARN))
    rows.append(("Queue", f"{out.waiting} in evaluation", GOOD if out.waiting < 7 else WARN))
    if out.link is None:
        rows.append(("I/O module", "none connected", NONE))
    else:
        rows.append(("I/O module", "answers" if out.link else "does not answer", GOOD if out.link else BAD))
    if out.master is not None:
        words, passes = out.master
        rows.append(("Master part", words, GOOD if passes else BAD))
    if out.in_flight:
        rows.append(("Gate", f"{out.in_flight} in transit", WARN))
    if out.free is not None:
        rows.append(("Disk", f"{out.free:.0f} GB free", GOOD if out.free > 5.0 else BAD))
    rows += [(name, words, GOOD if on else NONE) for name, words, on in out.lines]
    return rows


def _draw_state(painter: QPainter, at: QPointF, tint: str) -> None:
    """A dot where all is well, a diamond where not, a triangle for worth knowing, a ring for nothing."""
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.colour(tint))
    if tint == BAD:
        painter.drawPolygon(QPolygonF([at + QPointF(x, y) for x, y in ((0, -6), (6, 0), (0, 6), (-6, 0))]))
    elif tint == WARN:
        painter.drawPolygon(QPolygonF([at + QPointF(x, y) for x, y in ((0, -5), (5, 4), (-5, 4))]))
    elif tint == NONE:
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(theme.colour("muted"), 1.4))
        painter.drawEllipse(at, 3.6, 3.6)
    else:
        painter.drawEllipse(at, 4.2, 4.2)


def _since(bench: RunBench) -> str:
    if not bench.is_running or not bench.began:
        return bench.state if bench.state != "idle" else "stands"
    minutes = int((time.time() - bench.began) / 60)
    return bench.state if bench.state != "running" else f"running {minutes} min"
