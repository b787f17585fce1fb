"""What a look at a window finds wrong: text that is cut, that overlaps, and controls without a name or key."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

from PySide6.QtCore import QPointF, QRect, QRectF, QSize, Qt
from PySide6.QtGui import QFontMetricsF, QPainter
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractScrollArea,
    QApplication,
    QCheckBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QScrollArea,
    QStyle,
    QStyleOptionComboBox,
    QStyleOptionFrame,
    QWidget,
)

from hemtra.desktop.widgets import units

OTHERWISE = {
    "EvidencePicture": "takes the focus where there is something to choose in it",
    "ScanPicture": "takes the focus where it is to be clicked",
    "StationDrawing": "what is dragged there is typed in the fields below",
}
"""Classes that take the mouse and not the focus, and why none is shut out."""
POINTED = re.compile(r"(?<![\w.“/])\d+\.\d+(?![\w.]*[/.]\w)")
SLACK = 1.5
"""Pixels that rounding may take."""


@dataclass
class Painted:
    """A text as it was painted: on what, where, and how much room it was given."""

    widget: QWidget
    text: str
    box: QRectF
    room: QRectF | None


@dataclass
class Audit:
    """Collects what is wrong in the states of a window, each once."""

    found: dict[str, str] = field(default_factory=dict)
    """What is wrong, and the first state it was seen in."""
    painted: list[Painted] = field(default_factory=list)

    def look(self, window: QWidget, state: str) -> None:
        """Paint a window, and note what is wrong with it."""
        self.painted = []
        with self._listening():
            window.grab()
        for problem in [*self._widgets(window), *self._texts(), *self._pointed(window)]:
            self.found.setdefault(problem, state)

    # -- widgets ----------------------------------------------------------------------------------

    def _widgets(self, window: QWidget) -> Iterator[str]:
        for widget in window.findChildren(QWidget):
            if not widget.isVisible() or widget.visibleRegion().isEmpty():
                continue
            yield from _cut(widget)
            yield from _outside(widget)
            yield from _unnamed(widget)

    def _pointed(self, window: QWidget) -> Iterator[str]:
        """Numbers with a point where they are to have a comma, but for balloons and what somebody named."""
        if units.way()[1] != ",":
            return
        seen = [one for one in window.findChildren(QWidget) if one.isVisible()]
        said = [(one, _said(one)) for one in seen] + [(one.widget, one.text) for one in self.painted]
        for widget, words in said:
            if POINTED.search(words):
                yield f"point in {type(widget).__name__}: “{words}”"

    # -- painted text -----------------------------------------------------------------------------

    @contextmanager
    def _listening(self) -> Iterator[None]:
        usual = QPainter.drawText

        def listening(painter: QPainter, *args: Any) -> Any:
            self._note(painter, args)
            return usual(painter, *args)

        QPainter.drawText = listening  # type: ignore[method-assign, assignment]
        try:
            yield
        finally:
            QPainter.drawText = usual  # type: ignore[method-assign]

    def _note(self, painter: QPainter, args: tuple[Any, ...]) -> None:
        text = next((a for a in reversed(args) if isinstance(a, str)), "")
        widget = painter.device()
        if not text.strip() or not isinstance(widget, QWidget):
            return
        metrics, room = QFontMetricsF(painter.font()), None
        if isinstance(args[0], (QRect, QRectF)):
            room = QRectF(args[0])
            flags = int(args[1]) if isinstance(args[1], int) else int(args[1].value)
            box = metrics.boundingRect(room, flags, text)
        else:
            x, y = (args[0].x(), args[0].y()) if not isinstance(args[0], (int, float)) else args[:2]
            box = QRectF(x, y - metrics.ascent(), metrics.horizontalAdvance(text), metrics.height())
        mapped = painter.combinedTransform()
        if painter.hasClipping() and not painter.clipBoundingRect().intersects(box):
            return
        self.painted.append(
            Painted(widget, text, mapped.mapRect(box), None if room is None else mapped.mapRect(room))
        )

    def _texts(self) -> Iterator[str]:
        for one in self.painted:
            where = f"{type(one.widget).__name__}: “{one.text}”"
            if one.text.endswith("…") and len(one.text) > 1:
                yield f"shortened in {where}"
            if one.room is not None and one.box.width() > one.room.width() + SLACK:
                yield f"cut in {where}"
            ground = QRectF(one.widget.rect()).adjusted(-SLACK, -SLACK, SLACK, SLACK)
            sides = one.box.left() < ground.left() or one.box.right() > ground.right()
            scrolls = isinstance(one.widget.parent(), QAbstractScrollArea)
            if sides or not (scrolls or ground.contains(QPointF(one.box.center()))):
                yield f"painted beyond {where}"
        for k, one in enumerate(self.painted):
            for other in self.painted[k + 1 :]:
                if other.widget is one.widget and _meet(one.box, other.box) and one.text != other.text:
                    yield f"overlap in {type(one.widget).__name__}: “{one.text}” and “{other.text}”"


def _meet(one: QRectF, other: QRectF) -> bool:
    """Whether two texts lie over each other by more than the room that fonts keep around letters."""
    common = one.intersected(other)
    return common.width() > 2.0 and common.height() > 0.45 * min(one.height(), other.height())


def _cut(widget: QWidget) -> Iterator[str]:
    name = f"{type(widget).__name__} in {type(widget.parent()).__name__}"
    match widget:
        case QLabel() if widget.text():
            if widget.wordWrap():
                if widget.heightForWidth(widget.width()) > widget.height() + SLACK:
                    yield f"label too low: “{widget.text()}” ({name})"
            elif widget.sizeHint().width() > widget.width() + SLACK:
                yield f"label cut: “{widget.text()}” ({name})"
        case QLineEdit():
            option = QStyleOptionFrame()
            widget.initStyleOption(option)
            inner = widget.style().subElementRect(QStyle.SubElement.SE_LineEditContents, option, widget)
            shown = widget.text() or widget.placeholderText()
            if widget.fontMetrics().horizontalAdvance(shown) > inner.width() - 3:
                yield f"field cut: “{shown}” ({widget.accessibleName() or name})"
        case QComboBox():
            box = QStyleOptionComboBox()
            widget.initStyleOption(box)
            inner = widget.style().subControlRect(
                QStyle.ComplexControl.CC_ComboBox, box, QStyle.SubControl.SC_ComboBoxEditField, widget
            )
            longest = max((widget.itemText(k) for k in range(widget.count())), key=len, default="")
            if widget.fontMetrics().horizontalAdvance(longest) > inner.width() + SLACK:
                yield f"choice cut: “{longest}” ({widget.accessibleName() or name})"
        case QAbstractButton() if widget.text():
            lines = widget.text().split("\n")
            wide = max(widget.fontMetrics().size(0, line).width() for line in lines)
            aside = widget.iconSize().width() + 4 if not widget.icon().isNull() else 0
            aside += 16 if isinstance(widget, QCheckBox) else 0
            if wide + aside > widget.width():
                yield f"button cut: “{widget.text()}” ({name})"


def _outside(widget: QWidget) -> Iterator[str]:
    """What is cut by the widgets around it, but for what scrolls up and down."""
    if isinstance(widget, QScrollArea) and widget.horizontalScrollBar().isVisible():
        yield f"scrolls sideways: {type(widget.parent()).__name__}"
    has_text = isinstance(widget, (QLabel, QAbstractButton, QLineEdit, QComboBox))
    if not has_text or isinstance(widget.parent(), (QComboBox, QLineEdit)):
        return
    seen = widget.visibleRegion().boundingRect().size()
    if seen.width() < widget.width() - SLACK:
        yield f"reaches out sideways: {type(widget).__name__} “{_words(widget)}”"
    scrolls = any(isinstance(p, QAbstractScrollArea) for p in _parents(widget))
    if seen.height() < widget.height() - SLACK and not scrolls:
        yield f"reaches out up or down: {type(widget).__name__} “{_words(widget)}”"


def _unnamed(widget: QWidget) -> Iterator[str]:
    takes_keys = widget.focusPolicy() & Qt.FocusPolicy.TabFocus
    scrolling = isinstance(widget, QAbstractScrollArea) and type(widget).__module__.startswith("PySide6")
    named = bool(widget.accessibleName() or _words(widget)) or isinstance(widget.parent(), QComboBox)
    if takes_keys and not scrolling and not named:
        yield f"no name: {type(widget).__name__} in {type(widget.parent()).__name__}"
    own = type(widget).__module__.startswith("hemtra")
    clicked = own and type(widget).mousePressEvent is not QWidget.mousePressEvent
    clicked = clicked and "mousePressEvent" in vars(type(widget)) and type(widget).__name__ not in OTHERWISE
    reached = any(w.focusPolicy() & Qt.FocusPolicy.TabFocus for w in (widget, *_parents(widget)))
    if clicked and not reached:
        yield f"mouse only: {type(widget).__name__}"


def _said(widget: QWidget) -> str:
    """All that a widget says: its text, and what is shown or read aloud of it."""
    texts = [_words(widget), widget.toolTip(), widget.accessibleName(), widget.accessibleDescription()]
    if isinstance(widget, QLineEdit):
        texts += [widget.text(), widget.placeholderText()]
    return "  ".join(text for text in texts if text)


def _words(widget: QWidget) -> str:
    if isinstance(widget, QComboBox):
        return widget.accessibleName()
    return str(widget.text()) if isinstance(widget, (QAbstractButton, QLabel)) else ""


def _parents(widget: QWidget) -> Iterator[QWidget]:
    parent = widget.parentWidget()
    while parent is not None:
        yield parent
        parent = parent.parentWidget()


def resize(window: QWidget, size: QSize) -> None:
    """Give a window a size, and let everything take its place."""
    window.resize(size)
    for _ in range(3):
        QApplication.processEvents()
