"""Find a command by a few of its letters; and the page of keys and signs, from the same records."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from PySide6.QtCore import QEvent, QModelIndex, QObject, QPersistentModelIndex, QPointF, Qt
from PySide6.QtGui import QKeyEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QDialog,
    QGridLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QVBoxLayout,
    QWidget,
)

from hemtra.core.plan.limits import Verdict
from hemtra.desktop.documents.action import Action
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.scrolled import scrolled
from hemtra.desktop.widgets.symbols import draw_balloon, draw_gauge_mark

KEYS = Qt.ItemDataRole.UserRole + 1


class _WithKeys(QStyledItemDelegate):
    """Paints the keys of an action at the right of its title."""

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        """The usual item, and its keys."""
        super().paint(painter, option, index)
        painter.setPen(theme.colour("muted"))
        box = option.rect.adjusted(0, 0, -10, 0)
        painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, index.data(KEYS))


class CommandSearch(QDialog):
    """A line to type in and the commands that fit."""

    def __init__(self, actions: tuple[Action, ...], trigger: Callable[[str], None], parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self.setObjectName("dialog")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._trigger, self._actions = trigger, actions
        self.query, self.found = QLineEdit(), QListWidget()
        self.query.setPlaceholderText("What do you want to do?")
        self.query.setAccessibleName("Find a command")
        self.found.setAccessibleName("Commands that fit")
        self.query.textChanged.connect(self._search)
        self.query.installEventFilter(self)
        self.found.setItemDelegate(_WithKeys(self.found))
        self.found.itemClicked.connect(self._choose)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 10, 10, 10)
        layout.addWidget(self.query)
        layout.addWidget(self.found)
        self.setFixedSize(440, 380)
        self._search("")

    def _search(self, text: str) -> None:
        self.found.clear()
        for action in matching(self._actions, text):
            item = QListWidgetItem(action.title)
            item.setData(KEYS, action.keys)
            item.setData(Qt.ItemDataRole.UserRole, action)
            item.setToolTip(action.help or action.title)
            if not action.enabled():
                item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsEnabled)
                item.setForeground(theme.colour("muted"))
            self.found.addItem(item)
        self.found.setCurrentRow(0)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Arrow keys walk through the list while the text keeps the focus."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
            if step is not None:
                row = self.found.currentRow() + step
                self.found.setCurrentRow(min(max(row, 0), self.found.count() - 1))
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                item = self.found.currentItem()
                if item is not None:
                    self._choose(item)
                return True
        return super().eventFilter(watched, event)

    def _choose(self, item: QListWidgetItem) -> None:
        wanted = item.data(Qt.ItemDataRole.UserRole)
        if wanted.enabled():
            self.close()
            self._trigger(wanted.id)


def matching(actions: Iterable[Action], text: str) -> list[Action]:
    """The actions that hold all words of a text in title, group or help; those whose title does come first."""
    words = text.lower().split()
    fits = [a for a in actions if all(w in f"{a.title} {a.group} {a.help}".lower() for w in words)]
    return sorted(fits, key=lambda a: not all(w in a.title.lower() for w in words))


class ShortcutsAndSymbols(QDialog):
    """Meaning of every key and symbol."""

    def __init__(self, actions: Iterable[Action], parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("dialog")
        self.setWindowTitle("Shortcuts and symbols")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        inner = QWidget()
        grid = QGridLayout(inner)
        grid.setContentsMargins(24, 20, 24, 20)
        grid.setHorizontalSpacing(24)
        grid.setVerticalSpacing(3)
        line = 0
        for sign, meaning in (
            (Verdict.PASS, "PASS: inside its limits"),
            (Verdict.FAIL, "FAIL: outside a limit"),
            (Verdict.NOT_MEASURED, "NOT MEASURED: no value; never counts as PASS"),
            (Verdict.NOT_PROVEN, "NOT PROVEN: nearer to a limit than its uncertainty"),
            ("good", "Gauge good: takes little of the tolerance"),
            ("usable", "Gauge usable"),
            ("not capable", "Gauge not capable"),
            ("outdated", "Gauge study made before the row was changed"),
        ):
            grid.addWidget(_Sign(sign), line, 0, Qt.AlignmentFlag.AlignRight)
            grid.addWidget(QLabel(meaning), line, 1)
            line += 1
        keyed = [(a.keys, a.title) for a in actions if a.keys]
        stage = [
            ("Wheel", "Zoom about the pointer"),
            ("Drag", "Move the view, a zone, a handle or the section line"),
            ("Shift + drag", "Rotate a zone in steps of 15°"),
            ("Arrows", "Nudge the selected zone; with Shift ten times as far"),
            ("↑ ↓, Enter", "In the sheet: other characteristic, type its tolerance"),
            ("/", "In the sheet: find a characteristic"),
        ]
        for keys, meaning in [*keyed, *stage]:
            label = QLabel(keys)
            label.setStyleSheet(f"color: {theme.current().copper}; font-weight: bold;")
            grid.addWidget(label, line, 0, Qt.AlignmentFlag.AlignRight)
            grid.addWidget(QLabel(meaning), line, 1)
            line += 1
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(scrolled(inner))
        self.resize(520, min(inner.sizeHint().height() + 8, parent.height() - 40))


class _Sign(QWidget):
    """A balloon of a verdict, or the mark of a gauge."""

    def __init__(self, sign: Verdict | str) -> None:
        super().__init__()
        self._sign = sign
        self.setFixedSize(34, 32 if isinstance(sign, Verdict) else 18)

    def paintEvent(self, event: QPaintEvent) -> None:
        """The sign."""
        painter = QPainter(self)
        if isinstance(self._sign, Verdict):
            draw_balloon(painter, QPointF(17, 16), "7", self._sign)
        else:
            draw_gauge_mark(painter, QPointF(17, 9), self._sign)
        painter.end()
