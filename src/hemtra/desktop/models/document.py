"""The open plan with its history and reference scan."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.known_to import without_old_budgets
from hemtra.core.maps.scan import Scan
from hemtra.core.plan.document import Plan
from hemtra.core.plan.graph import ordered
from hemtra.desktop.models.versioned import Versioned


class PlanDocument(Versioned[Plan]):
    """The plan; a state that does not hold is refused with `PlanError`."""

    def __init__(self) -> None:
        super().__init__(Plan(), ordered)
        self._reference: Scan | None = None
        self.teacher: Engine | None = None
        """Evaluates on the reference scan, which teaches the plan."""

    @property
    def plan(self) -> Plan:
        """The committed plan."""
        return self.value

    @property
    def reference(self) -> Scan | None:
        """The scan that zones are drawn on."""
        return self._reference

    @reference.setter
    def reference(self, scan: Scan | None) -> None:
        self._reference = scan
        if scan is None:
            self.teacher = None
        elif self.teacher is None or self.teacher.data is not scan.data:
            self.teacher = Engine(scan.data, scan.serial)

    def open(self, plan: Plan, path: Path | None, reference: Scan | None, *, saved: bool = True) -> None:
        """Start over with another plan."""
        self.reference = reference
        self.start_over(plan, path, plan if saved else Plan())

    def edit(self, label: str, value: Plan, beside: Callable[[], None] | None = None) -> None:
        """Make a change that can be undone; budgets of rows that are now measured otherwise go with it."""
        ordered(value)  # the budgets of rows need a valid plan to be compared with
        super().edit(label, without_old_budgets(value), beside)

    def change_reference(self, label: str, plan: Plan, reference: Scan) -> None:
        """Another reference scan, with the plan drawn on it; undo brings the old one back."""
        held = [reference]

        def swap() -> None:
            old, self.reference = self.reference, held[0]
            if old is not None:
                held[0] = old

        swap()
        try:
            self.edit(label, plan, swap)
        except Exception:
            swap()
            raise
