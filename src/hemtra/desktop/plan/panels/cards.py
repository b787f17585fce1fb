"""The cards of the lineage: the scan, a step with its parameters and evidence, and the characteristic."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QPoint, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from hemtra.core.coverage import format_coverage
from hemtra.core.evaluation.form_floor import floor_text
from hemtra.core.evaluation.results import StepResult
from hemtra.core.form_fields import Setting
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.scan import Scan
from hemtra.core.marks import Evidence
from hemtra.core.plan.document import Characteristic, Step
from hemtra.core.plan.kind import Kind
from hemtra.core.plan.limits import CharacteristicResult, format_value
from hemtra.core.plan.tolerance import EXAMPLES
from hemtra.core.zones.zone import PathZone
from hemtra.desktop.models.bench import Shown, WorkspaceModel
from hemtra.desktop.plan.panels.follow_button import FollowButton
from hemtra.desktop.plan.panels.input_buttons import InputButtons
from hemtra.desktop.plan.panels.path_numbers import PathNumbers
from hemtra.desktop.plan.panels.zone_numbers import ZoneNumbers
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.evidence_picture import EvidencePicture

WIDTH, WIDER, NARROW = 484, 690, 286
"""Pixels of an open card, of one with two columns of fields, and of a folded one or one without evidence."""
LONGEST_COLUMN = 6
"""Fields a column of a card holds at most."""


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
    params_changed = Signal(str, object)
    """Step, and several parameters by name."""
    zone_typed = Signal(str, str, float)
    band_typed = Signal(str, object)
    rub_wanted = Signal(str)
    path_changed = Signal(str, str, object)
    """Step, what it is, and the change of its path."""

    def __init__(
        self,
        bench: WorkspaceModel,
        step: Step,
        kind: Kind,
        users: int,
        *,
        anchors: bool,
        always_open: bool,
        by_profile: bool = False,
    ) -> None:
        settings = kind.shown_settings()
        wide = WIDER if len(settings) > LONGEST_COLUMN else WIDTH
        if issubclass(kind.output, HeightMap):
            wide = NARROW
        super().__init__(step.name, kind.glyph, "anchor" if anchors else "copper", wide)
        self.step, self.kind, self._wide = step, kind, wide
        self._users = users
        self._state: tuple[str, int, bool] | None = None
        self._evidence: Evidence | None = None
        self.always_open = always_open
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
            wide_field = setting.choices or isinstance(setting.value, str)
            field.setFixedSize(122 if wide_field else 78, 22)
            field.setToolTip(setting.help)
            field.setAccessibleName(f"{step.name}, {setting.label}")
            unit = QLabel(setting.unit)
            unit.setObjectName("muted")
            for k, part in enumerate((label, field, unit)):
                form.addWidget(part, line, 3 * column + k)
            self.fields[name] = field
        self.picture = EvidencePicture()
        self.picture.params_wanted.connect(lambda params: self.params_changed.emit(step.id, params))
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
        self.inputs = InputButtons(step)
        self.body.addWidget(self.inputs)
        self.numbers: ZoneNumbers | PathNumbers | None = None
        if isinstance(step.zone, PathZone):
            self.numbers = PathNumbers(bench, step.name)
            self.numbers.changed.connect(lambda label, change: self.path_changed.emit(step.id, label, change))
            self.body.addWidget(self.numbers)
        elif step.zone is not None:
            self.numbers = ZoneNumbers(step.name)
            self.numbers.typed.connect(lambda name, value: self.zone_typed.emit(step.id, name, value))
            self.numbers.band_typed.connect(lambda ends: self.band_typed.emit(step.id, ends))
            self.body.addWidget(self.numbers)
        self.follow: FollowButton | None = None
        self.rub: QPushButton | None = None
        self.restore: QPushButton | None = None
        if step.zone is not None and (kind.section_input not in step.inputs or by_profile):
            self.follow = FollowButton(step)
            self.body.addWidget(self.follow, 0, Qt.AlignmentFlag.AlignLeft)
        if "rubbed" in type(kind).model_fields and self.follow is not None:
            self._add_rubbing(self.follow)

    def _add_rubbing(self, follow: FollowButton) -> None:
        """What was taught can be rubbed out piece by piece."""
        self.rub, self.restore = QPushButton("erase contour"), QPushButton("restore all")
        self.rub.setToolTip("Drag over contour on the stage that not every part has.")
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
        self.inputs.setVisible(selected or self.always_open)
        self.setFixedWidth(self._wide if selected or self.always_open else NARROW)
        self.subtitle.setText(f"for {self._users}" if self._users > 1 else "")
        self.subtitle.setToolTip(f"{self._users} steps use it" if self._users > 1 else "")
        picture = evidence.picture if evidence else None
        self.picture.show_picture(picture)
        self.picture.setVisible(picture is not None)
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
        choices = {True: "yes", False: "no"} if isinstance(setting.value, bool) else setting.choices
        if choices:
            box = QComboBox()
            for value, label in choices.items():
                box.addItem(label, value)
            box.setCurrentIndex(box.findData(setting.value))
            box.activated.connect(lambda _: self.param_changed.emit(self.step.id, name, box.currentData()))
            return box
        if isinstance(setting.value, str):
            format_coverage = QLineEdit(setting.value)
            format_coverage.editingFinished.connect(lambda: self._worded(name, setting, format_coverage))
            return format_coverage
        edit = QLineEdit(f"{setting.value:g}")
        edit.setAlignment(Qt.AlignmentFlag.AlignRight)
        edit.editingFinished.connect(lambda: self._typed(name, setting, edit))
        return edit

    def _worded(self, name: str, setting: Setting, edit: QLineEdit) -> None:
        if edit.text() != setting.value:
            self.param_changed.emit(self.step.id, name, edit.text())

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
        super().__init__("Scan", "scan", "muted", 160)
        self.time.setText(Path(scan.name).stem)
        rows, cols = scan.data.shape
        grid = scan.data.grid
        facts = {
            "points": f"{cols} × {rows}",
            "spacing x": f"{grid.dx:.3f} mm",
            "spacing y": f"{grid.dy:.3f} mm",
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

    row_typed = Signal(int, str, object)
    """Balloon, field of the row and its value."""
    menu_wanted = Signal(int, QPoint)
    tolerance_typed = Signal(int, str)

    def __init__(self, row: Characteristic, kind: Kind, step: Step | None) -> None:
        """step: shown with its inputs, where it has no card of its own."""
        super().__init__(kind.title, kind.glyph, "ink", 246)
        self.row = row
        self.name, self.tolerance = QLineEdit(row.name), QLineEdit(row.tolerance)
        self.name.setAccessibleName("Name of the characteristic")
        self.tolerance.setToolTip(f"Nominal and limits as on the drawing: {EXAMPLES}")
        self.tolerance.setAccessibleName("Tolerance")
        self.name.editingFinished.connect(self._name_typed)
        self.tolerance.editingFinished.connect(self._tolerance_typed)
        self.group, self.number = QLineEdit(row.group), QLineEdit(str(row.balloon))
        self.group.setPlaceholderText("none")
        self.group.setToolTip("Heading of the sheet that it stands under.")
        self.group.setAccessibleName("Group of the characteristic")
        self.group.editingFinished.connect(self._group_typed)
        self.number.setFixedWidth(44)
        self.number.setAccessibleName("Balloon")
        self.number.setToolTip("Its number on the drawing.")
        self.number.editingFinished.connect(self._number_typed)
        more = QPushButton("…")
        more.setObjectName("action")
        more.setFixedWidth(26)
        more.setToolTip("What else can be done with this row.")
        more.clicked.connect(
            lambda: self.menu_wanted.emit(self.row.balloon, more.mapToGlobal(QPoint(0, more.height())))
        )
        numbered = QHBoxLayout()
        numbered.addWidget(self.number)
        numbered.addWidget(self.group)
        numbered.addWidget(more)
        self.value, self.verdict, self.rests, self.note = QLabel(), QLabel(), QLabel(), QLabel()
        self.rests.setToolTip(
            "How much of what the value answers for was seen, and between which values it lies if"
            " what was not seen"
            " is as bad as its surroundings allow."
        )
        self.note.setToolTip("What this row measures otherwise than when the plan was made.")
        for text in (self.verdict, self.rests, self.note):
            text.setWordWrap(True)
        for text in (self.rests, self.note):
            text.setObjectName("muted")
            text.hide()
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
        muted = QLabel("balloon")
        muted.setObjectName("muted")
        form.addWidget(muted, form.rowCount(), 0)
        form.addLayout(numbered, form.rowCount() - 1, 1)
        self.body.addLayout(form)
        self.inputs = None if step is None else InputButtons(step)
        if self.inputs is not None:
            self.body.addWidget(self.inputs)
        for text in (self.verdict, self.rests, self.note):
            self.body.addWidget(text)

    def show_judged(
        self, judged: CharacteristicResult | None, row: Characteristic, shown: Shown | None = None
    ) -> None:
        """Take the latest value and verdict, and what they rest on."""
        if row != self.row:
            self.row = row
            self.name.setText(row.name)
            self.tolerance.setText(row.tolerance)
            self.group.setText(row.group)
            self.number.setText(str(row.balloon))
        if row.from_master:
            self.subtitle.setText("difference from the reference")
        if judged is None:
            return
        self.strip = {"PASS": "passed", "FAIL": "failed"}.get(judged.verdict, "unmeasured")
        self.value.setText(format_value(judged, judged.decimals + 1))
        self.value.setStyleSheet("font-size: 16px; font-weight: bold;")
        tint = theme.verdict_colour(judged.verdict).name()
        reason = f"<br>{judged.reason}" if judged.reason else ""
        self.verdict.setText(f"<b style='color:{tint}'>{judged.verdict}</b>{reason}")
        rests = [] if shown is None or shown.coverage is None else [format_coverage(shown.coverage)]
        if shown is not None and shown.floor is not None:
            rests.append(floor_text(shown.floor, row))
        if judged.low is not None and judged.high is not None and judged.low < judged.high:
            places = judged.decimals + 1
            rests.insert(
                0, f"possible {judged.low:.{places}f} … {judged.high:.{places}f} {judged.unit}".strip()
            )
        if judged.least is not None and judged.greatest is not None:
            places = judged.decimals
            rests.insert(
                0, f"min {judged.least:.{places}f}, max {judged.greatest:.{places}f} {judged.unit}".strip()
            )
        self.rests.setText("\n".join(rests))
        self.rests.setVisible(bool(rests))
        self.note.setText(row.note)
        self.note.setVisible(bool(row.note))
        self.update()

    def _name_typed(self) -> None:
        if self.name.text().strip() not in ("", self.row.name):
            self.row_typed.emit(self.row.balloon, "name", self.name.text())

    def _group_typed(self) -> None:
        self.row_typed.emit(self.row.balloon, "group", self.group.text().strip())

    def _number_typed(self) -> None:
        text = self.number.text().strip()
        if text.isdecimal():
            self.row_typed.emit(self.row.balloon, "balloon", int(text))
        # a number that was refused does not stay
        self.number.setText(str(self.row.balloon))

    def _tolerance_typed(self) -> None:
        if self.tolerance.text() != self.row.tolerance:
            self.tolerance_typed.emit(self.row.balloon, self.tolerance.text())
