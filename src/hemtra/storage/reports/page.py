"""The page that reports are printed on: paper, fonts, colours, signs and tables."""

from __future__ import annotations

import math
import time
from collections.abc import Sequence
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any

from reportlab.lib.colors import Color, HexColor
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.pdfbase.pdfmetrics import registerFont, registerFontFamily, stringWidth
from reportlab.pdfbase.ttfonts import TTFont
from reportlab.pdfgen.canvas import Canvas
from reportlab.platypus import (
    BaseDocTemplate,
    CondPageBreak,
    Flowable,
    PageBreak,
    PageTemplate,
    Paragraph,
    Table,
    TableStyle,
)

from hemtra.core.plan.limits import Verdict
from hemtra.storage.files import atomic_write
from hemtra.storage.reports.tagging import TaggedCanvas, TaggedFrame, TaggedTable

REGULAR, BOLD = "B612", "B612-Bold"
MARGIN = 16 * mm
WIDTH = A4[0] - 2 * MARGIN
INK, MUTED, LINE, PAPER = HexColor("#1C2A28"), HexColor("#5E6C68"), HexColor("#D3D9D2"), HexColor("#FFFFFF")
SPRUCE, COPPER, ANCHOR = HexColor("#17403A"), HexColor("#B5622B"), HexColor("#2B5C9E")
BAND = HexColor("#E3F0E9")
COLOURS = {
    Verdict.PASS: HexColor("#1F8A5B"),
    Verdict.FAIL: HexColor("#C23B2E"),
    Verdict.NOT_MEASURED: HexColor("#7A6C98"),
    Verdict.NOT_PROVEN: HexColor("#7A6C98"),
}


@cache
def load_fonts() -> None:
    """Make B612 known; the same letters as on the screen."""
    folder = files("hemtra.storage.reports") / "fonts"
    for name, file in ((REGULAR, "B612-Regular.ttf"), (BOLD, "B612-Bold.ttf")):
        registerFont(TTFont(name, str(folder / file)))
    registerFontFamily(REGULAR, normal=REGULAR, bold=BOLD, italic=REGULAR, boldItalic=BOLD)


def style(size: float = 8.5, *, bold: bool = False, colour: Color = INK, after: float = 0.0) -> ParagraphStyle:
    """A style of running text."""
    load_fonts()
    return ParagraphStyle(
        f"{size}{bold}{colour.hexval()}{after}",
        fontName=BOLD if bold else REGULAR,
        fontSize=size,
        leading=size * 1.35,
        textColor=colour,
        spaceAfter=after,
    )


def text(words: str, **how: Any) -> Paragraph:
    """A paragraph of plain words; nothing in them is markup."""
    safe = words.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")
    return Paragraph(safe, style(**how))


def heading(words: str) -> list[Flowable]:
    """The title of a section, with a little of what follows on the same page."""
    return [CondPageBreak(32 * mm), text(words, size=11, bold=True, colour=SPRUCE, after=4)]


def new_page() -> Flowable:
    """Start a new page."""
    return PageBreak()


def build(path: Path, title: str, footer: str, story: Sequence[Flowable]) -> None:
    """Save a report atomically. Raises `FileError`; what stood at `path` is untouched then."""
    printed = time.strftime("%Y-%m-%d %H:%M")

    def decorate(canvas: Canvas, document: Any) -> None:
        assert isinstance(canvas, TaggedCanvas)
        with canvas.decoration():
            draw_edges(canvas, document)

    def draw_edges(canvas: Canvas, document: Any) -> None:
        canvas.setFillColor(SPRUCE)
        canvas.rect(0, A4[1] - 7 * mm, A4[0], 7 * mm, stroke=0, fill=1)
        canvas.setFillColor(PAPER)
        canvas.setFont(BOLD, 8.5)
        canvas.drawString(MARGIN, A4[1] - 5 * mm, "Hemtra")
        canvas.setFont(REGULAR, 8)
        canvas.drawRightString(A4[0] - MARGIN, A4[1] - 5 * mm, fitted(title, 8, WIDTH - 60))
        canvas.setFillColor(MUTED)
        canvas.setFont(REGULAR, 7)
        canvas.drawString(MARGIN, 8 * mm, fitted(footer, 7, WIDTH - 120))
        canvas.drawRightString(A4[0] - MARGIN, 8 * mm, f"printed {printed} · page {document.page}")

    with atomic_write(path) as stream:
        document = BaseDocTemplate(stream, pagesize=A4, title=title, author="Hemtra")
        frame = TaggedFrame(MARGIN, 13 * mm, WIDTH, A4[1] - 24 * mm, 0, 0, 0, 0)
        document.addPageTemplates(PageTemplate("page", [frame], onPage=decorate))
        document.build(list(story), canvasmaker=TaggedCanvas)


def fitted(words: str, size: float, room: float, font: str = REGULAR) -> str:
    """Words cut to what fits into so many points, with an ellipsis where something is gone."""
    if stringWidth(words, font, size) <= room:
        return words
    while words and stringWidth(f"{words}…", font, size) > room:
        words = words[:-1]
    return f"{words.rstrip()}…"


