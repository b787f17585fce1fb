"""Buttons for the inputs of a step, whose menus connect them to other features."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QMenu, QPushButton, QVBoxLayout, QWidget

from hemtra.core.edits.preparation import preparing_kinds
from hemtra.core.plan.document import Plan, Step
from hemtra.core.plan.graph import dependants
from hemtra.core.plan.inputs import fitting
from hemtra.core.plan.registry import kind_named
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.symbols import shortened


class InputButtons(QWidget):
    """A button per input, and one for the users of the step."""

    connected = Signal(str, str, object)
    """Step, input, and the ids of what it is connected to."""
    pick_wanted = Signal(str, str)
    """Step and input, of which the source is to be clicked on the stage."""
    preparation_wanted = Signal(str, str)
    """Step, and the kind of preparation for it alone."""
    going = Signal(str)
    """The step to go to."""

    def __init__(self, step: Step) -> None:
        super().__init__()
        self.step_id, self.plan = step.id, Plan()
        self.buttons: dict[str, QPushButton] = {}
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        for name, wanted in kind_named(step.kind).accepted().items():
            self.buttons[name] = self._button(wanted.help, partial(self._fill, name))
            self.buttons[name].setAccessibleName(f"{step.name}, {wanted.label}")
            layout.addWidget(self.buttons[name], 0, Qt.AlignmentFlag.AlignLeft)
        self.users = self._button("The steps that use this one; choose one to go there.", self._fill_users)
        layout.addWidget(self.users, 0, Qt.AlignmentFlag.AlignLeft)

    def _button(self, help_text: str, fill: object) -> QPushButton:
        button = QPushButton()
        button.setObjectName("action")
        button.setProperty("small", True)
        button.setToolTip(help_text)
        menu = QMenu(button)
        menu.aboutToShow.connect(fill)
        button.setMenu(menu)
        return button

    def show_plan(self, plan: Plan) -> None:
        """Show the connections of the inputs in a plan."""
        self.plan = plan
        step = plan.step(self.step_id)
        for name, wanted in kind_named(step.kind).accepted().items():
            names = ", ".join(plan.step(i).name for i in step.inputs.get(name, ()))
            usual = "as the plan prepares" if name == "data" else "none"
            self.buttons[name].setText(f"{wanted.label}: {shortened(names) or usual}")
            self.buttons[name].setToolTip(f"{wanted.help}\n{names}".strip())
        users = dependants(plan, self.step_id)
        self.users.setVisible(bool(users))
        self.users.setText(f"used by {len(users)}")

    def _fill(self, name: str) -> None:
        """Everything that fits, for one input."""
        menu, step = self.buttons[name].menu(), self.plan.step(self.step_id)
        wanted, now = kind_named(step.kind).accepted()[name], step.inputs.get(name, ())
        menu.clear()
        if wanted.optional:
            none = menu.addAction("As the plan prepares" if name == "data" else "None")
            none.setEnabled(bool(now))
            none.triggered.connect(lambda: self.connected.emit(self.step_id, name, ()))
        for source in fitting(self.plan, self.step_id, name):
            action = menu.addAction(
                theme.glyph(kind_named(source.kind).glyph, theme.colour("ink").name()), source.name
            )
            action.setCheckable(True)
            action.setChecked(source.id in now)
            action.triggered.connect(partial(self._choose, name, source.id))
        if name == "data":
            own = menu.addMenu("Prepare for this step only")
            for kind in preparing_kinds():
                if all(i.optional for i in kind_named(kind).inputs.values()):
                    own.addAction(
                        kind_named(kind).title, partial(self.preparation_wanted.emit, self.step_id, kind)
                    )
        else:
            menu.addSeparator()
            menu.addAction("Click it on the stage", partial(self.pick_wanted.emit, self.step_id, name))

    def _fill_users(self) -> None:
        menu = self.users.menu()
        menu.clear()
        for user in dependants(self.plan, self.step_id):
            menu.addAction(user.name, partial(self.going.emit, user.id))

    def _choose(self, name: str, source: str, checked: bool = True) -> None:
        """Replace a source; where there are several, add or remove one."""
        step = self.plan.step(self.step_id)
        sources: tuple[str, ...] = (source,)
        if kind_named(step.kind).accepted()[name].many:
            held = step.inputs.get(name, ())
            sources = tuple(i for i in held if i != source) if source in held else (*held, source)
        self.connected.emit(self.step_id, name, sources)
