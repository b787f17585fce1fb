"""The card of a step: its parameters to type or choose, what it found, its zone, inputs and anchors."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget

from hemtra.core.evaluation.results import StepResult
from hemtra.core.form_fields import Setting
from hemtra.core.marks import Evidence
from hemtra.core.plan.document import Step
from hemtra.core.plan.kind import Kind
from hemtra.core.typed import number_typed
from hemtra.core.zones.zone import PathZone
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.plan.panels.cards.card import Card, form_layout, muted
from hemtra.desktop.plan.panels.follow_button import FollowButton
from hemtra.desktop.plan.panels.input_buttons import InputButtons
from hemtra.desktop.plan.panels.path_numbers import PathNumbers
from hemtra.desktop.plan.panels.zone_numbers import ZoneNumbers, heights_from
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.evidence_picture import EvidencePicture

EVIDENCE_WIDTH = 128
NARROWEST_FIELD = 78


class StepCard(Card):
    """Card of a step. Everything typed or chosen is emitted as an intent."""

    param_changed = Signal(str, str, object)
    params_changed = Signal(str, object)
    """Step, and several parameters by name."""
    zone_typed = Signal(str, str, float)
    band_typed = Signal(str, object)
    rub_wanted = Signal(str)
    path_changed = Signal(str, str, object)
    """Step, what it is, and the change of its path."""

    def __init__(self, bench: WorkspaceModel, step: Step, kind: Kind, *, anchors: bool, users: int) -> None:
        """anchors: whether something follows it. users: how many steps use it."""
        super().__init__(step.name, kind.glyph, "anchor" if anchors else "copper")
        self._bench, self.step, self.kind = bench, step, kind
        self._state: tuple[str, int] | None = None
        self._evidence: Evidence | None = None
        self.header.note.setText(f"for {users}" if users > 1 else "")
        self.header.note.setToolTip(f"{users} steps use it" if users > 1 else "")
        self.fields: dict[str, QWidget] = {}
        self.picture, self.facts = EvidencePicture(EVIDENCE_WIDTH), QLabel()
        self.numbers: ZoneNumbers | PathNumbers | None = None
        self.follow: FollowButton | None = None
        self.rub: QPushButton | None = None
        self.restore: QPushButton | None = None
        self.inputs = InputButtons(step)
        self._left = QVBoxLayout()
        self._left.setSpacing(2)
        self._add_settings()
        self._add_follow()
        self._left.addWidget(self.inputs)
        self._left.addStretch()
        self._add_evidence()
        self._add_zone()
        self.body.addStretch()

    # -- parts ------------------------------------------------------------------------------------

    def _add_settings(self) -> None:
        form = form_layout()
        for line, (name, setting) in enumerate(self.kind.shown_settings().items()):
            field = self.fields[name] = self._field(name, setting)
            field.setToolTip(setting.help)
            field.setAccessibleName(f"{self.step.name}, {setting.label}")
            form.addWidget(muted(setting.label), line, 0)
            form.addWidget(field, line, 1)
            form.addWidget(muted(setting.unit), line, 2)
        self._left.addLayout(form)

    def _add_evidence(self) -> None:
        self.picture.params_wanted.connect(lambda params: self.params_changed.emit(self.step.id, params))
        self.facts.setObjectName("muted")
        self.facts.setFixedWidth(EVIDENCE_WIDTH)
        self.facts.setWordWrap(True)
        self.facts.setStyleSheet("font-size: 12px;")
        right, both = QVBoxLayout(), QHBoxLayout()
        right.addWidget(self.picture)
        right.addWidget(self.facts)
        right.addStretch()
        both.setSpacing(12)
        both.addLayout(self._left, 1)
        both.addLayout(right)
        self.body.addLayout(both)

    def _add_zone(self) -> None:
        step = self.step
        if isinstance(step.zone, PathZone):
            self.numbers = PathNumbers(self._bench, step.name)
            self.numbers.changed.connect(lambda label, change: self.path_changed.emit(step.id, label, change))
        elif step.zone is not None:
            self.numbers = ZoneNumbers(step.name)
            self.numbers.typed.connect(lambda name, value: self.zone_typed.emit(step.id, name, value))
            self.numbers.band_typed.connect(lambda ends: self.band_typed.emit(step.id, ends))
        if self.numbers is not None:
            self.body.addWidget(self.numbers)

    def _add_follow(self) -> None:
        """Anchor of the zone; taught pieces can be erased one by one."""
        by_profile = self._bench.document.shown.by_profile is not None
        on_section = self.kind.section_input in self.step.inputs and not by_profile
        if self.step.zone is None or on_section:
            return
        self.follow = FollowButton(self.step)
        line = QHBoxLayout()
        line.addWidget(self.follow)
        if "rubbed" in type(self.kind).model_fields:
            self.rub, self.restore = QPushButton("erase contour"), QPushButton("restore all")
            self.rub.setToolTip("Drag over contour on the stage that not every part has.")
            self.restore.setToolTip("Take the whole contour of the zone again.")
            self.rub.clicked.connect(lambda: self.rub_wanted.emit(self.step.id))
            self.restore.clicked.connect(lambda: self.param_changed.emit(self.step.id, "rubbed", []))
            for button in (self.rub, self.restore):
                button.setObjectName("action")
                button.setProperty("small", True)
                line.addWidget(button)
        line.addStretch()
        self._left.addLayout(line)

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
            words = QLineEdit(setting.value)
            words.editingFinished.connect(lambda: self._worded(name, setting, words))
            return words
        edit = QLineEdit(units.field(setting.value))
        edit.setMinimumWidth(NARROWEST_FIELD)
        edit.setAlignment(Qt.AlignmentFlag.AlignRight)
        edit.editingFinished.connect(lambda: self._typed(name, setting, edit))
        return edit

    # -- what holds now ---------------------------------------------------------------------------

    def show_plan(self) -> None:
        """Take the zone, inputs and anchors of the plan on screen."""
        plan = self._bench.document.shown
        step = plan.step(self.step.id)
        zone = step.zone
        if isinstance(self.numbers, ZoneNumbers) and zone is not None:
            self.numbers.show_zone(zone, heights_from(plan, step))
        elif isinstance(self.numbers, PathNumbers) and zone is not None:
            self.numbers.show_zone(zone)
        self.inputs.show_plan(plan)
        if self.follow is not None:
            self.follow.show_plan(plan)

    def show_result(self, result: StepResult | None, evidence: Evidence | None) -> None:
        """Take what the step found; what has not changed is not painted again."""
        state = (result.fingerprint if result else "", id(evidence))
        if state == self._state:
            return
        # the evidence is held on to, so that its identity cannot pass to another
        self._state, self._evidence = state, evidence
        picture = evidence.picture if evidence else None
        self.picture.show_picture(picture)
        self.picture.setVisible(picture is not None)
        self.header.aside.setText("" if result is None else units.signed(f"{result.elapsed_ms:.1f} ms"))
        if result is None:
            self.facts.setText("")
        elif result.outcome is None:
            tint = theme.current().unmeasured
            reason = units.text(result.reason)
            self.facts.setText(f"<span style='color:{tint}'><b>Not measured:</b><br>{reason}</span>")
        else:
            lines = [f"{label} <b>{units.text(text)}</b>" for label, text in result.outcome.facts]
            note = units.text(result.outcome.note)
            self.facts.setText("<br>".join([*lines, note] if note else lines))

    def _worded(self, name: str, setting: Setting, edit: QLineEdit) -> None:
        if edit.text() != setting.value:
            self.param_changed.emit(self.step.id, name, edit.text())

    def _typed(self, name: str, setting: Setting, edit: QLineEdit) -> None:
        try:
            value = number_typed(edit.text(), setting.unit)
        except ValueError:
            edit.setText(units.field(setting.value))
            return
        edit.setText(units.field(value))
        if value != setting.value:
            self.param_changed.emit(self.step.id, name, value)
