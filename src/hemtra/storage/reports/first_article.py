"""The first-article report of one part: every requirement by its balloon, with its result, U and verdict.

As PDF, or as a workbook (Office Open XML) with the picture beside the table.
"""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from PIL import Image, ImageDraw, ImageFont
from reportlab.lib.units import mm
from reportlab.platypus import Flowable, Spacer

from hemtra.core.errors import FileError
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.budget import USUAL_COVERAGE
from hemtra.core.plan.limits import CharacteristicResult, Verdict, format_limits, format_value
from hemtra.core.text import decimal
from hemtra.storage.files import atomic_write
from hemtra.storage.foreign.extra import library
from hemtra.storage.reports import page
from hemtra.storage.reports.drawing import PartPicture
from hemtra.storage.reports.part_report import DRAWING, PartContent, pictured
from hemtra.storage.tables import harmless

HEADS = (
    "balloon",
    "requirement",
    "nominal",
    "lower",
    "upper",
    "unit",
    "result",
    "U, k = 2",
    "verdict",
    "note",
)
WIDTHS = (10, 44, 20, 36, 26, 18, 24)
"""Widths of the page's columns, mm."""
SIGNED = ("inspected by", "approved by")
WIDE = (9, 30, 11, 11, 11, 8, 12, 11, 16, 40)
"""Letters of the columns of the sheet."""
PAINTED = 3.0
"""Resolution of the picture in a workbook, pixels per point."""


@dataclass(frozen=True)
class FirstArticle:
    """A part as it was evaluated, and who inspected it; '' where nobody is named."""

    part: PartContent
    author: str = ""

    @property
    def conforms(self) -> str:
        """Number of requirements met."""
        rows = self.part.rows
        met = sum(row.verdict is Verdict.PASS for row in rows)
        return f"{met} of {len(rows)} requirements are met"


def save_first_article(path: Path, found: FirstArticle) -> None:
    """Save it as the ending of the name says, .pdf or .xlsx, atomically. Raises `FileError`."""
    writers = {".pdf": _save_pdf, ".xlsx": _save_workbook}
    write = writers.get(path.suffix.lower())
    if write is None:
        raise FileError(f"{path.name} is neither .pdf nor .xlsx; a first-article report is one of them.")
    write(path, found)


def expanded(row: CharacteristicResult) -> str:
    """U = 2 u of a value with two digits that count; '' where it is not known."""
    return "" if row.u is None else decimal(float(f"{USUAL_COVERAGE * row.u:.2g}"))


def _save_pdf(path: Path, found: FirstArticle) -> None:
    part = found.part
    story: list[Flowable] = [
        page.text(f"First-article report: {part.title}", size=15, bold=True, colour=page.SPRUCE, after=4),
        page.Sign(part.verdict, word=True, size=14),
        Spacer(0, 4),
        page.text(f"{found.conforms}. {part.reason}".strip(), after=4),
        page.facts(part.facts),
        Spacer(0, 6),
    ]
    story += pictured(part)
    story += [*page.heading("Requirements"), _table(part.rows), Spacer(0, 14), _signatures(found.author)]
    page.build(path, f"First article: {part.title}", "U: expanded uncertainty, coverage factor 2.", story)


def _table(rows: Sequence[CharacteristicResult]) -> Flowable:
    lines: list[list[Any]] = []
    for row in rows:
        nominal = "" if row.nominal is None else f"{row.nominal:.{row.decimals}f}"
        lines.append(
            [
                page.Sign(row.verdict, str(Balloon(row.balloon))),
                page.text(row.name),
                nominal,
                f"{format_limits(row.lower, row.upper, row.decimals)} {row.unit}".strip(),
                page.fitted(format_value(row), 8, 25 * mm),
                expanded(row),
                page.Sign(row.verdict, word=True, size=7),
            ]
        )
    head = ["", "requirement", "nominal", "limits", "result", "U", "verdict"]
    return page.plain_table([head, *lines], [side * mm for side in WIDTHS], head=1, right=(2, 3, 4, 5))


