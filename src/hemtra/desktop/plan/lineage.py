"""The lineage: the chain from the scan to one characteristic as cards, each with its parameters in place."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from hemtra.core.form import Setting
from hemtra.core.marks import Evidence
from hemtra.core.plan.anchoring import followers
from hemtra.core.plan.document import Characteristic, Step
from hemtra.core.plan.engine import StepResult
from hemtra.core.plan.graph import dependants, effective
from hemtra.core.plan.kind import Kind
from hemtra.core.plan.limits import Judged
from hemtra.core.plan.registry import kind_named
from hemtra.core.plan.tolerance import EXAMPLES
from hemtra.core.scan.heightmap import HeightMap
from hemtra.core.scan.scan import Scan
from hemtra.desktop import theme
from hemtra.desktop.model.bench import Bench
from hemtra.desktop.plan.evidence_picture import EvidencePicture
from hemtra.desktop.plan.follow_button import FollowButton
from hemtra.desktop.plan.signs import told_value
from hemtra.desktop.plan.zone_numbers import ZoneNumbers

WIDTH, WIDER, NARROW = 492, 700, 318
"""Pixels of an open card, of one with two columns of fields, and of a folded one or one without evidence."""
LONGEST_COLUMN = 6
"""Fields a column of a card holds at most."""
GAP = 34
"""Pixels between columns, for the connectors."""


class Card(QFrame):
    """A titled card; the strip on its left says what it is."""

    clicked = Signal()

    def __init__(self, title: str, glyph: str, strip: str, width: int) -> None:
        super().__init__()
        self.setFixedWidth(width)
        self.strip, self.selected = strip, False
        self.title, self.time, self.subtitle = QLabel(title), QLabel(), QLabel()
        self.title.setFont(theme.font(13, bold=True))
        self.title.setStyleSheet("font-weight: bold;")
        self.time.setObjectName("muted")
        self.subtitle.setObjectName("muted")
        self.subtitle.setStyleSheet("font-size: 12px;")
        self.icon = QLabel()
        self.icon.setPixmap(theme.glyph(glyph, theme.colour(strip).name()))
        top = QHBoxLayout()
        top.setSpacing(6)
        for label in (self.icon, self.title, self.subtitle):
            top.addWidget(label)
        top.addStretch()
        top.addWidget(self.time)
        self.body = QVBoxLayout(self)
        self.body.setContentsMargins(14, 5, 10, 5)
        self.body.setSpacing(3)
        self.body.addLayout(top)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Ground, border and strip."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(0.8, 0.8, -0.8, -0.8)
        marked = self.selected or self.hasFocus()
        pen = QPen(theme.colour("copper" if marked else "line"), 1.6 if marked else 1.0)
        if self.hasFocus():
            pen.setStyle(Qt.PenStyle.DashLine)
        painter.setPen(pen)
        painter.setBrush(theme.colour("paper"))
        painter.drawRoundedRect(box, 5, 5)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour(self.strip))
        painter.drawRoundedRect(QRectF(0, 0, 5, self.height()), 2.5, 2.5)
        painter.end()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Select the step."""
        self.clicked.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Enter selects the step that has the focus."""
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.hasFocus():
            self.clicked.emit()
        else:
            super().keyPressEvent(event)


class StepCard(Card):
    """A step: its parameters to type or choose, what it found, and its evidence; folded unless selected."""

    param_changed = Signal(str, str, object)
    zone_typed = Signal(str, str, float)
    band_typed = Signal(str, object)
    rub_wanted = Signal(str)

    def __init__(self, step: Step, kind: Kind, users: int, *, anchors: bool) -> None:
        settings = kind.shown_settings()
        wide = WIDER if len(settings) > LONGEST_COLUMN else WIDTH
        if issubclass(kind.output, HeightMap):
            wide = NARROW
        super().__init__(step.name, kind.glyph, "anchor" if anchors else "copper", wide)
        self.step, self.kind, self._wide = step, kind, wide
        self._users = users
        self._state: tuple[str, int, bool] | None = None
        self._evidence: Evidence | None = None
        self.always_open = step.zone is None
        if not self.always_open:
            self.setCursor(Qt.CursorShape.PointingHandCursor)
            self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            self.setAccessibleName(f"Step {step.name}; Enter opens it")
        form = QGridLayout()
        form.setHorizontalSpacing(8)
        form.setVerticalSpacing(2)
        self.fields: dict[str, QWidget] = {}
        lines = len(settings) if len(settings) <= LONGEST_COLUMN else (len(settings) + 1) // 2
        for place, (name, setting) in enumerate(settings.items()):
            column, line = divmod(place, lines)
            label = QLabel(setting.label)
            label.setObjectName("muted")
            field = self._field(name, setting)
            field.setFixedSize(112 if setting.choices else 78, 22)
            field.setToolTip(setting.help)
            field.setAccessibleName(f"{step.name}, {setting.label}")
            unit = QLabel(setting.unit)
            unit.setObjectName("muted")
            for k, part in enumerate((label, field, unit)):
                form.addWidget(part, line, 3 * column + k)
            self.fields[name] = field
        self.picture = EvidencePicture()
        self.facts = QLabel()
        self.facts.setObjectName("muted")
        self.facts.setFixedWidth(136)
        self.facts.setWordWrap(True)
        self.inside = QWidget()
        middle = QHBoxLayout(self.inside)
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(10)
        left = QVBoxLayout()
        left.addLayout(form)
        left.addStretch()
        middle.addLayout(left)
        middle.addStretch()
        middle.addWidget(self.picture)
        middle.addWidget(self.facts)
        self.body.addWidget(self.inside)
        self.numbers: ZoneNumbers | None = None
        if step.zone is not None:
            self.numbers = ZoneNumbers(step.name)
            self.numbers.typed.connect(lambda name, value: self.zone_typed.emit(step.id, name, value))
            self.numbers.band_typed.connect(lambda ends: self.band_typed.emit(step.id, ends))
            self.body.addWidget(self.numbers)
        self.follow: FollowButton | None = None
        self.rub: QPushButton | None = None
        self.restore: QPushButton | None = None
        if step.zone is not None and not kind.section_input:
            self.follow = FollowButton(step)
            self.body.addWidget(self.follow, 0, Qt.AlignmentFlag.AlignLeft)
        if "rubbed" in type(kind).model_fields and self.follow is not None:
            self._add_rubbing(self.follow)

    def _add_rubbing(self, follow: FollowButton) -> None:
        """What was taught can be rubbed out piece by piece."""
        self.rub, self.restore = QPushButton("rub out pieces"), QPushButton("restore all")
        self.rub.setToolTip("Rub over pieces of the contour on the stage that the part does not always have.")
        self.restore.setToolTip("Take the whole contour of the zone again.")
        line = QHBoxLayout()
        for button in (self.rub, self.restore):
            button.setObjectName("action")
            button.setStyleSheet("font-size: 12px; padding: 1px 4px;")
            line.addWidget(button)
        line.addStretch()
        line.insertWidget(0, follow)
        self.body.addLayout(line)
        self.rub.clicked.connect(lambda: self.rub_wanted.emit(self.step.id))
        self.restore.clicked.connect(lambda: self.param_changed.emit(self.step.id, "rubbed", []))

    def show_result(self, result: StepResult | None, evidence: Evidence | None, *, selected: bool) -> None:
        """Take what the step found; what has not changed is not painted again."""
        state = (result.fingerprint if result else "", id(evidence), selected)
        if state == self._state:
            return
        # the evidence is held on to, so that its identity cannot pass to another
        self._state, self._evidence = state, evidence
        self.selected = selected
        self.inside.setVisible(selected or self.always_open)
        for more in (self.numbers, self.follow, self.rub, self.restore):
            if more is not None:
                more.setVisible(selected)
        self.setFixedWidth(self._wide if selected or self.always_open else NARROW)
        self.subtitle.setText(f"shared by {self._users}" if self._users > 1 else "")
        self.picture.show_picture(evidence.picture if evidence else None)
        if result is None:
            self.time.setText("")
            self.facts.setText("")
        elif result.outcome is None:
            self.time.setText("" if selected else "not measured")
            tint = theme.current().unmeasured
            self.facts.setText(f"<span style='color:{tint}'><b>Not measured:</b><br>{result.reason}</span>")
        else:
            label, text = result.outcome.facts[0] if result.outcome.facts else ("", "")
            folded = not (selected or self.always_open)
            self.time.setText(f"{label} {text}" if folded else f"{result.elapsed_ms:.1f} ms")
            lines = [f"{label} <b>{text}</b>" for label, text in result.outcome.facts]
            self.facts.setText("<br>".join([*lines, result.outcome.note] if result.outcome.note else lines))
        self.update()

    def _field(self, name: str, setting: Setting) -> QWidget:
        if setting.choices:
            box = QComboBox()
            for value, label in setting.choices.items():
                box.addItem(label, value)
            box.setCurrentIndex(box.findData(setting.value))
            box.activated.connect(lambda _: self.param_changed.emit(self.step.id, name, box.currentData()))
            return box
        edit = QLineEdit(f"{setting.value:g}")
        edit.setAlignment(Qt.AlignmentFlag.AlignRight)
        edit.editingFinished.connect(lambda: self._typed(name, setting, edit))
        return edit

    def _typed(self, name: str, setting: Setting, edit: QLineEdit) -> None:
        try:
            value = float(edit.text().replace(",", "."))
        except ValueError:
            edit.setText(f"{setting.value:g}")
            return
        if value != setting.value:
            self.param_changed.emit(self.step.id, name, value)


class ScanCard(Card):
    """Where the data came from."""

    def __init__(self, scan: Scan) -> None:
        super().__init__("Scan", "scan", "muted", 172)
        self.time.setText(Path(scan.name).stem)
        rows, cols = scan.data.shape
        grid = scan.data.grid
        facts = {
            "points": f"{cols} × {rows}",
            "pitch x": f"{grid.dx:.3f} mm",
            "pitch y": f"{grid.dy:.3f} mm",
            "no data": f"{1 - scan.data.data_share:.1%}".replace("%", " %"),
            "station": str(scan.station.get("name", "unknown")),
        }
        form = QGridLayout()
        form.setVerticalSpacing(2)
        for line, (label, text) in enumerate(facts.items()):
            name, value = QLabel(label), QLabel(text)
            name.setObjectName("muted")
            value.setAlignment(Qt.AlignmentFlag.AlignRight)
            form.addWidget(name, line, 0)
            form.addWidget(value, line, 1)
        self.body.addLayout(form)


class ResultCard(Card):
    """The characteristic: name, tolerance, value and verdict."""

    name_typed = Signal(int, str)
    tolerance_typed = Signal(int, str)

    def __init__(self, row: Characteristic, kind: Kind) -> None:
        super().__init__(kind.title, kind.glyph, "ink", 250)
        self.row = row
        self.name, self.tolerance = QLineEdit(row.name), QLineEdit(row.tolerance)
        self.name.setAccessibleName("Name of the characteristic")
        self.tolerance.setToolTip(f"Nominal and limits as on the drawing: {EXAMPLES}")
        self.tolerance.setAccessibleName("Tolerance")
        self.name.editingFinished.connect(self._name_typed)
        self.tolerance.editingFinished.connect(self._tolerance_typed)
        self.value, self.verdict = QLabel(), QLabel()
        self.verdict.setWordWrap(True)
        form = QGridLayout()
        form.setHorizontalSpacing(8)
        form.setVerticalSpacing(4)
        for line, (label, field) in enumerate(
            (("name", self.name), ("tolerance", self.tolerance), ("value", self.value))
        ):
            muted = QLabel(label)
            muted.setObjectName("muted")
            form.addWidget(muted, line, 0)
            form.addWidget(field, line, 1)
        self.body.addLayout(form)
        self.body.addWidget(self.verdict)

    def show_judged(self, judged: Judged | None, row: Characteristic) -> None:
        """Take the latest value and verdict."""
        if row != self.row:
            self.row = row
            self.name.setText(row.name)
            self.tolerance.setText(row.tolerance)
        self.subtitle.setText(f"balloon {row.balloon}")
        if judged is None:
            return
        self.strip = {"PASS": "passed", "FAIL": "failed"}.get(judged.verdict, "unmeasured")
        self.value.setText(told_value(judged, judged.decimals + 1))
        self.value.setStyleSheet("font-size: 16px; font-weight: bold;")
        tint = theme.verdict_colour(judged.verdict).name()
        reason = f"<br>{judged.reason}" if judged.reason else ""
        self.verdict.setText(f"<b style='color:{tint}'>{judged.verdict}</b>{reason}")
        self.update()

    def _name_typed(self) -> None:
        if self.name.text().strip() not in ("", self.row.name):
            self.name_typed.emit(self.row.balloon, self.name.text())

    def _tolerance_typed(self) -> None:
        if self.tolerance.text() != self.row.tolerance:
            self.tolerance_typed.emit(self.row.balloon, self.tolerance.text())


class Chain(QWidget):
    """Columns of cards with connectors painted between them."""

    def __init__(self) -> None:
        super().__init__()
        self.links: list[tuple[QWidget, QWidget]] = []

    def paintEvent(self, event: QPaintEvent) -> None:
        """Curves from each card to those that use it."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.colour("muted"), 1.2))
        for source, target in self.links:
            a = QPointF(source.mapTo(self, source.rect().topRight()).x() + 2, _middle(source, self))
            b = QPointF(target.mapTo(self, target.rect().topLeft()).x() - 3, _middle(target, self))
            path = QPainterPath(a)
            reach = max(16.0, (b.x() - a.x()) / 2)
            path.cubicTo(a + QPointF(reach, 0), b - QPointF(reach, 0), b)
            painter.drawPath(path)
            painter.drawLine(b, b + QPointF(-5, -3))
            painter.drawLine(b, b + QPointF(-5, 3))
        painter.end()


