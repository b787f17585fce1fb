"""The lots, by plan, each with its yield."""

from __future__ import annotations

import time

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from hemtra.core.text import percent
from hemtra.desktop.models.records_bench import Group, RecordsBench
from hemtra.desktop.records.painted_list import PaintedList, elided
from hemtra.desktop.widgets import theme, units
from hemtra.storage.records.pages import LotView
from hemtra.storage.records.store import Counts

ROW = 44


class LotList(PaintedList[Group | LotView]):
    """A row for all lots of a plan, and one for each of them."""

    def __init__(self, bench: RecordsBench) -> None:
        super().__init__("Lots")
        self._bench = bench
        bench.lots_changed.connect(self.refresh)

    def refresh(self) -> None:
        """Show the lots, and which of them are chosen."""
        rows: list[Group | LotView] = []
        for group in self._bench.groups:
            rows += [group, *group.lots]
        keys = [keys_of(row) for row in rows]
        self.show_rows(rows, keys.index(self._bench.chosen) if self._bench.chosen in keys else None)

    def choose(self, row: Group | LotView) -> None:
        """Show one lot, or at all of a plan."""
        self._bench.choose(keys_of(row))

    def said(self, row: Group | LotView) -> str:
        """Name, parts and failures."""
        name = f"all lots of {row.plan}" if isinstance(row, Group) else row.lot.name
        return f"{name}, {row.counts.all} parts, {row.counts.failed} fail"

    def tall(self, row: Group | LotView) -> int:
        """All alike."""
        return ROW

    def paint_row(self, painter: QPainter, row: Group | LotView, box: QRectF) -> None:
        """Name, number of parts, when, and the yield as a bar."""
        head = isinstance(row, Group)
        inner = box.adjusted(12 if head else 20, 5, -12, -6)
        name = _all(row) if isinstance(row, Group) else row.lot.name
        painter.setFont(theme.font(13, bold=head))
        painter.setPen(theme.colour("ink"))
        number = f"{row.counts.all:,}".replace(",", " ")
        room = inner.width() - painter.fontMetrics().horizontalAdvance(number) - 8
        painter.drawText(inner, Qt.AlignmentFlag.AlignLeft, elided(painter, name, room))
        painter.setPen(theme.colour("muted"))
        painter.drawText(inner, Qt.AlignmentFlag.AlignRight, number)
        painter.setFont(theme.font(11))
        under = inner.adjusted(0, 17, 0, 0)
        painter.drawText(under, Qt.AlignmentFlag.AlignLeft, row.plan if isinstance(row, Group) else _when(row))
        share = "" if row.counts.share is None else units.signed(percent(row.counts.share, 1))
        painter.drawText(under, Qt.AlignmentFlag.AlignRight, share)
        draw_yield(painter, QRectF(inner.left(), inner.bottom() - 1, inner.width(), 3), row.counts)


def keys_of(row: Group | LotView) -> tuple[int, ...]:
    """The lots that a row stands for."""
    return tuple(v.lot.id for v in row.lots) if isinstance(row, Group) else (row.lot.id,)


def _all(group: Group) -> str:
    return f"All {len(group.lots)} lots" if len(group.lots) > 1 else "The only lot"


def _when(view: LotView) -> str:
    began = time.strftime("%Y-%m-%d %H:%M", time.localtime(view.lot.started))
    return began if view.lot.ended else f"{began} · open"


def draw_yield(painter: QPainter, box: QRectF, counts: Counts) -> None:
    """Bar of the parts that pass, fail and are not measured."""
    painter.setPen(Qt.PenStyle.NoPen)
    left, total = box.left(), max(counts.all, 1)
    for number, name in ((counts.passed, "passed"), (counts.failed, "failed"), (counts.missing, "unmeasured")):
        wide = box.width() * number / total
        if number:
            painter.setBrush(theme.colour(name, 150 if name == "passed" else 255))
            painter.drawRect(QRectF(left, box.top(), max(wide, 2.0), box.height()))
        left += wide
    if not counts.all:
        painter.setPen(QPen(theme.colour("line"), 1))
        painter.drawLine(box.topLeft(), box.topRight())