def _signatures(author: str) -> Flowable:
    """Room for those who answer for it."""
    rows = [
        [page.text(who, colour=page.MUTED), author if not k else "", page.text("date", colour=page.MUTED), ""]
        for k, who in enumerate(SIGNED)
    ]
    return page.plain_table(rows, [26 * mm, 70 * mm, 14 * mm, 40 * mm])


def _save_workbook(path: Path, found: FirstArticle) -> None:
    openpyxl = library("openpyxl", "openpyxl", "Excel")
    images = library("openpyxl.drawing.image", "openpyxl", "Excel")
    book, part = openpyxl.Workbook(), found.part
    sheet = book.active
    sheet.title = "First article"
    bold = openpyxl.styles.Font(bold=True)
    sheet.append([harmless(f"First-article report: {part.title}")])
    sheet["A1"].font = openpyxl.styles.Font(bold=True, size=14)
    sheet.append([str(part.verdict), harmless(f"{found.conforms}. {part.reason}".strip())])
    facts = [*part.facts, *(("note", note) for note in part.notes), *((who, "") for who in SIGNED)]
    for label, words in facts:
        sheet.append([harmless(label), harmless(found.author if label == SIGNED[0] else words)])
    sheet.append([])
    sheet.append(list(HEADS))
    first = sheet.max_row
    for cell in sheet[first]:
        cell.font = bold
    for row in part.rows:
        value = row.value if row.value is not None and not row.text else harmless(row.text or "")
        u = None if row.u is None else USUAL_COVERAGE * row.u
        asked = [str(Balloon(row.balloon)), harmless(row.name), row.nominal, row.lower, row.upper, row.unit]
        sheet.append([*asked, value, u, str(row.verdict), harmless(row.reason or "")])
        shown = f"0.{'0' * row.decimals}" if row.decimals else "0"
        for column in (3, 4, 5, 7):
            sheet.cell(sheet.max_row, column).number_format = shown
        sheet.cell(sheet.max_row, 8).number_format = "0.0E+00" if u and u < 1e-3 else "0.0000"
    for k, wide in enumerate(WIDE, 1):
        sheet.column_dimensions[openpyxl.utils.get_column_letter(k)].width = wide
    sheet.freeze_panes = sheet.cell(first + 1, 1)
    if part.seen is not None:
        drawn = PartPicture(part.seen.data, DRAWING, part.seen.pointers)
        sheet.add_image(images.Image(io.BytesIO(painted(drawn))), f"L{first}")
    with atomic_write(path) as stream:
        book.save(stream)


def painted(picture: PartPicture) -> bytes:
    """A picture with its balloons as PNG, for files that hold no drawings."""
    size = round(picture.width * PAINTED), round(picture.height * PAINTED)
    image = Image.new("RGB", size, "white")
    with Image.open(io.BytesIO(picture.image)) as drawn:
        left, top, wide, high = (round(PAINTED * side) for side in picture.inner_box)
        image.paste(drawn.resize((wide, high)), (left, top))
    draw = ImageDraw.Draw(image)
    font = ImageFont.load_default(size=7.0 * PAINTED)
    radius = 6.5 * PAINTED
    for pointer, (ax, ay), (x, y) in picture.placed_balloons():
        ax, ay, x, y = (PAINTED * v for v in (ax, picture.height - ay, x, picture.height - y))
        colour = f"#{page.COLOURS[pointer.verdict].hexval()[2:]}"
        draw.line((ax, ay, x, y), fill="#1C2A28", width=2)
        if pointer.verdict is Verdict.FAIL:
            reach = 1.28 * radius
            corners = [(x, y - reach), (x + reach, y), (x, y + reach), (x - reach, y)]
            draw.polygon(corners, fill=colour, outline="white")
        else:
            draw.ellipse(
                (x - radius, y - radius, x + radius, y + radius), fill="white", outline=colour, width=3
            )
        ink = "white" if pointer.verdict is Verdict.FAIL else colour
        draw.text((x, y), str(Balloon(pointer.balloon)), fill=ink, font=font, anchor="mm")
    stream = io.BytesIO()
    image.save(stream, "PNG")
    return stream.getvalue()
