"""Prompts for the mesh of a drawing and how it is placed on the reference scan."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QCloseEvent, QKeyEvent
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QWidget,
)

from hemtra.core.errors import HemtraError, NotMeasured
from hemtra.core.maps.importing import UNITS
from hemtra.core.maps.mesh import UP
from hemtra.core.plan.document import Plan
from hemtra.core.plan.nominal import Nominal, Placement
from hemtra.core.proposals.nominal_placing import nominal_from
from hemtra.core.typed import number_typed
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.models.document import PlanDocument
from hemtra.desktop.widgets.dialogs import button_row
from hemtra.desktop.widgets.path_field import path_field
from hemtra.storage.foreign.mesh import load_mesh

WAYS: dict[Placement, str] = {
    "best fit": "best fit: smallest distance overall",
    "outline": "outline: where its contour is found",
    "points": "three points",
}
KINDS = "Meshes (*.stl *.ply)"
POINTS = 3


class NominalForm(QDialog):
    """Places the mesh beside the window; what comes of it is one edit of the plan."""

    def __init__(
        self,
        document: PlanDocument,
        tasks: Tasks,
        edit: Callable[[str, Callable[[], Plan]], bool],
        start: str,
        parent: QWidget,
    ) -> None:
        super().__init__(parent)
        self.setObjectName("workspace")
        self.setWindowTitle("Nominal surface")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setMinimumWidth(min(520, parent.width() - 40))
        self._alive = True
        self._document, self._tasks, self._edit, self._start = document, tasks, edit, start
        self.mesh, self.unit, self.up, self.way = QLineEdit(), QComboBox(), QComboBox(), QComboBox()
        self.points = [(QLineEdit(), QLineEdit()) for _ in range(POINTS)]
        self.message = QLabel(_as_it_is(document.plan.nominal))
        self.message.setWordWrap(True)
        self.remove = QPushButton("Remove nominal surface")
        self.remove.setObjectName("action")
        self.remove.setVisible(document.plan.nominal is not None)
        self.remove.clicked.connect(self._remove)
        self._lay_out()
        self._show_points()

    def _lay_out(self) -> None:
        for box, names in ((self.unit, UNITS), (self.up, UP)):
            for name in names:
                box.addItem("µm" if name == "um" else name, name)
        for way, title in WAYS.items():
            self.way.addItem(title, way)
        self.way.currentIndexChanged.connect(self._show_points)
        self._form = QFormLayout(self)
        self._form.setContentsMargins(18, 16, 18, 16)
        row = path_field(self.mesh, "mesh of the drawing", self._ask)
        for label, widget, named, help_text in (
            ("mesh of the drawing", row, self.mesh, "STL or PLY."),
            ("unit of its numbers", self.unit, self.unit, "STL says none."),
            ("axis to the sensor", self.up, self.up, "Axis of the mesh that points up on the scan."),
            ("placed by", self.way, self.way, "A best fit begins with the outline, or with the points typed."),
        ):
            named.setAccessibleName(label)
            named.setToolTip(help_text)
            self._form.addRow(label, widget)
        self._pairs = []
        for k, pair in enumerate(self.points, 1):
            held, beside = QWidget(), QHBoxLayout()
            beside.setContentsMargins(0, 0, 0, 0)
            for field, what in zip(pair, ("on the mesh", "on the scan"), strict=True):
                field.setPlaceholderText(f"x, y, z {what}")
                field.setAccessibleName(f"point {k} {what}")
                field.setToolTip("Three numbers in mm.")
                beside.addWidget(field)
            held.setLayout(beside)
            self._pairs.append(held)
            self._form.addRow(f"point {k}", held)
        self._form.addRow(self.message)
        buttons = button_row("Place", self.place, self.close)
        buttons.addStretch()
        buttons.addWidget(self.remove)
        self._form.addRow(buttons)

    def _show_points(self) -> None:
        for held in self._pairs:
            self._form.setRowVisible(held, self.way.currentData() == "points")

    def _ask(self) -> str:
        return QFileDialog.getOpenFileName(self, "Mesh of the drawing", self._start, KINDS)[0]

    def place(self) -> None:
        """Read the mesh and place it; says what is missing."""
        reference, text = self._document.reference, self.mesh.text().strip()
        try:
            if reference is None:
                raise HemtraError("The plan has no reference scan; add a good part first.")
            if not text:
                raise HemtraError("Choose the mesh of the drawing.")
            way: Placement = self.way.currentData()
            pairs = self._typed() if way == "points" else []
        except HemtraError as error:
            self.message.setText(str(error))
            return
        path, unit, up, data = (
            Path(text).expanduser(),
            self.unit.currentData(),
            self.up.currentData(),
            reference.data,
        )
        self.message.setText("Placing …")

        def work(task: Task) -> Nominal | HemtraError:
            try:
                return nominal_from(load_mesh(path, unit).seen_from(up), path.name, data, way, pairs)
            except HemtraError as error:
                return error

        def done(found: Nominal | HemtraError) -> None:
            if not self._alive:
                return
            if self._document.reference is not reference:
                found = HemtraError("The reference scan has changed meanwhile; place the mesh again.")
            self._placed(found)

        self._tasks.start("Placing the nominal surface", work, done)

    def _typed(self) -> list[tuple[list[float], list[float]]]:
        pairs = []
        for k, fields in enumerate(self.points, 1):
            numbers = []
            for field in fields:
                # between semicolons a comma is a decimal sign
                parts = field.text().split(";" if ";" in field.text() else ",")
                try:
                    found = [number_typed(part) for part in parts]
                except ValueError:
                    found = []
                if len(found) != 3:
                    raise HemtraError(f"Point {k} needs three numbers on the mesh and three on the scan.")
                numbers.append(found)
            pairs.append((numbers[0], numbers[1]))
        return pairs

    def _placed(self, found: Nominal | HemtraError) -> None:
        if isinstance(found, HemtraError):
            words = str(found)
            # the reason why something is not measured is a clause, not a sentence
            said = f"{words[0].upper()}{words[1:]}." if isinstance(found, NotMeasured) else words
            self.message.setText(said)
            return
        self._edit(f"nominal surface {found.name}", lambda: self._document.plan.edited(nominal=found))
        self.message.setText(_as_it_is(found))
        self.remove.setVisible(True)

    def _remove(self) -> None:
        self._edit("nominal surface removed", lambda: self._document.plan.edited(nominal=None))
        self.message.setText(_as_it_is(None))
        self.remove.setVisible(False)

    def closeEvent(self, event: QCloseEvent) -> None:
        """Drop answers that arrive after closing."""
        self._alive = False
        super().closeEvent(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape closes it."""
        if event.key() == Qt.Key.Key_Escape:
            self.close()
        else:
            super().keyPressEvent(event)


def _as_it_is(nominal: Nominal | None) -> str:
    if nominal is None:
        return "Features “Difference to reference or nominal” can then be compared with it."
    off = f"The reference scan lies {1000 * nominal.rms:.0f} µm rms off it."
    return f"{nominal.name} is placed by {nominal.placed}. {off}"
