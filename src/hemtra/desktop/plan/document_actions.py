"""Actions on a plan as a whole: open, save, inspect modes, revisions."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial
from pathlib import Path

from PySide6.QtWidgets import QInputDialog

from hemtra.core.plan.document import Plan
from hemtra.desktop.documents.action import Action
from hemtra.desktop.documents.session import Session
from hemtra.desktop.plan.panels.gauge_window import GaugeWindow
from hemtra.desktop.plan.panels.nominal_form import NominalForm
from hemtra.desktop.plan.panels.revisions_window import RevisionsWindow
from hemtra.desktop.plan.panels.shake_window import ShakeWindow
from hemtra.desktop.plan.workspace import PlanWorkspace
from hemtra.desktop.widgets.notifications import Notice
from hemtra.runtime.demo import PLAN_FILE, RUNNER_PLAN_FILE, RUNNER_STATION_FILE, STATION_FILE


class DocumentActions:
    """Records of the actions, in the order of the menu."""

    def __init__(self, session: Session, workspace: PlanWorkspace) -> None:
        self._session, self._workspace, self._bench = session, workspace, session.bench

    def all(self) -> Iterable[Action]:
        """Demo and files, how parts are inspected, saves and revisions."""
        yield from self._of_files()
        yield from self._of_the_way()
        yield from self._of_studies()
        yield from self._of_saves()

    def _has_part(self) -> bool:
        return self._bench.tray.current is not None

    def _has_plan(self) -> bool:
        return self._has_part() or bool(self._bench.document.plan.steps)

    def _of_files(self) -> Iterable[Action]:
        session, group = self._session, "Plan"
        yield Action(
            "plan.demo",
            "Open the demo",
            group,
            partial(self._open_demo, PLAN_FILE, STATION_FILE),
            help="A simulated pump cover with 24 recorded parts.",
        )
        yield Action(
            "plan.demo-runner",
            "Open profile-sequence demo",
            group,
            partial(self._open_demo, RUNNER_PLAN_FILE, RUNNER_STATION_FILE),
            help="Drawer runners, 500 profiles each.",
        )
        yield Action(
            "plan.open", "Open plan…", group, session.plans.ask_open, keys="Ctrl+O", help="With its tray."
        )
        yield Action(
            "plan.new",
            "New plan",
            group,
            session.plans.new,
            keys="Ctrl+Shift+N",
            help="Start from the parts in the tray.",
        )

    def _of_the_way(self) -> Iterable[Action]:
        document, ways, group = self._bench.document, self._workspace.ways, "Plan"
        yield Action(
            "plan.by-profile",
            "Inspect profile by profile…",
            group,
            ways.ask_by_profile,
            self._has_part,
            help="A scan is then a sequence of profiles, each inspected on its own.",
        )
        yield Action(
            "plan.whole",
            "Inspect parts as a whole",
            group,
            ways.whole,
            lambda: document.plan.by_profile is not None,
            help="A scan is then one height map.",
        )
        yield Action(
            "plan.not-proven",
            "Treat NOT PROVEN as…",
            group,
            ways.show_not_proven,
            help="Part verdict if a value is within its uncertainty of a limit.",
        )
        yield Action(
            "plan.master-part",
            "Use this part as master part…",
            group,
            ways.ask_master_part,
            lambda: self._bench.tray.current is not None and bool(document.plan.sheet),
            help="A line then passes no part while the master part is overdue or has failed.",
        )
        yield Action(
            "plan.no-master-part",
            "Ask for no master part",
            group,
            ways.drop_master_part,
            lambda: document.plan.master_part is not None,
            help="Lines no longer wait for it.",
        )

    def _of_studies(self) -> Iterable[Action]:
        document, study, group = self._bench.document, self._workspace.uncertainty, "Plan"
        yield Action(
            "plan.uncertainty",
            "Work out uncertainty",
            group,
            study.start,
            study.can_start,
            keys="Ctrl+U",
            help="Of all rows, on copies of the scans in the tray: noise, spacing, anchors, form floor.",
        )
        yield Action(
            "plan.nominal",
            "Nominal surface from a mesh…",
            group,
            self.ask_nominal,
            lambda: document.reference is not None,
            help="The model of the drawing, STL or PLY, placed on the reference scan to compare parts with.",
        )
        yield Action(
            "plan.gauge",
            "Gauge study…",
            group,
            self.show_gauge,
            lambda: any(row.step for row in document.plan.sheet),
            help="Repeatability and reproducibility of all rows, from scans or from lots on record.",
        )
        yield Action(
            "plan.shake",
            "Shake test…",
            group,
            self.show_shake,
            study.can_start,
            help="Try the plan on worse copies of the tray: turned, tilted, noisy, with dropouts and dirt.",
        )

    def ask_nominal(self) -> NominalForm:
        """Prompt for the mesh and how it is placed."""
        session, document = self._session, self._bench.document
        session.show("plan")
        form = NominalForm(
            document, session.tasks, self._workspace.edit, str(session.plans.folder), session.window
        )
        form.show()
        return form

    def show_gauge(self) -> GaugeWindow:
        """Open it; it says what is needed."""
        session = self._session
        session.show("plan")
        window = GaugeWindow(
            self._bench, session.tasks, lambda: session.records_at, self._workspace.edit, session.window
        )
        window.show()
        return window

    def show_shake(self) -> ShakeWindow:
        """Open it, and begin."""
        session = self._session
        session.show("plan")
        window = ShakeWindow(self._bench, session.tasks, self._workspace.edit, session.window)
        window.show()
        return window

    def _of_saves(self) -> Iterable[Action]:
        session, group = self._session, "Plan"
        yield Action(
            "plan.save",
            "Save plan",
            group,
            self._save,
            lambda: session.shown == "station" or self._has_plan(),
            keys="Ctrl+S",
        )
        yield Action(
            "plan.save-comment",
            "Save plan with a comment…",
            group,
            self._ask_comment,
            self._has_plan,
            help="It stands beside the revision; without one, what was done since the last save does.",
        )
        yield Action(
            "plan.revisions",
            "Revisions…",
            group,
            self.show_revisions,
            self._has_plan,
            keys="Ctrl+H",
            help="Compare any two, see which verdicts change, go back.",
        )
        yield Action(
            "plan.save-as",
            "Save plan as…",
            group,
            session.plans.ask_save,
            self._has_plan,
            keys="Ctrl+Shift+S",
        )

    def _open_demo(self, plan: str, station: str) -> None:
        def done(folder: Path) -> None:
            self._session.show("plan")
            self._session.use_demo(folder, plan, station)

        self._session.plans.open_demo(done)

    def _save(self) -> None:
        if self._session.shown == "station":
            self._session.stations.save()
        else:
            self._session.plans.save()

    def _ask_comment(self) -> None:
        window = self._session.window
        words, taken = QInputDialog.getText(window, "Save plan", "Changes, for the history of the plan:")
        if taken:
            self._session.plans.save(words)

    def show_revisions(self) -> RevisionsWindow:
        """The revisions of the plan, to compare and to go back to."""
        session = self._session
        session.show("plan")
        window = RevisionsWindow(self._bench, session.tasks, lambda: session.records_at, session.window)

        def go_back(number: int, plan: Plan) -> None:
            if session.edit_plan(f"going back to revision {number}", lambda: plan):
                text = f"The plan is as in revision {number} now; it is saved when you save it."
                session.notifications.post(Notice(text, "info", (("Undo", "edit.undo"),)))

        window.gone_back.connect(go_back)
        window.show()
        return window
