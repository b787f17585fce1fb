"""Stage as a file: points as they are (PNG), or lines and words to scale (SVG, PDF)."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QBuffer, QIODevice, QMarginsF, QPoint, QSize, QSizeF
from PySide6.QtGui import QImage, QPageSize, QPainter, QPdfWriter, QRegion
from PySide6.QtSvg import QSvgGenerator
from PySide6.QtWidgets import QWidget

from hemtra.core.errors import FileError
from hemtra.desktop.plan.stage.top_view import TopView
from hemtra.storage.files import atomic_write

KINDS = "Images (*.png);;Drawings (*.svg);;PDF (*.pdf)"
FINER = 2
"""Points of a PNG to a pixel of the screen."""
INCH = 96.0
"""Screen pixels per inch of paper."""


def save_picture(stage: TopView, path: Path) -> None:
    """Write what the stage shows, with its legend and without its buttons. Raises `FileError`."""
    makers = {".png": _png, ".svg": _svg, ".pdf": _pdf}
    maker = makers.get(path.suffix.lower())
    if maker is None:
        raise FileError(f"An image file ends in {', '.join(makers)}, not in “{path.suffix}”.")
    made = maker(stage)
    with atomic_write(path) as stream:
        stream.write(made)


def _png(stage: TopView) -> bytes:
    image, held = QImage(stage.size() * FINER, QImage.Format.Format_RGB32), _buffer()
    image.setDevicePixelRatio(FINER)
    _paint(stage, QPainter(image))
    image.save(held, "PNG")  # type: ignore[call-overload]
    return bytes(held.data().data())


def _svg(stage: TopView) -> bytes:
    held, drawing = _buffer(), QSvgGenerator()
    drawing.setOutputDevice(held)
    drawing.setSize(stage.size())
    drawing.setViewBox(stage.rect())
    drawing.setTitle(stage.bench.document.plan.name)
    _paint(stage, QPainter(drawing))
    return bytes(held.data().data())


def _pdf(stage: TopView) -> bytes:
    held = _buffer()
    page = QPdfWriter(held)
    size: QSize = stage.size()
    page.setPageSize(QPageSize(QSizeF(size.width() / INCH, size.height() / INCH), QPageSize.Unit.Inch))
    page.setPageMargins(QMarginsF(0, 0, 0, 0))
    page.setResolution(round(INCH))
    page.setTitle(stage.bench.document.plan.name)
    _paint(stage, QPainter(page))
    return bytes(held.data().data())


def _buffer() -> QBuffer:
    held = QBuffer()
    held.open(QIODevice.OpenModeFlag.WriteOnly)
    return held


def _paint(stage: TopView, painter: QPainter) -> None:
    alone = QWidget.RenderFlag.DrawWindowBackground
    stage.render(painter, QPoint(0, 0), QRegion(), alone)
    stage.legend.render(painter, stage.legend.pos(), QRegion(), alone)
    painter.end()
