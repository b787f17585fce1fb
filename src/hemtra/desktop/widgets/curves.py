"""Curves of many points, from arrays to the screen."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QByteArray, QDataStream, QLineF
from PySide6.QtGui import QPainter, QPen, QPolygonF

from hemtra.core.arrays import FloatArray
from hemtra.core.runs import runs

THIN = 2.0
"""Width of a pen up to which a curve is drawn as strokes one pixel wide, which Qt draws ten times as fast."""


def polygon(x: FloatArray, y: FloatArray) -> QPolygonF:
    """The points (n,) in pixels, none of them NaN."""
    # as Qt itself writes it: one by one they would take longer than drawing them
    places = np.column_stack([x, y]).astype(">f8")
    stream = QDataStream(QByteArray(len(places).to_bytes(4, "big") + places.tobytes()))
    found = QPolygonF()
    stream >> found
    return found


def draw_curve(painter: QPainter, x: FloatArray, y: FloatArray, pen: QPen) -> None:
    """Draw the curve through points (n,) in pixels, broken where there is no data."""
    width = pen.widthF()
    if width > THIN:
        painter.setPen(pen)
        ends = np.column_stack([x[:-1], y[:-1], x[1:], y[1:]])
        # one by one: Qt joins a thousand lines into an area before it draws them, which takes twice as long
        painter.drawLines([QLineF(*end) for end in ends[~np.isnan(ends).any(axis=1)].tolist()])
        return
    thin = QPen(pen)
    thin.setWidthF(1.0)
    painter.setPen(thin)
    aside = max(width - 1.0, 0.0) / 2.0
    for first, many in runs(~(np.isnan(x) | np.isnan(y)), closed=False):
        piece = polygon(x[first : first + many], y[first : first + many])
        for by in (-aside, aside) if aside else (0.0,):
            painter.drawPolyline(piece.translated(by, by))
