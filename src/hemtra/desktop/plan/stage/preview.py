"""Previews: what the next click would make is computed beside the window while the pointer rests."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from PySide6.QtCore import QObject, QTimer

from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.geometry.elements import Number
from hemtra.core.plan.document import Plan
from hemtra.core.proposals.constructions import Pick, feature
from hemtra.core.proposals.option import Option
from hemtra.desktop.background.latest_task import LatestTaskWorker, Superseded
from hemtra.desktop.plan.stage.preview_marks import Ahead
from hemtra.desktop.plan.stage.top_view import TopView
from hemtra.desktop.widgets import units

DWELL = 150
"""Rest time of the pointer before a preview, ms."""


@dataclass(frozen=True)
class PreviewRequest:
    """Request the result of an option at these picks; the last one is at the pointer."""

    plan: Plan
    engine: Engine
    option: Option
    picks: tuple[Pick, ...]

    @property
    def complete(self) -> bool:
        """Whether no more picks are needed."""
        needed = self.option.least if self.option.more else len(self.option.clicks)
        return len(self.picks) >= needed


def previewed(request: PreviewRequest, superseded: Superseded) -> Iterator[Ahead | None]:
    """What it would make; of picks that are too few, the feature that the last would take; in words what is
    wrong where nothing can be made."""
    option = request.option
    try:
        if request.complete:
            made = option.propose(request.plan, request.engine, *request.picks)
            plan, step_id = made.plan, made.step
        elif option.wants:
            wanted = option.wants[min(len(request.picks), len(option.wants)) - 1]
            plan, step_id = feature(request.plan, request.engine, request.picks[-1], wanted)
        else:
            yield None
            return
        result = request.engine.run(plan.edited(sheet=()))
        found = result.steps[step_id]
        marks = request.engine.explain(result, step_id).marks if found.outcome is not None else ()
    except HemtraError as error:
        text = str(error)
        yield Ahead((), (), f"{text[:1].upper()}{text[1:]}")
        return
    known = {step.id for step in request.plan.steps}
    zones = [r.zone for r in result.steps.values() if r.step.id not in known and r.zone is not None]
    text = found.step.name
    if found.outcome is not None and isinstance(found.value, Number):
        text += units.text(f"   {found.value.value:.3f} {found.value.unit}")
    elif found.outcome is not None and request.complete:
        text = "   ".join([text, *(f"{label} {value}" for label, value in found.outcome.facts[:2])])
    elif step_id not in known:
        text += " (new)"
    yield Ahead(marks, tuple(zones), text)


class Preview(QObject):
    """Requests previews and lays them onto the stage."""

    def __init__(self, stage: TopView) -> None:
        super().__init__(stage)
        self._stage = stage
        self._asked: PreviewRequest | None = None
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self._submit)
        self._lane = LatestTaskWorker(previewed, "preview", self)
        self._lane.responded.connect(self._on_answer)
        self._lane.failed.connect(self._on_failed)

    def ask(self, request: PreviewRequest) -> None:
        """The pointer is somewhere else."""
        self.forget()
        self._asked = request
        self._timer.start(DWELL)

    def forget(self) -> None:
        """Nothing is to be previewed."""
        self._asked = None
        self._timer.stop()
        if self._stage.ahead is not None:
            self._stage.ahead = None
            self._stage.update()

    def stop(self) -> None:
        """End the lane."""
        self._lane.stop()

    def _submit(self) -> None:
        if self._asked is not None:
            self._lane.submit(self._asked)

    def _on_answer(self, request: PreviewRequest, answer: Ahead | None) -> None:
        if request is self._asked:
            self._stage.ahead = answer
            self._stage.update()

    def _on_failed(self, request: object, error: BaseException) -> None:
        """Nothing is shown; the click itself says what is wrong."""