def _middle(card: QWidget, chain: QWidget) -> float:
    return card.mapTo(chain, card.rect().center()).y()


class Lineage(QFrame):
    """The lineage of the selected characteristic."""

    zone_typed = Signal(str, str, float)
    band_typed = Signal(str, object)
    follow_chosen = Signal(str, object)
    anchor_wanted = Signal(str, str)
    rub_wanted = Signal(str)
    param_changed = Signal(str, str, object)
    name_typed = Signal(int, str)
    tolerance_typed = Signal(int, str)

    def __init__(self, bench: Bench, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self.setAccessibleName("Lineage of the selected characteristic")
        self.bench = bench
        self.cards: dict[str, StepCard] = {}
        self.result_card: ResultCard | None = None
        self._built_for: object = None
        self._heading = QLabel()
        self._heading.setObjectName("heading")
        self._scroll = QScrollArea()
        self._scroll.setWidgetResizable(True)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 7, 6, 4)
        layout.setSpacing(2)
        layout.addWidget(self._heading)
        layout.addWidget(self._scroll, 1)
        for changed in (
            bench.document.changed,
            bench.selection_changed,
            bench.shown_changed,
            bench.tray.current_changed,
        ):
            changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Rebuild the cards when the chain itself changed, otherwise bring them up to date."""
        row, part = self.bench.row, self.bench.tray.current
        columns = self.bench.lineage()
        # zones change while they are dragged, and change no card
        wanted = (
            row and row.balloon,
            id(part.scan) if part else None,
            tuple(
                tuple((s.id, s.name, s.kind, str(s.params), str(s.inputs), s.follow) for s in column)
                for column in columns
            ),
        )
        if wanted != self._built_for:
            self._built_for = wanted
            self._rebuild(row, columns)
        shown = self.bench.shown
        for step_id, card in self.cards.items():
            result = shown.result.steps.get(step_id) if shown else None
            evidence = shown.evidence.get(step_id) if shown else None
            card.show_result(result, evidence, selected=step_id == self.bench.selected_step)
            zone = self.bench.document.shown.step(step_id).zone
            if card.numbers is not None and zone is not None:
                card.numbers.show_zone(zone)
            if card.follow is not None:
                card.follow.show_plan(self.bench.document.shown)
        if self.result_card is not None and row is not None:
            judged = shown.result.characteristics if shown else ()
            self.result_card.show_judged(next((j for j in judged if j.balloon == row.balloon), None), row)

    def rebuild(self) -> None:
        """Make the cards anew, so that fields show what holds."""
        self._built_for = None
        self.refresh()

    def _rebuild(self, row: Characteristic | None, columns: tuple[tuple[Step, ...], ...]) -> None:
        self.cards, self.result_card = {}, None
        self._heading.setText("Lineage" if row is None else f"Lineage of {row.balloon} {row.name}")
        chain = Chain()
        layout = QHBoxLayout(chain)
        layout.setContentsMargins(2, 2, 8, 2)
        layout.setSpacing(GAP)
        part = self.bench.tray.current
        if row is None or part is None or not columns:
            text = "Select a characteristic in the sheet to see where its number comes from."
            if row is not None and not columns:
                text = "Nothing is bound to it yet: press N, say what it is, and click it on the part."
            hint = QLabel(text)
            hint.setObjectName("muted")
            layout.addWidget(hint)
            layout.addStretch()
            self._replace(chain)
            return
        scan_card = ScanCard(part.scan)
        self._add_column(layout, [scan_card])
        for column in columns[:-1]:
            self._add_column(layout, [self._step_card(step) for step in column])
        last = columns[-1][0]
        kind = kind_named(last.kind).model_validate(last.params)
        self.result_card = ResultCard(row, kind)
        self.result_card.name_typed.connect(self.name_typed)
        self.result_card.tolerance_typed.connect(self.tolerance_typed)
        if kind.shown_settings():
            self._add_column(layout, [self._step_card(last)])
        self._add_column(layout, [self.result_card])
        layout.addStretch()
        chain.links = self._links(scan_card, last)
        self._replace(chain)

    def _links(self, scan_card: QWidget, last: Step) -> list[tuple[QWidget, QWidget]]:
        links: list[tuple[QWidget, QWidget]] = []
        wired = effective(self.bench.document.shown)
        for step_id, card in self.cards.items():
            links += [(self.cards[source], card) for source in wired[step_id].needs]
            if not wired[step_id].needs:
                links.append((scan_card, card))
        if self.result_card is not None:
            sources = [last.id] if last.id in self.cards else last.needs
            links += [(self.cards[source], self.result_card) for source in sources]
        return links

    def _step_card(self, step: Step) -> StepCard:
        plan = self.bench.document.shown
        kind = kind_named(step.kind).model_validate(step.params)
        moving = followers(plan, step.id)
        card = StepCard(
            step, kind, len(dependants(plan, step.id)), anchors=bool(moving) or kind.kind == "plane"
        )
        card.param_changed.connect(self.param_changed)
        card.zone_typed.connect(self.zone_typed)
        card.rub_wanted.connect(self.rub_wanted)
        card.band_typed.connect(self.band_typed)
        if card.follow is not None:
            card.follow.chosen.connect(self.follow_chosen)
            card.follow.wanted.connect(self.anchor_wanted)
        if step.zone is not None:
            card.clicked.connect(_call(self.bench.select_step, step.id))
        self.cards[step.id] = card
        return card

    def _add_column(self, layout: QHBoxLayout, cards: list[Any]) -> None:
        column = QVBoxLayout()
        column.setSpacing(7)
        column.addStretch()
        for card in cards:
            column.addWidget(card)
        column.addStretch()
        layout.addLayout(column)

    def _replace(self, chain: Chain) -> None:
        old = self._scroll.takeWidget()
        if old is not None:
            old.deleteLater()
        self._scroll.setWidget(chain)


def _call(function: Callable[[str], None], argument: str) -> Callable[[], None]:
    return lambda: function(argument)