def facts(pairs: Sequence[tuple[str, str]]) -> Table:
    """Facts, in two columns of pairs."""
    half = -(-len(pairs) // 2)
    rows = []
    for k in range(half):
        left, right = pairs[k], pairs[half + k] if half + k < len(pairs) else ("", "")
        rows.append([text(left[0], colour=MUTED), text(left[1]), text(right[0], colour=MUTED), text(right[1])])
    return plain_table(rows, [26 * mm, WIDTH / 2 - 26 * mm] * 2, lines=False)


def plain_table(
    rows: Sequence[Sequence[Any]],
    widths: Sequence[float],
    *,
    head: int = 0,
    lines: bool = True,
    right: Sequence[int] = (),
    layout: bool = False,
) -> Table:
    """A table in our look. head: rows that stand again on every page. right: columns of numbers.

    layout: whether it only puts things beside each other.
    """
    commands: list[tuple[Any, ...]] = [
        ("FONT", (0, 0), (-1, -1), REGULAR, 8),
        ("TEXTCOLOR", (0, 0), (-1, -1), INK),
        ("VALIGN", (0, 0), (-1, -1), "MIDDLE"),
        ("LEFTPADDING", (0, 0), (-1, -1), 3),
        ("RIGHTPADDING", (0, 0), (-1, -1), 3),
        ("TOPPADDING", (0, 0), (-1, -1), 1.6),
        ("BOTTOMPADDING", (0, 0), (-1, -1), 1.6),
        *(("ALIGN", (column, 0), (column, -1), "RIGHT") for column in right),
    ]
    if lines:
        commands.append(("LINEBELOW", (0, 0), (-1, -1), 0.4, LINE))
    if head:
        commands += [
            ("FONT", (0, 0), (-1, head - 1), BOLD, 7.5),
            ("TEXTCOLOR", (0, 0), (-1, head - 1), MUTED),
            ("LINEBELOW", (0, head - 1), (-1, head - 1), 0.8, SPRUCE),
        ]
    made = Table if layout else TaggedTable
    return made([list(row) for row in rows], list(widths), style=TableStyle(commands), repeatRows=head)


def draw_balloon(
    canvas: Canvas, x: float, y: float, number: str, verdict: Verdict, radius: float = 6.5
) -> None:
    """The mark of a characteristic: circle = pass, diamond = fail, dashed circle = not measured or proven."""
    colour = COLOURS[verdict]
    canvas.saveState()
    if verdict is Verdict.FAIL:
        reach = radius * 1.28
        outline = canvas.beginPath()
        outline.moveTo(x, y - reach)
        for px, py in ((x + reach, y), (x, y + reach), (x - reach, y)):
            outline.lineTo(px, py)
        outline.close()
        canvas.setFillColor(colour)
        canvas.setStrokeColor(PAPER)
        canvas.drawPath(outline, stroke=1, fill=1)
        ink = PAPER
    else:
        canvas.setFillColor(PAPER)
        canvas.setStrokeColor(colour)
        canvas.setLineWidth(1.1)
        if verdict is not Verdict.PASS:
            canvas.setDash(*((2, 1.6) if verdict is Verdict.NOT_MEASURED else (5, 1.2)))
        canvas.circle(x, y, radius, stroke=1, fill=1)
        ink = colour
    canvas.setFillColor(ink)
    size = radius * (1.05 if len(number) < 3 else 0.8)
    canvas.setFont(BOLD, size)
    canvas.drawCentredString(x, y - size * 0.36, number)
    canvas.restoreState()


class Sign(Flowable):
    """A verdict with its sign and its word, or a balloon with its number."""

    def __init__(self, verdict: Verdict, number: str = "", word: bool = False, size: float = 8.0) -> None:
        super().__init__()
        self._verdict, self._number, self._word, self._size = verdict, number, word, size

    def wrap(self, width: float, height: float) -> tuple[float, float]:
        """Its size in points."""
        room = stringWidth(self._verdict, BOLD, self._size) + 5 if self._word else 0.0
        self._radius = self._size * (0.72 if self._number else 0.42)
        return 2.6 * self._radius + room, max(2.6 * self._radius, self._size * 1.2)

    def draw(self) -> None:
        """The sign, and beside it the word."""
        radius = self._radius
        draw_balloon(self.canv, 1.3 * radius, 1.3 * radius, self._number, self._verdict, radius)
        if self._word:
            self.canv.setFillColor(COLOURS[self._verdict])
            self.canv.setFont(BOLD, self._size)
            self.canv.drawString(2.6 * radius + 5, 1.3 * radius - self._size * 0.36, self._verdict)


def format_time(seconds: float) -> str:
    """A time in seconds since 1970 as the clock on the wall shows it."""
    if not math.isfinite(seconds) or seconds <= 0:
        return "–"
    return time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(seconds))
