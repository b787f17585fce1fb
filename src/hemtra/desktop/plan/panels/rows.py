"""Edits of the sheet's rows from the Plan workspace: limits, names, order, groups, and what counts."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict
from functools import partial
from typing import Any

from PySide6.QtCore import QPoint
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QMenu

from hemtra.core.edits.sheet import (
    counted_from_master,
    moved_row,
    renumbered,
    with_balloon,
    with_nominal,
)
from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.rows import corrected
from hemtra.core.geometry.elements import Number
from hemtra.core.plan.document import Characteristic, Correction, Plan
from hemtra.core.plan.tolerance import parse_tolerance
from hemtra.core.typed import lengths_in_mm
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.widgets import units
from hemtra.desktop.widgets.menus import offer
from hemtra.desktop.widgets.numbers_form import NumbersAsked

REFERENCE = "ref"
"""Prefix of a typed tolerance whose nominal is the reference part's value."""
OVER_PROFILES = {
    "each": "Each within limits",
    "worst": "The worst must pass",
    "mean": "Mean within limits",
    "share": "Minimum percentage within limits",
}
"""Rules for many values, with their titles."""
OVER_INSTANCES = {"": "First instance only", **OVER_PROFILES}

Edit = Callable[[str, Callable[[], Plan]], bool]

ONE_UNCERTAINTY = ("uncertainty", "covers")
"""Fields of a row of which one at most is set."""


