"""Edits of what steps are connected to, from the Plan workspace."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QMenu

from hemtra.core.features.section import Cut
from hemtra.core.plan.document import Plan
from hemtra.core.plan.graph import ancestry
from hemtra.core.plan.inputs import connected, fitting, with_own_preparation
from hemtra.core.plan.registry import kind_named
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.plan.section.section_zone import usual_zone
from hemtra.desktop.plan.stage.top_view import TopView
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.notifications import Notice, Notifications

Edit = Callable[[str, Callable[[], Plan]], bool]


class Connections:
    """Turns intents about inputs into edits of the plan."""

    def __init__(self, bench: WorkspaceModel, stage: TopView, notifications: Notifications, edit: Edit) -> None:
        self._bench, self._stage, self._notifications, self._edit = bench, stage, notifications, edit
        self._wanted: tuple[str, str] | None = None
        stage.place_picked.connect(self._picked)
        stage.pick_left.connect(self._leave)

    def connect(self, step_id: str, name: str, sources: tuple[str, ...]) -> None:
        """Connect an input of a step to other steps."""
        plan = self._bench.document.plan
        self._edit(f"{name} of {plan.step(step_id).name}", lambda: connected(plan, step_id, name, sources))

    def add_step_preparation(self, step_id: str, kind: str) -> None:
        """Give a step a preparation of its own."""
        plan = self._bench.document.plan
        self._edit(
            f"{kind_named(kind).title.lower()} for {plan.step(step_id).name}",
            lambda: with_own_preparation(plan, step_id, kind),
        )

    def toggle_section_zone(self, step_id: str) -> None:
        """Give a step a zone on its section, or remove it."""
        plan, shown = self._bench.document.plan, self._bench.shown
        step = plan.step(step_id)
        source = next(iter(step.inputs.get(kind_named(step.kind).section_input, ())), "")
        cut = shown.result.steps[source].value if shown is not None and source in shown.result.steps else None
        if step.zone is not None:
            self._edit(f"zone of {step.name}", lambda: plan.with_step(step.edited(zone=None)))
        elif isinstance(cut, Cut):
            zone = usual_zone(cut)
            self._edit(f"zone of {step.name}", lambda: plan.with_step(step.edited(zone=zone)))

    def ask_feature(self) -> None:
        """A list of all features to go to; those that no characteristic rests on come first."""
        menu = self.feature_menu()
        menu.popup(self._stage.mapToGlobal(QPoint(40, 40)))

    def feature_menu(self) -> QMenu:
        """All features of the plan, each to be gone to."""
        plan, menu = self._bench.document.plan, QMenu(self._stage)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        chains = [ancestry(plan, row.step) for row in plan.sheet if row.step is not None]
        used = {step.id for columns in chains for column in columns for step in column}
        ink = theme.colour("ink").name()
        for title, steps in (
            ("No characteristic rests on", [s for s in plan.steps if s.id not in used]),
            ("Features of characteristics", [s for s in plan.steps if s.id in used]),
        ):
            if not steps:
                continue
            menu.addSection(title)
            for step in steps:
                glyph = theme.glyph(kind_named(step.kind).glyph, ink)
                menu.addAction(glyph, step.name, partial(self._bench.go_to, step.id))
        return menu

    def pick(self, step_id: str, name: str) -> None:
        """Prompt for the source of an input by a click on the stage."""
        step = self._bench.document.plan.step(step_id)
        label = kind_named(step.kind).accepted()[name].label
        self._wanted = step_id, name
        self._stage.pick(f"{step.name}: click what is to be its {label}   ·   Esc: cancel")

    def _leave(self) -> None:
        self._wanted = None
        self._stage.pick("")

    def _picked(self, x: float, y: float) -> None:
        if self._wanted is None:
            return
        (step_id, name), plan = self._wanted, self._bench.document.plan
        self._leave()
        at = np.array(x), np.array(y)
        under = [
            (zone.area, source.id)
            for source in fitting(plan, step_id, name)
            if (zone := self._bench.placed(source)) is not None and zone.contains(*at)
        ]
        if not under:
            text = "No suitable feature here. Click inside the zone of one."
            self._notifications.post(Notice(text))
            return
        source = min(under)[1]
        held = plan.step(step_id).inputs.get(name, ())
        many = kind_named(plan.step(step_id).kind).accepted()[name].many
        self.connect(step_id, name, (*held, source) if many and source not in held else (source,))
