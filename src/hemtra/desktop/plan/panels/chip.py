"""Chip of a link in the lineage: its name, and its result below."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QFontMetrics, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QAbstractButton, QWidget

from hemtra.desktop.widgets import theme

HEIGHT = 38
GLYPH_ROOM, PADDING = 28, 9
"""Margins left and right of the text, pixels."""
FOLDED = GLYPH_ROOM + 8
"""Width of a chip with nothing but its glyph."""
NAME, VALUE = 12, 11
"""Size of the text in pixels."""


@dataclass(frozen=True)
class Link:
    """Content of a chip. values: the result, from the longest wording to the shortest."""

    id: str
    name: str
    glyph: str
    tint: str
    """Name of the theme's colour."""
    values: tuple[str, ...] = ()
    value_tint: str = "muted"
    help: str = ""


class Chip(QAbstractButton):
    """A button that opens the card of its link."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.link = Link("", "", "scan", "muted")
        self.chosen = self.opened = False
        self._lines: Sequence[str] = ()
        self._value = ""
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def show_link(self, link: Link, *, chosen: bool, opened: bool) -> None:
        """chosen: its zone has handles. opened: its card is open."""
        if (link, chosen, opened) == (self.link, self.chosen, self.opened):
            return
        self.link, self.chosen, self.opened = link, chosen, opened
        value = link.values[0] if link.values else ""
        self.setAccessibleName(f"{link.name}, {value}" if value else link.name)
        words = f"{link.name}\n{value}" if value else link.name
        self.setToolTip(f"{words}\n{link.help}" if link.help else words)
        self.update()

    def width_within(self, limit: float) -> int:
        """The width it has when a name may be so many pixels wide before it is broken into two lines."""
        lines, value = self._text(limit)
        names, values = _metrics(NAME, bold=True), _metrics(VALUE)
        widest = max([names.horizontalAdvance(line) for line in lines] + [values.horizontalAdvance(value)])
        return GLYPH_ROOM + widest + PADDING

    def arrange(self, limit: float | None) -> None:
        """Take the lines that fit a limit; None leaves only the glyph."""
        text = ((), "") if limit is None else self._text(limit)
        if text != (self._lines, self._value):
            self._lines, self._value = text
            self.update()

    def _text(self, limit: float) -> tuple[Sequence[str], str]:
        names, values = _metrics(NAME, bold=True), _metrics(VALUE)
        if names.horizontalAdvance(self.link.name) > limit:
            broken = _broken(self.link.name, names)
            if broken is not None:
                return broken, ""
        room = max(limit, names.horizontalAdvance(self.link.name))
        fitting = (text for text in self.link.values if values.horizontalAdvance(text) <= room)
        return (self.link.name,), next(fitting, self.link.values[-1] if self.link.values else "")

    def sizeHint(self) -> QSize:
        """Width of all of its text."""
        return QSize(self.width_within(1e6), HEIGHT)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Background, strip, glyph, name, value."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        marked = self.chosen or self.opened or self.hasFocus()
        pen = QPen(theme.colour("copper" if marked else "line"), 1.8 if marked else 1.0)
        if self.hasFocus():
            pen.setStyle(Qt.PenStyle.DashLine)
        painter.setPen(pen)
        painter.setBrush(theme.colour("copper_wash" if self.opened else "paper"))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 5, 5)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour(self.link.tint))
        painter.drawRoundedRect(QRectF(1, 1, 4, self.height() - 2), 2, 2)
        glyph = theme.glyph(self.link.glyph, theme.colour(self.link.tint).name())
        painter.drawPixmap(QPointF(9, (self.height() - 16) / 2), glyph)
        rows = [(line, True) for line in self._lines] + ([(self._value, False)] if self._value else [])
        top = (self.height() - 15.0 * len(rows)) / 2
        for k, (text, is_name) in enumerate(rows):
            bold = is_name or self.link.value_tint != "muted"
            painter.setFont(theme.font(NAME if is_name else VALUE, bold=bold))
            painter.setPen(theme.colour("ink" if is_name else self.link.value_tint))
            box = QRectF(GLYPH_ROOM, top + 15 * k, self.width() - GLYPH_ROOM - 2, 15)
            painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | Qt.TextFlag.TextDontClip, text)
        painter.end()


def _metrics(pixels: int, *, bold: bool = False) -> QFontMetrics:
    return QFontMetrics(theme.font(pixels, bold=bold))


def _broken(name: str, metrics: QFontMetrics) -> tuple[str, str] | None:
    """A name in two lines of about one length; None for one word."""
    words = name.split()
    ways = [(" ".join(words[:k]), " ".join(words[k:])) for k in range(1, len(words))]
    return min(ways, key=lambda way: max(map(metrics.horizontalAdvance, way)), default=None)


def in_rows(widths: Sequence[int], room: int, gap: int) -> list[list[int]]:
    """Distribution of some widths into rows."""
    rows: list[list[int]] = [[]]
    used = 0
    for k, width in enumerate(widths):
        if rows[-1] and used + gap + width > room:
            rows.append([])
            used = 0
        used += width + (gap if rows[-1] else 0)
        rows[-1].append(k)
    return rows


def spans(links: Sequence[tuple[int, int]]) -> dict[int, int]:
    """The lane of each source whose targets do not all stand beside it, so that lanes share no stretch.

    links: places of source and target in the line.
    """
    reach: dict[int, int] = {}
    for source, target in links:
        if target - source > 1:
            reach[source] = max(reach.get(source, 0), target)
    lanes: dict[int, int] = {}
    for source in sorted(reach):
        taken = {lanes[other] for other in lanes if reach[other] > source}
        lanes[source] = next(k for k in range(len(reach) + 1) if k not in taken)
    return lanes
