"""Edits of steps that are made by dragging, typing or choosing: zones, parameters, preparation."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from typing import Any

from hemtra.core.edits.preparation import moved_preparation, with_preparation, without_preparation
from hemtra.core.errors import HemtraError
from hemtra.core.plan.document import Plan
from hemtra.core.plan.registry import kind_named
from hemtra.core.zones.zone import AnyZone
from hemtra.desktop.models.bench import WorkspaceModel

Edit = Callable[[str, Callable[[], Plan]], bool]


class StepEdits:
    """Turns intents about steps into edits of the plan."""

    def __init__(self, bench: WorkspaceModel, edit: Edit, refused: Callable[[], None]) -> None:
        """refused: brings back on screen what a refused edit was typed over."""
        self._bench, self._edit, self._refused = bench, edit, refused
        self._copied: AnyZone | None = None

    # -- zones ------------------------------------------------------------------------------------

    @property
    def selected_zone(self) -> AnyZone | None:
        """The zone that has handles."""
        plan, step_id = self._bench.document.plan, self._bench.selected_step
        return None if step_id is None else plan.step(step_id).zone

    def preview_zone(self, step_id: str, zone: AnyZone) -> None:
        """A zone on its way, where it lies on this scan."""
        plan = self._bench.document.plan
        step = plan.step(step_id)
        with suppress(HemtraError):
            self._bench.document.preview(plan.with_step(step.edited(zone=self._bench.drawn(step, zone))))

    def set_zone(self, step_id: str, zone: AnyZone) -> None:
        """A zone that was dragged there."""
        plan = self._bench.document.plan
        step = plan.step(step_id)
        self._edit(
            f"zone of {step.name}", lambda: plan.with_step(step.edited(zone=self._bench.drawn(step, zone)))
        )

    def type_zone(self, step_id: str, name: str, value: float) -> None:
        """A number of a zone."""
        self._change_zone(step_id, f"zone {name}", {name: value})

    def type_band(self, step_id: str, ends: tuple[float | None, float | None] | None) -> None:
        """The height band of a zone, or none."""
        band = None if ends is None else {"low": ends[0], "high": ends[1]}
        self._change_zone(step_id, "height band", {"band": band})

    def _change_zone(self, step_id: str, label: str, changes: dict[str, Any]) -> None:
        plan = self._bench.document.plan
        zone = plan.step(step_id).zone
        if zone is not None:
            changed = {**zone.model_dump(), **changes}
            self._edit(label, lambda: plan.with_step(plan.step(step_id).edited(zone=changed)))

    def edit_zone(self, label: str, change: Callable[[AnyZone], AnyZone]) -> None:
        """Change the zone that has handles."""
        plan, step_id, zone = self._bench.document.plan, self._bench.selected_step, self.selected_zone
        if step_id is not None and zone is not None:
            self._edit(label, lambda: plan.with_step(plan.step(step_id).edited(zone=change(zone))))

    def copy_zone(self) -> None:
        """Keep the zone, to be put into another step."""
        self._copied = self.selected_zone

    def paste_zone(self) -> None:
        """Give the selected step a zone like the one copied, in its own place."""
        copied = self._copied
        if copied is not None:
            self.edit_zone("pasted zone", lambda zone: copied.model_copy(update={"x": zone.x, "y": zone.y}))

    @property
    def can_paste(self) -> bool:
        """Whether there is a zone to paste, and one to take its shape."""
        return self._copied is not None and self.selected_zone is not None

    # -- parameters -------------------------------------------------------------------------------

    def set_param(self, step_id: str, name: str, value: Any) -> None:
        """Change one parameter."""
        self.set_params(step_id, {name: value})

    def set_params(self, step_id: str, changes: dict[str, Any]) -> None:
        """Several at once."""
        plan = self._bench.document.plan
        step = plan.step(step_id)
        params, label = {**step.params, **changes}, f"{' and '.join(changes)} of {step.name}"
        if not self._edit(label, lambda: plan.with_step(step.edited(params=params))):
            self._refused()

    def prepare(self, what: str, name: str) -> None:
        """Add a kind of preparation, or move a step of it or take it out."""
        plan = self._bench.document.plan
        if what == "add":
            self._edit(kind_named(name).title.lower(), lambda: with_preparation(plan, name))
        elif what == "out":
            self._edit("preparation removed", lambda: without_preparation(plan, name))
        else:
            by = 1 if what == "later" else -1
            self._edit("order of preparation", lambda: moved_preparation(plan, name, by))
