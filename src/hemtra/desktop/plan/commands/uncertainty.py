"""Works out the uncertainty of all rows on the scans of the tray, beside the window."""

from __future__ import annotations

from collections.abc import Callable
from itertools import islice

from hemtra.core.evaluation.uncertainty import MOST_SCANS, Scales, budgets, with_budgets
from hemtra.core.plan.document import Plan
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.widgets.notifications import Notice, Notifications


class UncertaintyStudy:
    """The uncertainty action; its result is one edit of the plan."""

    def __init__(
        self,
        bench: WorkspaceModel,
        tasks: Tasks,
        notifications: Notifications,
        edit: Callable[[str, Callable[[], Plan]], bool],
    ) -> None:
        self._bench, self._tasks, self._notifications, self._edit = bench, tasks, notifications, edit

    def can_start(self) -> bool:
        """Whether there is something measured on a reference scan."""
        document = self._bench.document
        return document.teacher is not None and any(row.step for row in document.plan.sheet)

    def start(self) -> None:
        """Try the plan on copies of the reference scan and of good parts of the tray."""
        document = self._bench.document
        teacher, plan = document.teacher, document.plan
        if teacher is None:
            self._notifications.post(
                Notice("Uncertainty is worked out on the reference scan; add a good part.")
            )
            return
        tray = (part.scan.data for part in self._bench.tray.parts if part.tag in ("good", "unknown"))
        others = (data for data in tray if not data.is_same(teacher.data))
        scans = [teacher.data, *islice(others, MOST_SCANS - 1)]
        scales = Scales.of(document.reference.station if document.reference is not None else {})

        def work(task: Task) -> Plan:
            return with_budgets(plan, budgets(plan, scans, scales, progress=task.report))

        def done(made: Plan) -> None:
            if document.plan is not plan:
                self._notifications.post(Notice("The plan has changed meanwhile; work it out again."))
            elif made != plan:
                known = sum(row.budget is not None for row in made.sheet)
                self._edit(f"uncertainty of {known} rows", lambda: made)

        self._tasks.start("Working out uncertainty", work, done)
