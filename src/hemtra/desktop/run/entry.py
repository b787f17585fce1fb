"""Entry of the Run workspace: its tab, the edit lock, and its actions."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial
from typing import ClassVar

from hemtra.core.errors import HemtraError
from hemtra.desktop.documents.action import Action, always
from hemtra.desktop.documents.session import Prepare, Session
from hemtra.desktop.documents.workspace import Workspace
from hemtra.desktop.run.forms import RunForms
from hemtra.desktop.run.operator_screen import OperatorScreen
from hemtra.desktop.run.workspace import RunWorkspace
from hemtra.desktop.widgets.notifications import Notice


class RunEntry(Workspace):
    """Workspace of a running line."""

    name: ClassVar = "run"
    order: ClassVar = 3
    keys: ClassVar = "Alt+3"
    help: ClassVar = "A verdict per part on the running line."
    manual: ClassVar = "line.md"
    edits: ClassVar = False

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._page = RunWorkspace(session.bench, session.station_bench, session.notifications, session.tasks)
        self.forms = RunForms(session, self.page.bench)
        self.operator_screen: OperatorScreen | None = None
        self.starts_at_once = False
        """Whether the line starts when it is shown first: in the demo, where nothing is real."""
        for wanted, action in (
            (self.page.monitor_wanted, "run.io-module"),
            (self.page.signals_wanted, "plan.signals"),
            (self.page.lock_wanted, "run.lock"),
        ):
            wanted.connect(partial(session.trigger, action))
        session.records_changed.connect(self._use_records)

    @property
    def page(self) -> RunWorkspace:
        """What is shown."""
        return self._page

    def actions(self) -> Iterable[Action]:
        """The line, its signals, and the lock."""
        page, group = self.page, "Run"
        here = partial(Action, group=group, while_locked=True)

        def runs() -> bool:
            return page.production is not None

        yield here(
            "run.start",
            "Start or stop the line",
            do=self._start_or_stop,
            keys="Ctrl+R",
            help="Stopping finishes what was taken.",
        )
        yield here(
            "run.clear",
            "The belt is clear: start the line",
            do=page.start_on_a_clear_belt,
            enabled=lambda: page.belt_in_doubt,
            help="After the line was cut off.",
        )
        yield here("run.pause", "Pause or resume the line", do=page.pause_or_resume, enabled=runs)
        yield here("run.lot", "New lot", do=page.new_lot, enabled=runs, help="Parts belong to it from now on.")
        yield here(
            "run.io-module",
            "I/O monitor",
            do=self.forms.show_io_window,
            enabled=lambda: bool(self.session.station_bench.document.value.io.host),
            help="Shows and forces each terminal, to check the wiring.",
        )
        yield here(
            "run.lock",
            "Lock or unlock editing",
            do=lambda: self.forms.ask_pin(self._lock, self._unlock),
            help="PIN required; operators can still run and view.",
        )
        yield Action(
            "plan.signals",
            "Signals…",
            group,
            self.forms.show_signals,
            always,
            help="Digital and analogue outputs per part.",
        )

        yield here(
            "run.operator-screen",
            "Operator's screen",
            do=self._show_operator_screen,
            keys="F11",
            help="Verdict and part, to be read from afar, on all of another monitor where there is one.",
        )

    def _show_operator_screen(self) -> None:
        if self.operator_screen is None:
            self.operator_screen = OperatorScreen(self.page.bench, self.session.window)
        self.operator_screen.open(full=True)

    def entered(self) -> None:
        """Start, where that was wanted."""
        if self.starts_at_once:
            self.starts_at_once = False
            self.page.start_or_stop()

    def refresh(self) -> None:
        """Update which actions the lock allows."""
        locked = self.session.lock.locked
        self.page.lock_button.setText("Unlock editing…" if locked else "Lock editing…")
        self.page.signals_button.setEnabled(not locked)

    def stop(self) -> None:
        """Finish what was taken, and close what stands open beside the window."""
        self.forms.close()
        if self.operator_screen is not None:
            self.operator_screen.close()
        self.page.stop()
        self.forms.stop_block()

    def _use_records(self, db: str, prepare: Prepare | None) -> None:
        self.page.db = db

    def _start_or_stop(self) -> None:
        self.session.show(self.name)
        self.page.start_or_stop()

    def _lock(self, pin: str) -> str:
        try:
            self.session.lock.lock(pin)
        except HemtraError as error:
            return str(error)
        # what stands open beside the window could be edited in
        self.forms.close()
        self.session.show(self.name)
        return ""

    def _unlock(self, pin: str) -> str:
        wrong = self.session.lock.unlock(pin)
        if not wrong:
            self.session.notifications.post(Notice("Editing is unlocked.", "info"))
        self.session.show(self.name)
        return wrong


WORKSPACE = RunEntry
