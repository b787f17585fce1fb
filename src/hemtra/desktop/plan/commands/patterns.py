"""Patterns: the selected feature repeated in a circle or a grid, by numbers typed over the stage."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from hemtra.core.edits.pattern import Move, circular, grid, repeated
from hemtra.core.plan.document import Plan
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.widgets.numbers_form import Field, NumbersAsked

Edit = Callable[[str, Callable[[], Plan]], bool]
FIELDS: dict[str, tuple[Field, ...]] = {
    "circle": (
        ("count", "number of instances", "4"),
        ("x", "centre x, mm", "0"),
        ("y", "centre y, mm", "0"),
        ("span", "over, °", "360"),
    ),
    "grid": (
        ("columns", "columns", "2"),
        ("rows", "rows", "2"),
        ("dx", "x spacing, mm", "10"),
        ("dy", "y spacing, mm", "10"),
    ),
}


class Patterns:
    """Asks, then repeats the feature that was selected then."""

    def __init__(self, bench: WorkspaceModel, asked: NumbersAsked, edit: Edit) -> None:
        self._bench, self._asked, self._edit = bench, asked, edit

    def ask(self, what: str) -> None:
        """Show the numbers of a “circle” or a “grid”."""
        step_id = self._bench.selected_step
        if step_id is not None:
            name = self._bench.document.plan.step(step_id).name
            heading = f"{name}, repeated in a {what}"
            self._asked.ask(heading, FIELDS[what], "Repeat", partial(self._repeat, step_id, what))

    def _repeat(self, step_id: str, what: str, numbers: dict[str, float]) -> bool:
        plan = self._bench.document.plan
        if step_id not in {step.id for step in plan.steps}:
            return True

        def change() -> Plan:
            n = numbers
            moves: list[Move]
            if what == "circle":
                moves = circular(int(n["count"]), n["x"], n["y"], n["span"])
            else:
                moves = grid(int(n["columns"]), int(n["rows"]), n["dx"], n["dy"])
            return repeated(plan, step_id, moves)

        return self._edit(f"{what} of {plan.step(step_id).name}", change)
