"""The sheet: one row a characteristic, with its balloon, value, limits and verdict."""

from __future__ import annotations

import re
from dataclasses import replace

from PySide6.QtCore import QPoint, QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QFontMetrics,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
)
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QWidget,
)

from hemtra.core.edits.sheet import found_rows, in_groups
from hemtra.core.gauge.marks import gauge_in_words, grades
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.document import Characteristic, Plan
from hemtra.core.plan.limits import CharacteristicResult, Verdict
from hemtra.core.plan.tolerance import EXAMPLES
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.plan.panels.list_panel import ListPanel
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.symbols import bar_scale, draw_balloon, draw_gauge_mark, draw_limit_bar, draw_name

LOWEST, HIGHEST = 23, 32
"""Minimum and maximum height of a row, pixels; within these, all rows fit."""
OPEN = 31
"""Additional height of the selected row, pixels."""
LENGTH_UNIT = re.compile(r" (?:mm|in)[²³]?$")
"""Left out of the list, where all lengths have one unit."""
EMPTY = (
    "Nothing is measured yet. Press N and click the part, or import the requirement list of the drawing."
    " If the part lies elsewhere on every scan, find it by its outline first."
)
GRAB = 6.0
"""Catch radius around the end of a limit, pixels."""
BAR_WIDTH = 48
VALUE_RIGHT = 65
"""Distance of the value from the right border, pixels."""
MARK_ROOM = 8
"""Width of a gauge's mark between value and bar, pixels."""


