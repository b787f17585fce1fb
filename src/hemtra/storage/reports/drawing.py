"""A part as on a drawing: its height map, and balloons around it whose leaders end where was measured."""

from __future__ import annotations

import io
import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from PIL import Image
from reportlab.lib.utils import ImageReader
from reportlab.pdfbase.pdfmetrics import stringWidth
from reportlab.pdfgen.canvas import Canvas
from reportlab.platypus import Flowable

from hemtra.core.arrays import ByteArray
from hemtra.core.balloon_layout import SPACING, place_balloons
from hemtra.core.detection.part_box import height_span, part_box
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.marks import Label, Mark, Polyline, Region, Strokes
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.limits import Verdict
from hemtra.core.rendering.palettes import height_palette
from hemtra.core.rendering.picture import View, picture
from hemtra.storage.reports.page import ANCHOR, COPPER, INK, LINE, PAPER, REGULAR, draw_balloon

DENSITY = 2.4
"""Resolution in pixels per point: 170 to the inch."""
RING, APART = 24.0, 17.0
"""Points around the part for balloons, and between two of them."""
LEGEND, COLOURS_WIDE, SCALE_BAR = 14.0, 110.0, 60.0
"""Height of the legend, width of its colours, and maximum length of the scale bar, points."""
QUALITY = 88
TINTS = {"used-data": (181, 98, 43), "left-out": (122, 108, 152)}
Extent = tuple[float, float, float, float]


@dataclass(frozen=True)
class Pointer:
    """A balloon, and x and y in mm of what it points at."""

    balloon: int
    verdict: Verdict
    x: float
    y: float


