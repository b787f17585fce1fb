"""Actions on records: reports, exports, re-evaluation, parts to the tray, merging.

All of it beside the window, with progress and cancel; the outcome is posted as a notice.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QWidget

from hemtra.core.errors import HemtraError
from hemtra.desktop.background.evaluation import taught_plan
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.models.observe import Signal
from hemtra.desktop.models.records_bench import RecordsBench
from hemtra.desktop.records.reevaluate_form import Choice, ReevaluateForm
from hemtra.desktop.widgets import units
from hemtra.desktop.widgets.notifications import Notice, Notifications
from hemtra.runtime.lot_reevaluation import LotReevaluation, reevaluate, reopened, save_changes
from hemtra.runtime.reevaluation import ReevaluatedPart, scan_of
from hemtra.runtime.reevaluation_jobs import Job, Order, all_jobs, begin
from hemtra.storage.exports import FORMATS, export
from hemtra.storage.plans import load_plan
from hemtra.storage.records import Records
from hemtra.storage.records.merging import merge
from hemtra.storage.records.pages import NOT_PASS, Filter, page
from hemtra.storage.records.reevaluations import KeptReevaluation
from hemtra.storage.records.store import PartRecord
from hemtra.storage.revisions import author
from hemtra.storage.settings import files_begin_at, load_settings
from hemtra.storage.tables import STYLES

TRAY_MOST = 40
"""Parts that go to the tray at once; more would only slow every edit down."""
LOOK_MS = 200
"""Interval between looks at a re-evaluation under way, ms."""
FAILED_MOST = 1000
"""Number of failed parts searched for scans."""


class RecordActions:
    """Actions on the records and lots of a workspace; `records` is None where there are none."""

    def __init__(
        self,
        bench: RecordsBench,
        plans: WorkspaceModel,
        notifications: Notifications,
        tasks: Tasks,
        parent: QWidget,
    ) -> None:
        self.records: Records | None = None
        self.scans_wanted, self.reevaluated, self.merged = Signal(), Signal(), Signal()
        """Paths for the tray; what another plan makes of a lot; other records were merged."""
        self._bench, self._plans = bench, plans
        self._notifications, self._tasks, self._parent = notifications, tasks, parent

    # -- merging ----------------------------------------------------------------------------------

    def ask_merge(self) -> None:
        """Ask which records to merge."""
        name = self.asked_for("Merge records")
        if name:
            self.merge(Path(name))

    def asked_for(self, title: str) -> str:
        """A file of records that the user chooses; '' for none."""
        start = str(files_begin_at()) if self.records is None else str(Path(self.records.name).parent)
        return QFileDialog.getOpenFileName(self._parent, title, start, "Records (*.db)")[0]

    def merge(self, other: Path) -> None:
        """Merge what is new in another database."""
        records = self.records
        if records is None:
            return

        def done(words: str) -> None:
            self._notifications.post(Notice(words, "info"))
            self.merged.emit()

        self._tasks.start(f"Merging {other.name}", lambda task: merge(records, other, task.report).words, done)

    # -- on paper and in files --------------------------------------------------------------------

    def ask_report(self) -> None:
        """Ask where the report of the chosen lot goes."""
        records, lot = self.records, self._bench.lot
        if records is None or lot is None:
            return

        def save(path: Path) -> None:
            def work(task: Task) -> bool:
                from hemtra.runtime.reporting import report_lot  # loads the PDF library

                return report_lot(records, lot, path, task.report, units.current())

            self._tasks.start(
                f"Report of {lot.name}",
                work,
                lambda done: self._tell_saved(path, done),
            )

        self._ask_file(f"{lot.name}.pdf", "PDF (*.pdf)", save)

    def ask_part_report(self, seen: ReevaluatedPart) -> None:
        """Ask where the report of a part goes."""
        records, part = self.records, seen.sheet.part
        if records is None:
            return

        def save(path: Path) -> None:
            def work(_: Task) -> None:
                from hemtra.runtime.reporting import report_part  # loads the PDF library

                report_part(records, part.id, path, units.current())

            self._tasks.start(
                "Report",
                work,
                lambda _: self._tell_saved(path, True),
            )

        self._ask_file(f"{seen.sheet.lot.name} part {part.number}.pdf", "PDF (*.pdf)", save)

    def ask_first_article(self, seen: ReevaluatedPart) -> None:
        """Ask where the first-article report of a part goes."""
        records, part = self.records, seen.sheet.part
        if records is None:
            return

        def save(path: Path) -> None:
            def work(_: Task) -> None:
                from hemtra.runtime.reporting import first_article  # loads the PDF library

                first_article(records, part.id, path, units.current())

            self._tasks.start(
                "First-article report",
                work,
                lambda _: self._tell_saved(path, True),
            )

        name = f"{seen.sheet.lot.name} part {part.number} first article.pdf"
        self._ask_file(name, "PDF (*.pdf);;Workbook (*.xlsx)", save)

    def ask_export(self) -> None:
        """Ask where the chosen lots are exported to; the name of the file says in which format."""
        records, lots = self.records, self._bench.lots
        if records is None or not lots:
            return

        def save(path: Path) -> None:
            self._tasks.start(
                f"Exporting to {path.name}",
                lambda task: export(records, path, lots, task.report, STYLES[load_settings().csv]),
                lambda done: self._tell_saved(path, done),
            )

        kinds = ";;".join(f"{title} (*{suffix})" for suffix, (title, _) in FORMATS.items() if suffix != ".xml")
        self._ask_file(f"{lots[0].name}.csv" if len(lots) == 1 else "records.csv", kinds, save)

    def ask_save_changes(self, found: LotReevaluation) -> None:
        """Ask where the list of what changes goes."""

        def save(path: Path) -> None:
            self._tasks.start(
                "Saving", lambda task: save_changes(path, found), lambda _: self._tell_saved(path, True)
            )

        self._ask_file(f"{found.lot.name} re-evaluated.csv", "Table (*.csv)", save)

    # -- another plan -----------------------------------------------------------------------------

    def reevaluate(self) -> None:
        """Evaluate the chosen lot by the plan that is open."""
        records, lot, document = self.records, self._bench.lot, self._plans.document
        if records is None or lot is None:
            return
        plan, teacher = document.plan, document.teacher
        self._tasks.start(
            f"Evaluating {lot.name} again",
            lambda task: reevaluate(records, lot, taught_plan(plan, teacher), task.report, author=author()),
            lambda found: None if found is None else self.reevaluated.emit(found),
        )

    def ask_reevaluate(self, parent: QWidget) -> ReevaluateForm:
        """Ask by which plan, of which lots, and where."""
        form = ReevaluateForm(self._bench, self._plans.document.plan, self.start_reevaluation, parent)
        form.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        form.show()
        return form

    def start_reevaluation(self, choice: Choice) -> None:
        """Start a process that re-evaluates lots, and follow it."""
        records, document = self.records, self._plans.document
        if records is None:
            return
        plan, teacher, db = document.plan, document.teacher, records.url

        def work(task: Task) -> Job:
            wanted = taught_plan(plan, teacher) if choice.plan is None else load_plan(choice.plan)
            lots = {lot.id: lot.name for lot in choice.lots}
            how = {"on": choice.on, "jobs": choice.jobs, "scans": choice.scans}
            order = Order(plan=wanted.name, lots=lots, author=author(), **how)
            return begin(order, wanted, db)

        self._tasks.start("Starting the re-evaluation", work, self.follow)

    def follow(self, job: Job) -> None:
        """Show progress and outcome of a re-evaluation. Cancel stops it; closing the window does not."""
        names = list(job.order.lots.values())
        label = f"Re-evaluating {names[0] if len(names) == 1 else f'{len(names)} lots'}"
        self._tasks.start(label, partial(_followed, job), self._announce, background=True)

    def follow_all(self) -> None:
        """Follow what other windows left under way, and say what ended since."""
        for job in all_jobs():
            if not job.was_announced:
                self.follow(job)

    def _announce(self, job: Job | None) -> None:
        if job is None:
            return
        job.mark_announced()
        state = job.state
        wrong = bool(state.trouble) or not state.ended
        text = state.words if state.ended else LOST.format(log=job.log)
        shown = (("Show", "records.reevaluations"),)
        self._notifications.post(Notice(text, "error" if wrong else "info", shown))

    def open_reevaluation(self, kept: KeptReevaluation, db: str) -> None:
        """Show the changes of a re-evaluation that is on record in a database."""

        def work(task: Task) -> LotReevaluation:
            records = Records(db, create=False)
            try:
                return reopened(records, kept)
            finally:
                records.close()

        self._tasks.start("Opening the re-evaluation", work, self.reevaluated.emit)

    def failed_to_tray(self, chosen: list[PartRecord]) -> None:
        """Add the failed parts of the chosen lots to the tray, or only the selected ones of several."""
        records, wanted = self.records, Filter(lots=self._bench.filter.lots, verdicts=NOT_PASS)
        if len(chosen) > 1:
            self.to_tray(chosen)
        elif records is not None:
            self._tasks.start(
                "Failed parts", lambda task: page(records, wanted, most=FAILED_MOST).parts, self.to_tray
            )

    def to_tray(self, parts: list[PartRecord]) -> None:
        """Parts whose scans are present; a notice counts the missing ones."""
        paths, gone = [], ""
        for part in parts:
            try:
                paths.append(scan_of(part))
            except HemtraError as error:
                gone = gone or str(error)
        there = {held.path for held in self._plans.tray.parts}
        new = [path for path in dict.fromkeys(paths) if path not in there][:TRAY_MOST]
        if new:
            self.scans_wanted.emit(new)
        if not parts:
            text = "No part of these lots failed."
        elif not paths:
            text = f"None of the {len(parts)} parts has a scan. {gone}"
        else:
            text = f"{len(new)} of {len(parts)} parts go to the tray of the Plan workspace."
            if len(paths) > len(new):
                text += f" {len(paths) - len(new)} are there already, or too many at once."
            if len(parts) > len(paths):
                text += f" {len(parts) - len(paths)} have no scan."
        actions = (("Show the tray", "plan.show"),) if new else ()
        self._notifications.post(Notice(text, "info" if new else "error", actions))

    # -- asking and reporting -----------------------------------------------------------------------

    def _ask_file(self, name: str, kinds: str, save: Callable[[Path], None]) -> None:
        chosen, kind = QFileDialog.getSaveFileName(self._parent, "Save", str(files_begin_at() / name), kinds)
        if chosen:
            path = Path(chosen)
            save(path if path.suffix else path.with_suffix(kind.partition("*")[2].rstrip(")")))

    def _tell_saved(self, path: Path, done: object) -> None:
        if done:
            self._notifications.post(Notice(f"Saved as {path}.", "info"))


LOST = "The re-evaluation broke off; {log} may say why. Started again, it continues where it was."


def _followed(job: Job, task: Task) -> Job | None:
    """Wait for the end of a job; None where the window closes before."""
    while job.is_running:
        state = job.state
        if not task.report(state.done, max(state.of, 1), state.what or "starting"):
            if task.leaving:
                return None
            job.stop()
        task.msleep(LOOK_MS)
    return job