class SheetRow(QWidget):
    """A characteristic; the selected one is open and its tolerance can be edited."""

    chosen = Signal(int)
    tolerance_typed = Signal(int, str)
    limit_dragged = Signal(int, str, float, bool)
    """Balloon, “lower” or “upper”, where to, and whether it was released."""
    menu_wanted = Signal(int, QPoint)

    def __init__(self, row: Characteristic, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.row = row
        self._state: object = None
        self.grade = ""
        """Capability of its gauge; empty without a study."""
        self._way = units.way()
        self.line = HIGHEST
        """Visible height while closed, pixels."""
        self._drag: tuple[str, tuple[float, float], float] | None = None
        """The limit that is dragged, what the bar spans meanwhile, and where it is."""
        self.setMouseTracking(True)
        self.evaluated: CharacteristicResult | None = None
        self.selected = False
        self.tolerance = QLineEdit(self)
        self.tolerance.setAccessibleName(f"Tolerance of balloon {row.balloon}")
        self.tolerance.setProperty("small", True)
        self.tolerance.editingFinished.connect(self._typed)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.show_row(row, None, selected=False)

    def show_row(
        self, row: Characteristic, evaluated: CharacteristicResult | None, *, selected: bool, grade: str = ""
    ) -> None:
        """Take the latest state; most rows stay as they are while one zone is dragged."""
        state = (row, evaluated, selected, units.way(), grade)
        if state == self._state:
            return
        self._state = state
        if row != self.row or units.way() != self._way or not self.tolerance.hasFocus():
            self.row, self.evaluated, self._way = row, evaluated, units.way()
            self.tolerance.setText(self.tolerance_text)
        self.row, self.evaluated, self.selected, self.grade = row, evaluated, selected, grade
        self.tolerance.setVisible(selected)
        self.tolerance.setToolTip(f"Nominal and limits as on the drawing: {units.signed(EXAMPLES)}")
        self.tolerance.setPlaceholderText(units.signed("4.00 ±0.10"))
        self._size()
        shown = None if evaluated is None else units.result(evaluated)
        reason, tolerance = shown.reason if shown else "", self.tolerance_text
        value = "" if shown is None else f", {units.value(shown, shown.decimals)}, {shown.verdict}"
        self.setAccessibleName(f"{row.balloon} {row.name}{value}")
        gauge = gauge_in_words(row, grade)
        self.setAccessibleDescription(" ".join(f"{tolerance}. {reason} {gauge}".split()))
        why = f"{shown.verdict}: {reason}" if reason and shown else ""
        self.setToolTip("\n".join(filter(None, (f"{row.name}: {tolerance}", why, gauge))))
        self.update()

    def set_line(self, pixels: int) -> None:
        """Height while closed."""
        if pixels != self.line:
            self.line = pixels
            self._size()
            self.update()

    def _size(self) -> None:
        """The tolerance stands below the name, the verdict beside it."""
        self.setFixedHeight(self.line + OPEN if self.selected else self.line)
        verdict = QFontMetrics(theme.font(12, bold=True)).horizontalAdvance(str(self._verdict))
        self.tolerance.setGeometry(36, self.line + 1, self.width() - 36 - verdict - 16, 26)

    @property
    def tolerance_text(self) -> str:
        """The tolerance as it is shown and typed."""
        return units.tolerance(self.row, "mm" if self.evaluated is None else self.evaluated.unit)

    @property
    def _verdict(self) -> Verdict:
        return self.evaluated.verdict if self.evaluated else Verdict.NOT_MEASURED

    def resizeEvent(self, event: QResizeEvent) -> None:
        """The tolerance takes what the verdict leaves."""
        self._size()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Balloon, name, value, limit bar; open also the verdict in words."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        evaluated, verdict = self.evaluated, self._verdict
        if self.selected:
            painter.fillRect(self.rect(), theme.colour("copper_wash"))
            painter.fillRect(0, 0, 3, self.height(), theme.colour("copper"))
        radius = min(10.0, self.line / 2 - 2)
        draw_balloon(painter, QPointF(18, self.line / 2), str(self.row.balloon), verdict, radius=radius)
        failed = verdict is Verdict.FAIL
        is_text = evaluated is not None and bool(evaluated.text)
        marked = bool(self.grade) and not is_text
        right = 8 if is_text else VALUE_RIGHT + MARK_ROOM * marked
        value_box = QRectF(0, 0, self.width() - right, self.line)
        painter.setFont(theme.font(13, bold=failed))
        value = "–"
        if evaluated is not None:
            shown = units.result(evaluated)
            value = LENGTH_UNIT.sub("", units.value(shown, shown.decimals))
        if self.row.off:
            value = "off"
        painter.setPen(theme.colour("failed" if failed else "ink"))
        painter.drawText(value_box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, value)
        used = painter.fontMetrics().horizontalAdvance(value)
        painter.setFont(theme.font(13, bold=self.selected))
        painter.setPen(theme.colour("muted" if self.row.off or self.row.hidden else "ink"))
        name_box = QRectF(34, 0, value_box.right() - used - 40, self.line)
        draw_name(painter, name_box, self.row.name)
        if evaluated is not None and not is_text:
            if self._drag is not None:
                limit, _, at = self._drag
                evaluated = replace(evaluated, lower=at) if limit == "lower" else replace(evaluated, upper=at)
            draw_limit_bar(painter, self._bar(), evaluated, None if self._drag is None else self._drag[1])
        if marked:
            draw_gauge_mark(painter, QPointF(self._bar().left() - 5.5, self.line / 2), self.grade)
        if self.selected and evaluated is not None:
            painter.setPen(theme.verdict_colour(verdict))
            painter.setFont(theme.font(12, bold=True))
            box = QRectF(36, self.line + 1, self.width() - 44, 26)
            painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, str(verdict))
        painter.setPen(QPen(theme.colour("line", 120), 1))
        painter.drawLine(QPointF(8, self.height() - 0.5), QPointF(self.width() - 8, self.height() - 0.5))
        painter.end()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Select; on the end of a limit take hold of it."""
        limit = self._limit_under(event.position())
        if limit is not None and self.evaluated is not None:
            scale = bar_scale(self.row.lower, self.row.upper, self.row.nominal)
            self._drag = limit, scale, float(getattr(self.row, limit))
        self.chosen.emit(self.row.balloon)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """Request the row's menu."""
        self.menu_wanted.emit(self.row.balloon, event.globalPos())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Drag a limit, to the digits it is shown with."""
        if self._drag is None:
            over = self._limit_under(event.position()) is not None
            self.setCursor(Qt.CursorShape.SizeHorCursor if over else Qt.CursorShape.PointingHandCursor)
            return
        limit, (low, high), _ = self._drag
        share = (event.position().x() - self._bar().left()) / BAR_WIDTH
        value = round(low + min(max(share, 0.0), 1.0) * (high - low), self.row.decimals)
        other = self.row.upper if limit == "lower" else self.row.lower
        if other is not None:
            value = min(value, other) if limit == "lower" else max(value, other)
        self._drag = limit, (low, high), value
        self.limit_dragged.emit(self.row.balloon, limit, value, False)
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Release a limit."""
        if self._drag is not None:
            (limit, _, value), self._drag = self._drag, None
            self.limit_dragged.emit(self.row.balloon, limit, value, True)
            self.update()

    def _bar(self) -> QRectF:
        return QRectF(self.width() - BAR_WIDTH - 8, 6, BAR_WIDTH, self.line - 12)

    def _limit_under(self, at: QPointF) -> str | None:
        """The limit whose end on the bar is under the pointer."""
        bar = self._bar()
        low, high = bar_scale(self.row.lower, self.row.upper, self.row.nominal)
        for name in ("lower", "upper"):
            limit = getattr(self.row, name)
            if limit is None or not bar.top() - 4 <= at.y() <= bar.bottom() + 4:
                continue
            if abs(bar.left() + (limit - low) / (high - low) * bar.width() - at.x()) <= GRAB:
                return name
        return None

    def reject(self) -> None:
        """Mark what was typed as not understood."""
        self.tolerance.setProperty("wrong", True)
        self.tolerance.style().polish(self.tolerance)

    def _typed(self) -> None:
        self.tolerance.setProperty("wrong", False)
        self.tolerance.style().polish(self.tolerance)
        if self.tolerance.text() != self.tolerance_text:
            self.tolerance_typed.emit(self.row.balloon, self.tolerance.text())


