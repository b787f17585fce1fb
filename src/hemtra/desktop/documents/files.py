"""Opening and saving beside the window."""

from __future__ import annotations

import math
import time
from dataclasses import dataclass
from pathlib import Path

from hemtra.core.errors import HemtraError
from hemtra.core.maps.importing import SeveralPages, Unstated
from hemtra.core.maps.scan import Scan
from hemtra.core.plan.document import Plan
from hemtra.desktop.background.tasks import Task
from hemtra.desktop.models.tray import TrayPart
from hemtra.runtime import demo
from hemtra.storage.plans import PlanFile, load_plan_file, save_plan
from hemtra.storage.scans import load_scan
from hemtra.storage.trays import TrayEntry, load_tray, save_tray

BETWEEN = 0.5
"""Time between two handings over of parts, s: each time the window lists all its parts and tries them."""


@dataclass(frozen=True)
class Opened:
    """A plan file that has been read, and what could not be."""

    path: Path
    held: PlanFile
    troubles: tuple[str, ...] = ()


@dataclass(frozen=True)
class OpenPlan:
    """Read a plan, then its tray part by part, handing each over as soon as it is there."""

    path: Path

    def __call__(self, task: Task) -> Opened:
        """The plan first, parts as they come; troubles with single parts do not stop the others."""
        held = load_plan_file(self.path)
        task.produce(Opened(self.path, held))
        entries = load_tray(self.path)
        troubles = load_parts(task, entries)
        if not entries and held.reference is not None:
            task.produce([TrayPart(held.reference, None)])
        return Opened(self.path, held, tuple(troubles))


def load_parts(task: Task, entries: list[TrayEntry], open_questions: list[Path] | None = None) -> list[str]:
    """Read scans into the tray, the first at once and then several together; answers with what went wrong, a
    sentence each.

    open_questions: takes the files that do not say all that is needed, where somebody may be asked.
    """
    troubles: list[str] = []
    read: list[TrayPart] = []
    handed = -math.inf
    for done, entry in enumerate(entries):
        if not task.report(done, len(entries), f"reading {entry.path.name}"):
            break
        try:
            read.append(TrayPart(load_scan(entry.path), entry.path, entry.tag))
        except HemtraError as error:
            if isinstance(error, Unstated | SeveralPages) and open_questions is not None:
                open_questions.append(entry.path)
            else:
                troubles.append(str(error))
        if read and time.monotonic() - handed > BETWEEN:
            task.produce(read)
            read, handed = [], time.monotonic()
    if read:
        task.produce(read)
    return troubles


def make_demo(task: Task) -> Path | None:
    """The folder of the demo, its files written first where needed; None when cancelled."""
    folder = demo.demo_folder()
    if not demo.is_complete(folder) and not demo.write_demo(folder, task.report):
        return None
    return folder


@dataclass(frozen=True)
class SavePlan:
    """Write a plan and its tray; both as they were when this was asked."""

    path: Path
    plan: Plan
    reference: Scan | None
    tray: tuple[TrayEntry, ...]
    comment: str = ""
    before: Path | None = None
    """The file whose revisions it continues from."""

    def __call__(self, task: Task) -> SavePlan:
        """Itself, once everything is on disk."""
        save_plan(self.plan, self.path, self.reference, comment=self.comment, before=self.before)
        if self.tray:
            save_tray(self.path, list(self.tray))
        return self
