"""Entry of the Records workspace: its tab, and its actions."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial
from typing import ClassVar

from hemtra.desktop.documents.action import Action
from hemtra.desktop.documents.session import Prepare, Session
from hemtra.desktop.documents.workspace import Workspace
from hemtra.desktop.records.lines_window import LinesWindow
from hemtra.desktop.records.reevaluate_form import ReevaluateForm
from hemtra.desktop.records.reevaluations_window import ReevaluationsWindow
from hemtra.desktop.records.workspace import RecordsWorkspace
from hemtra.storage.records.reevaluations import KeptReevaluation


class RecordsEntry(Workspace):
    """Workspace of past parts."""

    name: ClassVar = "records"
    order: ClassVar = 4
    keys: ClassVar = "Alt+4"
    help: ClassVar = "Recorded parts, trends and lots of the lines."
    manual: ClassVar = "look-back.md"
    edits: ClassVar = False

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._page = RecordsWorkspace(session.bench, session.notifications, session.tasks)
        self.page.record_actions.scans_wanted.connect(session.plans.add_scans)
        session.records_changed.connect(self._use_records)
        self.page.record_actions.follow_all()

    @property
    def page(self) -> RecordsWorkspace:
        """What is shown."""
        return self._page

    def unit_changed(self) -> None:
        """The trend has its numbers in the unit."""
        self.page.bench.trend_changed.emit()

    def actions(self) -> Iterable[Action]:
        """Reports, exports, other records."""
        page = self.page
        record_actions, here = page.record_actions, partial(Action, group="Records", while_locked=True)

        def shown() -> bool:
            return self.is_shown

        yield here("records.refresh", "Refresh records", do=page.show_now, enabled=shown, keys="F5")
        for name, title, do, button, text in (
            (
                "report",
                "Report of the lot…",
                record_actions.ask_report,
                page.report_button,
                "A PDF with sheet, trends and evidence.",
            ),
            (
                "export",
                "Export the lots…",
                record_actions.ask_export,
                page.export_button,
                "CSV, JSON or QIF 3.0.",
            ),
            (
                "reevaluate",
                "Re-evaluate lot with current plan",
                record_actions.reevaluate,
                page.reevaluate_button,
                "Lists what changes.",
            ),
            (
                "reevaluate_with",
                "Re-evaluate with…",
                self.ask_reevaluate,
                page.reevaluate_with_button,
                "Lots by any plan, here or on a cluster; continues when the window is closed.",
            ),
            (
                "failed",
                "Failed parts to the tray",
                page.failed_to_tray,
                page.tray_button,
                "Those whose scans were kept.",
            ),
            (
                "merge",
                "Merge records…",
                record_actions.ask_merge,
                page.merge_button,
                "Adds new parts from another computer.",
            ),
        ):
            can = partial(lambda button: self.is_shown and button.isEnabled(), button)
            yield here(f"records.{name}", title, do=do, enabled=can, help=text)
        yield here(
            "records.reevaluations",
            "Re-evaluations…",
            do=self.show_reevaluations,
            help="Those on record and under way, by whom, and what came of them.",
        )
        yield here(
            "records.lines",
            "Lines…",
            do=self.show_lines,
            help="What each line that writes into these records does now.",
        )
        yield here("records.open", "Open records…", do=page.ask_open, enabled=shown, help="Of another file.")

    def ask_reevaluate(self) -> ReevaluateForm:
        """Ask what to re-evaluate."""
        return self.page.record_actions.ask_reevaluate(self.session.window)

    def show_reevaluations(self) -> ReevaluationsWindow:
        """Beside the window; one that is opened is shown in the workspace."""
        session = self.session
        window = ReevaluationsWindow(lambda: session.records_at, session.tasks, session.window)
        window.wanted.connect(self._open_reevaluation)
        window.show()
        return window

    def _open_reevaluation(self, kept: KeptReevaluation) -> None:
        self.session.show("records")
        self.page.record_actions.open_reevaluation(kept, self.session.records_at)

    def show_lines(self) -> LinesWindow:
        """Beside the window."""
        window = LinesWindow(lambda: self.session.records_at, self.session.tasks, self.session.window)
        window.show()
        return window

    def entered(self) -> None:
        """Refresh the records."""
        self.page.show_now()

    def refresh(self) -> None:
        """Update which actions are possible."""
        self.page.locked = self.session.lock.locked
        self.page.refresh_buttons()

    def stop(self) -> None:
        """Close the database."""
        self.page.stop()

    def _use_records(self, db: str, prepare: Prepare | None) -> None:
        self.page.db, self.page.prepare = db, prepare


WORKSPACE = RecordsEntry
