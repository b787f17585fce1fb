"""The tray: recorded parts as thumbnails with tag and verdict."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QFontMetrics, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QPushButton, QWidget

from hemtra.core.plan.limits import Verdict
from hemtra.core.rendering.palettes import height_palette
from hemtra.core.rendering.picture import View, picture
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.models.tray import TrayPart
from hemtra.desktop.plan.panels.list_panel import ListPanel
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.layers import image
from hemtra.desktop.widgets.symbols import draw_balloon

CARD_HEIGHT = 72
THUMB = (68, 42)
TEXT = 84
"""Distance of name and verdict from the left, pixels."""
BELOW = 52
"""Distance of tag and balloons from the top, pixels."""


class TrayCard(QWidget):
    """A part of the tray."""

    chosen = Signal(object)
    tag_clicked = Signal(object)

    def __init__(self, part: TrayPart, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.part, self.selected = part, False
        self.setFixedHeight(CARD_HEIGHT)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self._thumb = thumbnail(part)

    def show_state(self, *, selected: bool) -> None:
        """Take the latest verdict."""
        self.selected = selected
        verdict = "not evaluated" if self.part.result is None else str(self.part.result.verdict)
        self.setAccessibleName(f"{self.part.name}, tagged {self.part.tag}, {verdict}")
        self.setToolTip(f"{self.part.scan.name}\n{_status_text(self.part)}\nClick the tag to change it.")
        self.update()

    def tag_box(self) -> QRectF:
        """Rectangle of the tag; a click there changes it."""
        return QRectF(8, BELOW - 1, 8 + _width(self._tag_text), 16)

    @property
    def _tag_text(self) -> str:
        against = self.part.agrees is False and not self.part.stale
        return f"≠ {self.part.tag}" if against else self.part.tag

    def paintEvent(self, event: QPaintEvent) -> None:
        """Picture, name, tag, verdict, and the balloons that decided it."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(4, 2, -4, -2)
        painter.setPen(QPen(theme.colour("copper" if self.selected else "line"), 1.6 if self.selected else 1.0))
        painter.setBrush(theme.colour("copper_wash" if self.selected else "paper"))
        painter.drawRoundedRect(box, 5, 5)
        painter.drawImage(QRectF(10, 8, *THUMB), self._thumb)
        painter.setFont(theme.font(13, bold=True))
        painter.setPen(theme.colour("ink"))
        name = self.part.name.rsplit("-", 1)[-1]
        painter.drawText(QRectF(TEXT, 6, self.width() - TEXT - 6, 18), Qt.AlignmentFlag.AlignVCenter, name)
        result = self.part.result
        if result is not None:
            centre = QPointF(TEXT + 10, 38)
            signs = {Verdict.PASS: "✓", Verdict.FAIL: "×", Verdict.NOT_MEASURED: "–", Verdict.NOT_PROVEN: "?"}
            draw_balloon(
                painter, centre, signs[result.verdict], result.verdict, radius=9, faint=self.part.stale
            )
        painter.setFont(theme.font(11))
        painter.setPen(theme.colour("failed" if self.part.agrees is False else "muted"))
        tag = self.tag_box().adjusted(2, 0, 0, 0)
        painter.drawText(tag, Qt.AlignmentFlag.AlignVCenter, self._tag_text)
        painter.setPen(theme.colour("ink"))
        deciding = [c for c in result.characteristics if c.verdict is not Verdict.PASS] if result else []
        room = QRectF(tag.right() + 4, tag.top(), self.width() - 12 - tag.right(), 16)
        numbers = [str(c.balloon) for c in deciding]
        text = "not read" if self.part.error else _fitting(numbers, room.width())
        painter.drawText(room, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text)
        painter.end()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Select; a click on the tag goes to the next one."""
        if self.tag_box().contains(event.position()):
            self.tag_clicked.emit(self.part)
        else:
            self.chosen.emit(self.part)


class TrayPanel(ListPanel):
    """All parts, how many get the verdict they should, and which the last edit has changed."""

    unflip_requested = Signal()

    def __init__(self, bench: WorkspaceModel, parent: QWidget | None = None) -> None:
        super().__init__("Tray", parent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Tray of recorded parts; arrow keys go from one to the next, T changes the tag")
        self.bench = bench
        self.cards: list[TrayCard] = []
        self.aside.setToolTip("Tagged parts that get the verdict they should.")
        self.flips = QPushButton()
        self.flips.setObjectName("action")
        self.flips.setToolTip("Parts whose verdict the last edit has changed; click to take the edit back.")
        self.flips.clicked.connect(self.unflip_requested)
        self.flips.hide()
        self.body.insertWidget(1, self.flips)
        bench.tray.changed.connect(self.refresh)
        bench.tray.current_changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Take the latest parts and verdicts."""
        parts = self.bench.tray.parts
        if [card.part for card in self.cards] != parts:
            self._rebuild()
        for card in self.cards:
            selected = card.part is self.bench.tray.current
            card.show_state(selected=selected)
            if selected:
                self.scroll_area.ensureWidgetVisible(card)
        right, known = self.bench.tray.agreement
        waiting = any(part.stale for part in parts)
        self.aside.setText((f"{right}/{known} agree" + (" …" if waiting else "")) if known else "")

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Up and down step through the parts."""
        step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key()))
        tray = self.bench.tray
        if step is None or tray.current is None:
            super().keyPressEvent(event)
        else:
            at = tray.parts.index(tray.current) + step
            tray.select(min(max(at, 0), len(tray.parts) - 1))

    def show_flips(self, parts: tuple[TrayPart, ...]) -> None:
        """Mark the parts whose verdict changed with the last edit."""
        names = " ".join(part.name.rsplit("-", 1)[-1] for part in parts[:5])
        more = " …" if len(parts) > 5 else ""
        self.flips.setText(f"{len(parts)} changed:\n{names}{more}\nundo the edit")
        self.flips.setVisible(bool(parts))

    def show_verdict_changes(self, count: int) -> None:
        """Show how many parts would change their verdict; below zero shows nothing."""
        if count < 0:
            self.refresh()
        else:
            self.aside.setText("no verdict changes" if count == 0 else f"{count} verdicts change")

    def _rebuild(self) -> None:
        kept = {id(card.part): card for card in self.cards}
        self.cards = [
            kept.pop(id(part)) if id(part) in kept else self._made(part) for part in self.bench.tray.parts
        ]
        for gone in kept.values():
            self.drop(gone)
        for k, card in enumerate(self.cards):
            self.rows.insertWidget(k, card)

    def _made(self, part: TrayPart) -> TrayCard:
        card = TrayCard(part)
        card.chosen.connect(lambda chosen: self.bench.tray.select(self.bench.tray.parts.index(chosen)))
        card.tag_clicked.connect(self.bench.next_tag)
        return card


def _width(text: str) -> int:
    return QFontMetrics(theme.font(11)).horizontalAdvance(text)


def _fitting(numbers: list[str], room: float) -> str:
    """The first of some numbers that fit, and how many more there are."""
    for count in range(len(numbers), -1, -1):
        more = [f"+{len(numbers) - count}"] if count < len(numbers) else []
        text = " ".join([*numbers[:count], *more])
        if _width(text) <= room:
            return text
    return ""


def thumbnail(part: TrayPart) -> QImage:
    """The part as a small picture, at double density."""
    data = part.scan.data
    x0, x1, y0, y1 = part.extent
    w, h = 2 * THUMB[0], 2 * THUMB[1]
    scale = max((x1 - x0) / w, (y1 - y0) / h)
    view = View((x0 + x1) / 2 - scale * w / 2, (y0 + y1) / 2 + scale * h / 2, scale, w, h)
    low, high = part.height_span
    shown = image(picture(data, view, height_palette(), low, high))
    ground = QImage(w, h, QImage.Format.Format_RGB32)
    ground.fill(theme.colour("stage"))
    painter = QPainter(ground)
    painter.drawImage(0, 0, shown)
    painter.end()
    return ground


def _status_text(part: TrayPart) -> str:
    if part.error:
        return part.error
    if part.result is None:
        return "not evaluated yet"
    rows = [units.result(c) for c in part.result.characteristics if c.reason]
    reasons = [f"{c.balloon} {c.name}: {c.reason}" for c in rows]
    return "\n".join([f"tagged {part.tag}, verdict {part.result.verdict}", *reasons[:8]])
