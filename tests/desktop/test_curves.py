"""Curves that are drawn from arrays lie where their points do, and break where there is no data."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPen

from hemtra.desktop.widgets.curves import draw_curve, polygon


@pytest.mark.parametrize("width", [1.0, 1.4, 3.2])
def test_a_curve_is_drawn_where_there_is_data(dressed, width):
    x = np.arange(5.0, 195.0, 0.5)
    y = 30.0 + 0.1 * x
    y[(x > 60) & (x < 80)] = np.nan
    y[x == 70.0] = 37.0  # a point alone is no curve
    picture = QImage(200, 60, QImage.Format.Format_RGB32)
    picture.fill(Qt.GlobalColor.white)
    painter = QPainter(picture)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    draw_curve(painter, x, y, QPen(QColor("black"), width))
    painter.end()
    dark = 255 - np.array([[picture.pixelColor(i, j).value() for i in range(200)] for j in range(60)])
    assert not dark[:, 63:78].any()
    seen = np.r_[8:57, 83:190]
    weight = dark[:, seen].sum(axis=0)
    # a thick one is made of lines that overlap
    assert weight / 255 == pytest.approx(width, abs=0.35 if width < 2 else 0.9)
    middle = (dark[:, seen] * (np.arange(60) + 0.5)[:, None]).sum(axis=0) / weight
    assert middle == pytest.approx(30.0 + 0.1 * (seen + 0.5), abs=0.5)


def test_points_become_a_polygon():
    x, y = np.array([1.5, -2.25, 3e5]), np.array([0.0, 7.125, -1.0])
    assert [(p.x(), p.y()) for p in polygon(x, y)] == list(zip(x, y, strict=True))
    assert polygon(x[:0], y[:0]).isEmpty()