class PartPicture(Flowable):
    """A height map from above, in the colours of the screen, with a scale.

    extent: x from, x to, y from, y to in mm; by default the part itself. legend: whether colours are explained.
    """

    def __init__(
        self,
        data: HeightMap,
        size: tuple[float, float],
        pointers: Sequence[Pointer] = (),
        marks: Sequence[Mark] = (),
        extent: Extent | None = None,
        *,
        legend: bool = False,
    ) -> None:
        super().__init__()
        self._pointers, self._marks = pointers, marks
        x0, x1, y0, y1 = extent or part_extent(data)
        ring = RING if pointers else 0.0
        low, top = height_span(data)
        self._heights = low, max(top, low + 1e-3)
        self._legend = LEGEND if legend else 0.0
        room = size[0] - 2 * ring, size[1] - 2 * ring - self._legend
        self._scale = min(room[0] / max(x1 - x0, 1e-6), room[1] / max(y1 - y0, 1e-6))
        """Points per mm."""
        inner = (x1 - x0) * self._scale, (y1 - y0) * self._scale
        self._left, self._bottom, self._ring = x0, y0, ring
        self._inner = inner
        self.width, self.height = inner[0] + 2 * ring, inner[1] + 2 * ring + self._legend
        numbers = ", ".join(str(Balloon(pointer.balloon)) for pointer in pointers)
        self.alt = f"Height map, {x1 - x0:.0f} × {y1 - y0:.0f} mm" + (
            f", balloons {numbers}" if numbers else ""
        )
        # painted at once, so that the scan need not be held until the page is laid out
        self.image = self._painted(data)

    def wrap(self, width: float, height: float) -> tuple[float, float]:
        """Its size in points."""
        return self.width, self.height

    def draw(self) -> None:
        """Map, marks, leaders, balloons, scale and legend."""
        canvas, ring, inner = self.canv, self._ring, self._inner
        canvas.saveState()
        canvas.translate(0.0, self._legend)
        canvas.drawImage(ImageReader(io.BytesIO(self.image)), ring, ring, *inner)
        canvas.setStrokeColor(LINE)
        canvas.setLineWidth(0.5)
        canvas.rect(ring, ring, *inner, stroke=1, fill=0)
        self._draw_marks(canvas)
        self._draw_balloons(canvas)
        canvas.restoreState()
        self._draw_scale(canvas)
        if self._legend:
            self._draw_legend(canvas)

    def _draw_scale(self, canvas: Canvas) -> None:
        """A bar of a round length: below the map beside the legend, else in a corner of it."""
        length = round_length(SCALE_BAR / self._scale)
        wide, words = length * self._scale, f"{length:g} mm"
        x, y = self.width - self._ring - wide - 4.0, 3.0 if self._legend else 4.0
        if not self._legend:
            canvas.setFillColor(PAPER)
            canvas.rect(x - 3.0, y - 2.5, wide + 6.0, 13.0, stroke=0, fill=1)
        canvas.setStrokeColor(INK)
        canvas.setFillColor(INK)
        canvas.setLineWidth(0.8)
        canvas.lines([(x, y, x + wide, y), (x, y - 2, x, y + 2), (x + wide, y - 2, x + wide, y + 2)])
        canvas.setFont(REGULAR, 6.5)
        canvas.drawCentredString(x + wide / 2, y + 3.0, words)

    def _draw_legend(self, canvas: Canvas) -> None:
        """Legend of colours and heights."""
        strip = Image.fromarray(np.ascontiguousarray(height_palette()[None, :, :3]))
        low, high = (f"{height:.2f} mm" for height in self._heights)
        canvas.setFillColor(INK)
        canvas.setFont(REGULAR, 6.5)
        canvas.drawString(self._ring, 2.5, low)
        start = self._ring + stringWidth(low, REGULAR, 6.5) + 4.0
        canvas.drawImage(ImageReader(strip), start, 2.0, COLOURS_WIDE, 5.5)
        canvas.drawString(start + COLOURS_WIDE + 4.0, 2.5, high)

    def _at(self, x: float, y: float) -> tuple[float, float]:
        return (
            self._ring + (x - self._left) * self._scale,
            self._ring + (y - self._bottom) * self._scale,
        )

    def _painted(self, data: HeightMap) -> bytes:
        """The map as a JPEG on white, with the points that were used tinted."""
        wide, high = (max(2, round(side * DENSITY)) for side in self._inner)
        view = View(
            self._left, self._bottom + self._inner[1] / self._scale, 1 / (self._scale * DENSITY), wide, high
        )
        rgba = picture(data, view, height_palette(), *self._heights)
        alpha = rgba[..., 3:].astype(np.uint16)
        rgb = ((rgba[..., :3] * alpha + 255 * (255 - alpha)) // 255).astype(np.uint8)
        for mark in self._marks:
            if isinstance(mark, Region):
                _tint(rgb, mark, view)
        stream = io.BytesIO()
        Image.fromarray(rgb).save(stream, "JPEG", quality=QUALITY, subsampling=0)
        return stream.getvalue()

    def _draw_marks(self, canvas: Canvas) -> None:
        canvas.saveState()
        clip = canvas.beginPath()
        clip.rect(self._ring, self._ring, *self._inner)
        canvas.clipPath(clip, stroke=0)
        for mark in self._marks:
            if isinstance(mark, Polyline):
                self._draw_line(canvas, mark)
            elif isinstance(mark, Strokes):
                canvas.setStrokeColor(COPPER)
                canvas.setLineWidth(0.7)
                canvas.lines([(*self._at(a[0], a[1]), *self._at(b[0], b[1])) for a, b in mark.ends.tolist()])
            elif isinstance(mark, Label):
                canvas.setFillColor(INK)
                canvas.drawCentredString(*self._at(mark.at.x, mark.at.y), mark.text)
        canvas.restoreState()

    def _draw_line(self, canvas: Canvas, mark: Polyline) -> None:
        if len(mark.points) < 2:
            return
        line = canvas.beginPath()
        places = [self._at(x, y) for x, y, _ in mark.points.tolist()]
        line.moveTo(*places[0])
        for place in places[1:]:
            line.lineTo(*place)
        if mark.closed:
            line.close()
        canvas.setStrokeColor(ANCHOR if mark.role == "anchor" else COPPER)
        canvas.setLineWidth(0.9)
        canvas.drawPath(line, stroke=1, fill=0)

    @property
    def inner_box(self) -> tuple[float, float, float, float]:
        """Left, top, width and height of the map in points, from the upper left corner."""
        return (self._ring, self._ring, *self._inner)

    def placed_balloons(self) -> list[tuple[Pointer, tuple[float, float], tuple[float, float]]]:
        """Each balloon, what it points at, and where it stands; points from the lower left corner."""
        ratio = SPACING / APART
        anchors = [self._at(p.x, p.y) for p in self._pointers]
        ring = (RING / 2, RING / 2, self.width - RING / 2, self.height - self._legend - RING / 2)
        scaled = place_balloons(
            [(x * ratio, y * ratio) for x, y in anchors],
            tuple(side * ratio for side in ring),  # type: ignore[arg-type]
        )
        places = [(place[0] / ratio, place[1] / ratio) for place in scaled]
        return list(zip(self._pointers, anchors, places, strict=True))

    def _draw_balloons(self, canvas: Canvas) -> None:
        for pointer, anchor, (x, y) in self.placed_balloons():
            canvas.setStrokeColor(INK)
            canvas.setLineWidth(0.5)
            canvas.line(*anchor, x, y)
            canvas.setFillColor(INK)
            canvas.circle(*anchor, 1.1, stroke=0, fill=1)
            draw_balloon(canvas, x, y, str(pointer.balloon), pointer.verdict)


def round_length(length: float) -> float:
    """The largest of 1, 2, 5, 10, 20, … (also below 1) that is not longer."""
    power = 10.0 ** math.floor(math.log10(max(length, 1e-6)))
    return next(power * step for step in (5.0, 2.0, 1.0) if power * step <= length * (1.0 + 1e-9))


def part_extent(data: HeightMap) -> Extent:
    """x from, x to, y from, y to in mm of the part and a little around it; of all where none is raised."""
    box = part_box(data)
    if box is None:
        return data.extent
    room = 0.04 * max(box[1] - box[0], box[3] - box[2])
    return box[0] - room, box[1] + room, box[2] - room, box[3] + room


def around(x: float, y: float, reach: float) -> Extent:
    """Neighbourhood of a place, in mm."""
    return x - reach, x + reach, y - reach, y + reach


def _tint(rgb: ByteArray, mark: Region, view: View) -> None:
    """Colour the pixels whose points a region holds."""
    tint = TINTS.get(mark.role)
    if tint is None:
        return
    grid, (rows, cols) = mark.grid, mark.mask.shape
    x = view.left + (np.arange(view.width) + 0.5) * view.scale
    y = view.top - (np.arange(view.height) + 0.5) * view.scale
    column, row = np.round((x - grid.x0) / grid.dx).astype(int), np.round((y - grid.y0) / grid.dy).astype(int)
    inside_x, inside_y = (column >= 0) & (column < cols), (row >= 0) & (row < rows)
    held = np.zeros((view.height, view.width), bool)
    held[np.ix_(inside_y, inside_x)] = mark.mask[np.ix_(row[inside_y], column[inside_x])]
    rgb[held] = (0.55 * rgb[held] + 0.45 * np.array(tint)).astype(np.uint8)
