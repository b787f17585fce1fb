"""The open plan with its history and reference scan."""

from __future__ import annotations

from pathlib import Path

from hemtra.core.plan.document import Plan
from hemtra.core.plan.graph import ordered
from hemtra.core.scan.scan import Scan
from hemtra.desktop.model.versioned import Versioned


class Document(Versioned[Plan]):
    """The plan; a state that does not hold is refused with `PlanError`."""

    def __init__(self) -> None:
        super().__init__(Plan(), ordered)
        self.reference: Scan | None = None

    @property
    def plan(self) -> Plan:
        """The committed plan."""
        return self.value

    def open(self, plan: Plan, path: Path | None, reference: Scan | None, *, saved: bool = True) -> None:
        """Start over with another plan."""
        self.reference = reference
        self.start_over(plan, path, plan if saved else Plan())
