"""A click on a feature cuts it out of the zone that has handles."""

from __future__ import annotations

from collections.abc import Callable

from hemtra.core.plan.document import Plan
from hemtra.core.proposals.cutting import with_feature_cut
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.plan.stage.top_view import TopView

Edit = Callable[[str, Callable[[], Plan]], bool]


class FeatureCut:
    """Prompts for a click, and takes what lies there out of the selected zone."""

    def __init__(self, bench: WorkspaceModel, stage: TopView, tasks: Tasks, edit: Edit) -> None:
        self._bench, self._stage, self._tasks, self._edit = bench, stage, tasks, edit
        self._step = ""
        stage.place_picked.connect(self._picked)
        stage.pick_left.connect(self._leave)

    def ask(self) -> None:
        """Start choosing a feature by a click."""
        step_id = self._bench.selected_step
        if step_id is not None:
            self._step = step_id
            name = self._bench.document.plan.step(step_id).name
            self._stage.pick(f"{name}: click what does not belong to it   ·   Esc: cancel")

    def _leave(self) -> None:
        self._step = ""

    def _picked(self, x: float, y: float) -> None:
        part, step_id = self._bench.tray.current, self._step
        if part is None or not step_id:
            return
        self._leave()
        self._stage.pick("")
        plan, engine = self._bench.document.plan, part.engine
        name = plan.step(step_id).name

        def work(task: Task) -> Plan:
            return with_feature_cut(plan, engine, step_id, (x, y))

        def done(made: Plan) -> None:
            self._edit(f"cut-out of {name}", lambda: made)

        self._tasks.start(f"Cut out of {name}", work, done)