class Rows:
    """Turns intents about rows of the sheet into edits of the plan."""

    def __init__(self, bench: WorkspaceModel, tasks: Tasks, asked: NumbersAsked, edit: Edit) -> None:
        self._bench, self._tasks, self._asked, self._edit = bench, tasks, asked, edit

    @property
    def _plan(self) -> Plan:
        return self._bench.document.plan

    def set_tolerance(self, balloon: int, text: str) -> bool:
        """Limits as typed; whether they were understood."""
        plan, row = self._plan, self._plan.characteristic(balloon)
        if row is None:
            return True
        if text.strip().lower().startswith(REFERENCE):
            limits = text.strip()[len(REFERENCE) :]
            places = row.decimals
            self._with_reference(row, lambda value: self.set_tolerance(balloon, f"{value:.{places}f} {limits}"))
            return row.step is not None and self._bench.document.teacher is not None

        def changed() -> Plan:
            t = parse_tolerance(lengths_in_mm(text) if self._unit_of(balloon) == "mm" else text, row.nominal)
            return plan.with_characteristic(row.edited(**asdict(t)))

        return self._edit(f"limits of {row.name}", changed)

    def _unit_of(self, balloon: int) -> str:
        shown = self._bench.shown
        rows = shown.result.characteristics if shown is not None else ()
        return next((row.unit for row in rows if row.balloon == balloon), "mm")

    def copy_value(self) -> None:
        """Copy the selected row's value as a number, at full precision."""
        shown, row = self._bench.shown, self._bench.row
        rows = shown.result.characteristics if shown is not None else ()
        found = next((one for one in rows if row is not None and one.balloon == row.balloon), None)
        if found is not None and found.value is not None:
            QGuiApplication.clipboard().setText(found.text or units.field(found.value))

    def set_field(self, balloon: int, name: str, value: Any) -> None:
        """Another value for a field of a row; a new balloon keeps it selected."""
        plan, row = self._plan, self._plan.characteristic(balloon)
        if row is None or getattr(row, name) == value:
            return
        if name == "balloon":
            if self._edit(f"balloon of {row.name}", lambda: with_balloon(plan, balloon, value)):
                self._bench.select(value)
            return
        changes = {name: value}
        if name in ONE_UNCERTAINTY:
            changes = {**dict.fromkeys(ONE_UNCERTAINTY), name: value}
        self._edit(f"{name} of {row.name}", lambda: plan.with_characteristic(row.edited(**changes)))

    def renumber(self) -> None:
        """Balloons 1, 2, 3 … in the order of the sheet."""
        plan, row = self._plan, self._bench.row
        place = plan.sheet.index(row) + 1 if row in plan.sheet else None
        if self._edit("renumbering", lambda: renumbered(plan)):
            self._bench.select(place)

    def duplicate(self) -> None:
        """Add a copy of the selected row, to be moved elsewhere."""
        row, plan = self._bench.row, self._plan
        if row is not None and self._edit(f"copy of {row.name}", lambda: plan.duplicated(row.balloon)):
            self._bench.select(self._plan.sheet[-1].balloon)

    def delete(self) -> None:
        """Take the selected row out of the sheet."""
        row, plan = self._bench.row, self._plan
        if row is not None:
            self._edit(f"deletion of {row.name}", lambda: plan.without_characteristic(row.balloon))

    def move(self, by: int) -> None:
        """The selected row so many places later."""
        self._change("order of the sheet", lambda row: moved_row(self._plan, row.balloon, by))

    def toggle(self, name: str) -> None:
        """Hide the selected row or show it again, or switch it off or on: “hidden” or “off”."""
        row = self._bench.row
        if row is not None:
            self.set_field(row.balloon, name, not getattr(row, name))

    def toggle_master(self) -> None:
        """Evaluate the difference from the reference part, or the value itself."""
        self._change(
            "counting from the reference part",
            lambda row: counted_from_master(self._plan, row.balloon, not row.from_master),
        )

    def take_nominal(self) -> None:
        """Use the reference part's value as the selected row's nominal."""
        row = self._bench.row
        if row is not None:
            self._with_reference(
                row,
                lambda value: self._edit(
                    f"nominal of {row.name}", lambda: with_nominal(self._plan, row.balloon, value)
                ),
            )

    def _with_reference(self, row: Characteristic, then: Callable[[float], object]) -> None:
        """Do something with what the reference part measures of a row, once that is known."""
        plan, teacher = self._plan, self._bench.document.teacher
        if row.step is None or teacher is None:
            return
        step_id = row.step

        def work(task: Task) -> float:
            found = teacher.run(teacher.taught(plan)).steps[step_id]
            if not isinstance(found.value, Number):
                raise HemtraError(f"The reference part gives no nominal for {row.name}: {found.reason}.")
            return corrected(row, found.value.value)

        def done(value: float) -> None:
            if self._plan.characteristic(row.balloon) == row:
                then(value)

        self._tasks.start(f"Nominal of {row.name}", work, done)

    def ask_correction(self) -> None:
        """Prompt for two sizes that are known, and what was measured of them."""
        row, shown = self._bench.row, self._bench.shown
        if row is None:
            return
        known = row.correction or Correction(measured=(0.0, 1.0), known=(0.0, 1.0))
        values = [known.measured[0], known.known[0], known.measured[1], known.known[1]]
        if row.correction is None and shown is not None:
            evaluated = next((c for c in shown.result.characteristics if c.balloon == row.balloon), None)
            if evaluated is not None and evaluated.value is not None:
                values[2], values[3] = round(evaluated.value, 4), row.nominal or round(evaluated.value, 4)
        labels = ("measured of the first, in its unit", "it is", "measured of the second", "it is")
        names = ("first", "first_is", "second", "second_is")
        fields = tuple((n, label, units.field(v)) for n, label, v in zip(names, labels, values, strict=True))
        heading = f"{row.name}: two known sizes"
        self._asked.ask(heading, fields, "Apply correction", partial(self._correct, row.balloon))

    def ask_share(self) -> None:
        """Ask which share must lie within the limits, where the verdict is by share."""
        row = self._bench.row
        if row is None:
            return

        def take(numbers: dict[str, float]) -> bool:
            plan, changes = self._plan, {"over": "share", "least_share": numbers["least"]}
            return self._edit(
                f"minimum percentage of {row.name}", lambda: plan.with_characteristic(row.edited(**changes))
            )

        fields = (("least", "percentage that must lie within the limits", units.field(row.least_share)),)
        self._asked.ask(f"{row.name}: share in limits", fields, "Evaluate by share", take)

    def _correct(self, balloon: int, numbers: dict[str, float]) -> bool:
        row, plan = self._plan.characteristic(balloon), self._plan
        if row is None:
            return True
        sizes = {
            "measured": (numbers["first"], numbers["second"]),
            "known": (numbers["first_is"], numbers["second_is"]),
        }
        # sizes that correct nothing take the correction off
        new = None if sizes["measured"] == sizes["known"] else sizes
        return self._edit(
            f"correction of {row.name}", lambda: plan.with_characteristic(row.edited(correction=new))
        )

    def show_menu(self, balloon: int, at: QPoint) -> None:
        """Menu of a row, at the place it was requested."""
        self._bench.select(balloon)
        offer(self.menu(), at)

    def menu(self) -> QMenu:
        """Everything that can be done with the selected row."""
        menu, row = QMenu(), self._bench.row
        if row is None:
            return menu
        for text, do in (
            ("Move up", partial(self.move, -1)),
            ("Move down", partial(self.move, 1)),
            ("Duplicate", self.duplicate),
            ("Copy value", self.copy_value),
        ):
            menu.addAction(text, do)
        menu.addSeparator()
        for text, name in (("Hidden on the stage", "hidden"), ("Switched off", "off")):
            action = menu.addAction(text, partial(self.toggle, name))
            action.setCheckable(True)
            action.setChecked(getattr(row, name))
        menu.addSeparator()
        taught = self._bench.document.teacher is not None and row.step is not None
        by_profile = self._plan.by_profile is not None
        menu.addAction("Nominal from the reference part", self.take_nominal).setEnabled(taught)
        action = menu.addAction("Evaluate the difference from the reference part", self.toggle_master)
        action.setCheckable(True)
        action.setChecked(row.from_master)
        action.setEnabled(taught)
        over = menu.addMenu("Verdict over all profiles" if by_profile else "Verdict over all instances")
        for value, title in (OVER_PROFILES if by_profile else OVER_INSTANCES).items():
            action = over.addAction(title, partial(self.set_field, row.balloon, "over", value or None))
            action.setCheckable(True)
            action.setChecked((row.over or ("each" if by_profile else "")) == value)
        over.addSeparator()
        over.addAction(f"Minimum percentage in limits, {units.field(row.least_share)} %…", self.ask_share)
        corrected_by = "" if row.correction is None else " (corrected)"
        menu.addAction(f"Two-point correction…{corrected_by}", self.ask_correction)
        menu.addSeparator()
        menu.addAction("Delete", self.delete)
        return menu

    def _change(self, label: str, change: Callable[[Characteristic], Plan]) -> None:
        row = self._bench.row
        if row is not None:
            self._edit(label, lambda: change(row))
