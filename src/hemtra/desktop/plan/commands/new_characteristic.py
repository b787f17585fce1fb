"""New characteristic: its kind, then clicks on the data; the rest is proposed."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from PySide6.QtCore import QObject
from PySide6.QtGui import QCursor
from PySide6.QtWidgets import QMenu

from hemtra.core.proposals.constructions import Pick, fitting_features
from hemtra.core.proposals.option import Option, options
from hemtra.core.proposals.profiles import OnProfile
from hemtra.core.proposals.proposing import Proposal
from hemtra.core.proposals.trial import KnownPart, tried
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.models.bench import Place, WorkspaceModel
from hemtra.desktop.plan.commands.chooser import FEATURES, Chooser, prompts
from hemtra.desktop.plan.section.section_view import SectionView
from hemtra.desktop.plan.stage.preview import Preview, PreviewRequest
from hemtra.desktop.plan.stage.suggestions import Offer
from hemtra.desktop.plan.stage.top_view import TopView


class NewCharacteristic(QObject):
    """Leads through the choice and the clicks."""

    def __init__(
        self,
        bench: WorkspaceModel,
        stage: TopView,
        section: SectionView,
        tasks: Tasks,
        add: Callable[[str, Proposal], None],
        doubt: Callable[[str], None],
    ) -> None:
        super().__init__(stage)
        self._bench, self._stage, self._section = bench, stage, section
        self._tasks, self._add, self._doubt = tasks, add, doubt
        self._wanted: Option | None = None
        self._prompts: tuple[str, ...] = ()
        self._places: list[Pick] = []
        title = "New characteristic"
        self._choosers = (
            Chooser(options("map"), title, stage, leads_on=True),
            Chooser(options("profile"), title, section, leads_on=False),
        )
        self.features = Chooser(options("features"), "From other features", stage, leads_on=False)
        self.preview = Preview(stage)
        stage.cursor_moved.connect(self._look_ahead)
        stage.pick_listed.connect(self.show_list)
        for chooser in (*self._choosers, self.features):
            chooser.chosen.connect(self.begin)
            chooser.left.connect(self.leave)
        for view in (stage, section):
            view.place_picked.connect(self._picked)
            view.pick_left.connect(self.leave)
        stage.pick_done.connect(self._enough)

    @property
    def chooser(self) -> Chooser:
        """Characteristics on offer: of whole parts, or of profiles."""
        return self._choosers[self._bench.document.plan.by_profile is not None]

    @property
    def _view(self) -> TopView | SectionView:
        """View in which to click."""
        return self._stage if self._bench.document.plan.by_profile is None else self._section

    def ask(self) -> None:
        """Show what can be chosen."""
        self.leave()
        self.chooser.show_over(self._view)

    def ask_features(self) -> None:
        """Show what can be made of other features."""
        self.leave()
        self.features.show_over(self._view)

    def begin(self, option_id: str) -> None:
        """Start clicking."""
        if option_id == FEATURES:
            self.ask_features()
            return
        self._hide_choosers()
        offered = self.chooser.options
        if self._bench.document.plan.by_profile is None:
            offered = (*offered, *self.features.options)
        self._wanted = next((w for w in offered if w.id == option_id), None)
        self._places = []
        if self._wanted is None:
            # requested by name where it makes no sense: offer what does
            self.ask()
            return
        self._prompts = prompts(self._wanted)
        if self._prompts:
            self._stage.joins_picked = self._wanted.more in ("path", "traced")
            self._view.pick(self._prompts[0])
        else:
            self._propose()

    def take(self, offer: Offer) -> None:
        """Begin with what was offered, as if its place had been clicked."""
        self.begin(offer.option)
        self._picked(*offer.place)

    def leave(self) -> None:
        """Forget about it."""
        self._hide_choosers()
        self.preview.forget()
        self._wanted, self._places = None, []
        self._stage.joins_picked = False
        for view in (self._stage, self._section):
            view.picked = []
            view.pick("")

    def _hide_choosers(self) -> None:
        for chooser in (*self._choosers, self.features):
            chooser.hide()

    def _picked(self, x: float, y: float) -> None:
        self.pick((x, y))

    def pick(self, picked: Pick) -> None:
        """A place was clicked, or a feature named."""
        part, wanted = self._bench.tray.current, self._wanted
        if part is None or wanted is None:
            return
        self._places.append(picked)
        self._view.picked = [p for p in self._places if not isinstance(p, str)]
        self.preview.forget()
        if wanted.more or len(self._places) < len(wanted.clicks):
            self._view.pick(self._prompts[min(len(self._places), len(self._prompts) - 1)])
        else:
            self._propose()

    def _enough(self) -> None:
        """No more places come."""
        wanted = self._wanted
        if wanted is None or not wanted.more or not self._places:
            return
        if len(self._places) < wanted.least:
            self._doubt(f"{wanted.name} {wanted.meaning}: {len(self._places)} clicked; click one more.")
        else:
            self._propose()

    def show_list(self) -> None:
        """The features of the plan that the next click could mean, to choose from."""
        wanted = self._wanted
        if wanted is None or not wanted.wants:
            return
        menu = QMenu(self._stage)
        for step in fitting_features(self._bench.document.plan, wanted.wants[self._next(wanted)]):
            if step.id not in self._places:
                action = menu.addAction(step.name)
                action.triggered.connect(partial(self.pick, step.id))
        if menu.isEmpty():
            menu.addAction("The plan has none yet: click it on the part").setEnabled(False)
        menu.popup(QCursor.pos())

    def _next(self, wanted: Option) -> int:
        """Input whose feature is clicked next."""
        return min(len(self._places), len(wanted.wants) - 1)

    def _look_ahead(self, place: Place | None) -> None:
        """Show what a click here would make."""
        part, wanted = self._bench.tray.current, self._wanted
        if wanted is None:
            # what is previewed then is not of the pointer
            return
        if place is None or part is None or wanted.more in ("path", "traced"):
            self.preview.forget()
            return
        self.preview.ask(PreviewRequest(self._bench.document.plan, part.engine, wanted, (*self._places, place)))

    def _propose(self) -> None:
        """Propose the rest in the background."""
        part, wanted = self._bench.tray.current, self._wanted
        if part is None or wanted is None:
            return
        plan, engine, places = self._bench.document.plan, part.engine, tuple(self._places)
        shown = self._bench.shown
        index = shown.index if shown is not None else -1
        self.leave()

        parts = [KnownPart(p.name, p.engine, p.tag == "good") for p in self._bench.tray.parts]
        # on an intensity view, printed edges are meant
        printed = {"printed": True} if wanted.printed and self._bench.colour == "intensity" else {}

        def work(task: Task) -> Any:
            if wanted.on == ("profile",):
                made = wanted.propose(OnProfile(plan, engine, index), *places)
            else:
                made = wanted.propose(plan, engine, *places, **printed)
            return tried(made, engine, parts)

        def done(proposal: Proposal) -> None:
            self._add(f"New {wanted.name.lower()}", proposal)
            if proposal.doubts:
                self._doubt(" ".join(proposal.doubts))

        self._tasks.start(f"New {wanted.name.lower()}", work, done)