class Sheet(ListPanel):
    """All rows, with the count of what passes."""

    tolerance_typed = Signal(int, str)
    limit_dragged = Signal(int, str, float, bool)
    menu_wanted = Signal(int, QPoint)
    add_requested = Signal()

    def __init__(self, bench: WorkspaceModel, parent: QWidget | None = None) -> None:
        super().__init__("Sheet", parent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Sheet of characteristics")
        self.bench = bench
        self.items: list[SheetRow] = []
        self._headings: list[QLabel] = []
        self._laid_out: object = None
        self._shown_balloon: int | None = None
        self._graded: tuple[Plan | None, dict[Balloon, str]] = (None, {})
        self.query = QLineEdit()
        self.query.setPlaceholderText("find by number, name, group or grade")
        self.query.setAccessibleName("Find a characteristic")
        self.query.setClearButtonEnabled(True)
        self.query.textChanged.connect(self.refresh)
        search = QHBoxLayout()
        search.setContentsMargins(10, 0, 10, 2)
        search.addWidget(self.query)
        self.body.insertLayout(1, search)
        self.query.hide()
        self.add_button = QPushButton("+ Characteristic   N")
        self.add_button.setObjectName("action")
        self.add_button.setToolTip("Choose a characteristic, then click the part.")
        self.add_button.clicked.connect(self.add_requested)
        self.hint = QLabel(EMPTY)
        self.hint.setObjectName("muted")
        self.hint.setWordWrap(True)
        self.hint.setContentsMargins(14, 6, 14, 6)
        self.body.insertWidget(2, self.hint)
        bottom = QHBoxLayout()
        bottom.setContentsMargins(10, 0, 10, 0)
        bottom.addWidget(self.add_button)
        bottom.addStretch()
        self.body.addLayout(bottom)
        for changed in (bench.document.changed, bench.shown_changed, bench.selection_changed):
            changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Take the latest plan, results and selection."""
        plan, shown = self.bench.document.shown, self.bench.shown
        evaluated = {c.balloon: c for c in shown.result.characteristics} if shown else {}
        text = self.query.text() if self.query.isVisibleTo(self) else ""
        graded = self._grades(plan)
        wanted = found_rows(plan, text, graded)
        groups = [(name, [r for r in rows if r.balloon in wanted]) for name, rows in in_groups(plan)]
        ordered = [row for _, rows in groups for row in rows]
        while len(self.items) > len(ordered):
            self.drop(self.items.pop())
        while len(self.items) < len(ordered):
            self._append(ordered[len(self.items)])
        for widget, row in zip(self.items, ordered, strict=True):
            widget.show_row(
                row,
                evaluated.get(row.balloon),
                selected=row.balloon == self.bench.balloon,
                grade=graded.get(row.balloon, ""),
            )
        self._lay_out([(name, len(rows)) for name, rows in groups if rows])
        self.hint.setVisible(not plan.sheet)
        self._fit()
        if self.bench.balloon != self._shown_balloon:
            self._shown_balloon = self.bench.balloon
            # once the row that opens has its place
            QTimer.singleShot(0, self._show_selected)
        passed = sum(c.verdict is Verdict.PASS for c in evaluated.values())
        self.aside.setText(f"{passed} of {len(evaluated)} pass" if plan.sheet and evaluated else "")
        self.add_button.setEnabled(self.bench.tray.current is not None)

    def _grades(self, plan: Plan) -> dict[Balloon, str]:
        """Capability of the gauges, looked up once per plan."""
        if self._graded[0] is not plan:
            self._graded = plan, grades(plan)
        return self._graded[1]

    def _fit(self) -> None:
        """Set the row height so that all rows fit, where possible."""
        headings = sum(heading.sizeHint().height() for heading in self._headings)
        room = self.scroll_area.viewport().height() - headings - OPEN
        line = min(max(room // max(len(self.items), 1), LOWEST), HIGHEST)
        for row in self.items:
            row.set_line(line)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Rows may be higher, or must be lower."""
        super().resizeEvent(event)
        # once the list has its place
        QTimer.singleShot(0, self, self._fit)

    def _show_selected(self) -> None:
        row = None if self.bench.balloon is None else self.row_of(self.bench.balloon)
        if row is not None:
            self.scroll_area.ensureWidgetVisible(row, 0, 8)

    def search(self) -> None:
        """Open the search field; a second call with an empty field closes it."""
        if self.query.isVisibleTo(self) and not self.query.text():
            self.query.hide()
            self.setFocus()
        else:
            self.query.show()
            self.query.setFocus()
            self.query.selectAll()
        self.refresh()

    def search_for(self, text: str) -> None:
        """Show the rows that a text finds."""
        self.query.show()
        self.query.setText(text)
        self.query.setFocus()
        self.refresh()

    def _lay_out(self, groups: list[tuple[str, int]]) -> None:
        """A heading above the rows of each group."""
        if groups == self._laid_out:
            return
        self._laid_out = groups
        for heading in self._headings:
            self.drop(heading)
        self._headings, place, first = [], 0, 0
        for name, count in groups:
            if name or len(groups) > 1:
                heading = QLabel(name or "Ungrouped")
                heading.setObjectName("muted")
                heading.setContentsMargins(12, 6, 0, 2)
                self.rows.insertWidget(place, heading)
                self._headings.append(heading)
                place += 1
            for widget in self.items[first : first + count]:
                self.rows.removeWidget(widget)
                self.rows.insertWidget(place, widget)
                place += 1
            first += count

    def row_of(self, balloon: int) -> SheetRow | None:
        """The widget of a characteristic."""
        return next((row for row in self.items if row.row.balloon == balloon), None)

    def reject(self, balloon: int) -> None:
        """Mark what was typed for a characteristic as not understood."""
        row = self.row_of(balloon)
        if row is not None:
            row.reject()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """The menu key opens the menu of the selected row."""
        row = None if self.bench.balloon is None else self.row_of(self.bench.balloon)
        if row is not None and event.reason() == QContextMenuEvent.Reason.Keyboard:
            self.menu_wanted.emit(row.row.balloon, row.mapToGlobal(QPoint(36, row.line)))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Up and down step through the rows; Enter goes into the tolerance."""
        balloons: list[int] = [row.row.balloon for row in self.items]
        step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key()))
        if event.key() == Qt.Key.Key_Escape and self.query.isVisibleTo(self):
            self.query.clear()
            self.search()
        elif step is not None and balloons:
            at = balloons.index(self.bench.balloon) + step if self.bench.balloon in balloons else 0
            self.bench.select(balloons[min(max(at, 0), len(balloons) - 1)])
            self.scroll_area.ensureWidgetVisible(self.items[min(max(at, 0), len(balloons) - 1)])
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.bench.balloon is not None:
            row = self.row_of(self.bench.balloon)
            if row is not None:
                row.tolerance.setFocus()
                row.tolerance.selectAll()
        else:
            super().keyPressEvent(event)

    def _append(self, row: Characteristic) -> None:
        widget = SheetRow(row)
        widget.chosen.connect(self._choose)
        widget.tolerance_typed.connect(self.tolerance_typed)
        widget.limit_dragged.connect(self.limit_dragged)
        widget.menu_wanted.connect(self.menu_wanted)
        self.rows.insertWidget(self.rows.count() - 1, widget)
        self._laid_out = None
        self.items.append(widget)

    def _choose(self, balloon: int) -> None:
        self.setFocus()
        self.bench.select(balloon)
