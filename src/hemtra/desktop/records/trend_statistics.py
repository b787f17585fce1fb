"""Statistics below a trend, or the texts that were read where there are no numbers."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFontMetrics, QPainter

from hemtra.core.plan.budget import USUAL_COVERAGE
from hemtra.core.statistics import Statistics
from hemtra.desktop.models.records_bench import CharacteristicTrend, TrendSeries
from hemtra.desktop.widgets import theme, units
from hemtra.storage.records.trends import Trend


def draw_statistics(painter: QPainter, at: QPointF, room: float, series: TrendSeries) -> None:
    """A line of labels with their values below, from a pixel on; closer to each other in a narrow room."""
    found, trend = series.statistics, series.trend
    top, x = at.y(), at.x()
    shown = format_statistics(found, trend)
    small, large, bold = QFontMetrics(theme.font(11)), QFontMetrics(theme.font(14)), theme.font(14, bold=True)
    widths = [
        max(
            small.horizontalAdvance(label),
            (QFontMetrics(bold) if is_index else large).horizontalAdvance(value),
        )
        for label, value, is_index in shown
    ]
    gap = min(max((room - sum(widths)) / max(len(shown) - 1, 1), 4.0), 20.0)
    for (label, value, is_index), wide in zip(shown, widths, strict=True):
        painter.setFont(theme.font(11))
        painter.setPen(theme.colour("muted"))
        painter.drawText(QPointF(x, top), label)
        painter.setFont(theme.font(14, bold=is_index))
        painter.setPen(theme.colour("muted" if is_index and found.few else "ink"))
        painter.drawText(QPointF(x, top + 18), value)
        x += wide + gap
    if found.warning:
        painter.setFont(theme.font(11))
        painter.setPen(theme.colour("copper"))
        painter.drawText(QPointF(at.x(), top + 36), f"Indices {found.warning}.")


def draw_texts(painter: QPainter, box: QRectF, trend: CharacteristicTrend) -> None:
    """Texts that were read, the commonest first."""
    assert trend.texts is not None
    painter.setFont(theme.font(12))
    painter.setPen(theme.colour("muted"))
    passed = trend.total - trend.bad
    message = f"Text characteristic, no trend: correct on {passed} of {trend.total} parts,"
    message += f" {trend.texts.kinds} different."
    painter.drawText(QPointF(16, box.top() + 16), message)
    painter.setPen(theme.colour("ink"))
    lines = int((box.height() - 40) / 20)
    for k, (text, number) in enumerate(trend.texts.found[:lines]):
        line = QRectF(16, box.top() + 28 + 20 * k, 70, 20)
        side = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        painter.drawText(line, side, f"{number} ×")
        room = int(box.width()) - 116
        words = painter.fontMetrics().elidedText(text or "–", Qt.TextElideMode.ElideRight, room)
        painter.drawText(QRectF(98, line.top(), room, 20), Qt.AlignmentFlag.AlignVCenter, words)


def format_statistics(found: Statistics, trend: Trend) -> list[tuple[str, str, bool]]:
    """Label with the unit, value, and whether it is an index, of each statistic that is known."""
    unit, digits = trend.unit, trend.decimals + 1

    def number(value: float | None) -> str:
        return "–" if value is None else units.signed(f"{value:.{digits}f}")

    def index(value: float | None) -> str:
        return "–" if value is None else units.signed(f"{value:.2f}")

    known = [] if trend.u is None else [(f"U {unit}", units.signed(f"{USUAL_COVERAGE * trend.u:.2g}"), False)]
    of_parts = [] if found.cpk_of_parts is None else [("Cpk of parts", index(found.cpk_of_parts), True)]
    return [
        ("parts", f"{found.count:,}".replace(",", " "), False),
        ("not measured", f"{found.missing:,}".replace(",", " "), False),
        (f"mean {unit}", number(found.mean), False),
        (f"s {unit}", number(found.deviation), False),
        (f"min {unit}", number(found.least), False),
        (f"max {unit}", number(found.greatest), False),
        *known,
        ("Cp", index(found.cp), True),
        ("Cpk", index(found.cpk), True),
        *of_parts,
        ("Pp", index(found.pp), True),
        ("Ppk", index(found.ppk), True),
    ]
