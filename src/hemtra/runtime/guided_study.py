"""A guided gauge study under way: parts presented one by one, evaluated as they come, and kept."""

from __future__ import annotations

import threading
import time
from collections import Counter, deque
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.gauge.guided import GuidedStudy, Presentation, doubts
from hemtra.core.gauge.study import Presented
from hemtra.core.maps.scan import Scan
from hemtra.core.plan.document import Plan
from hemtra.core.progress import Progress
from hemtra.runtime.feeds import LOOK, WatchFeed
from hemtra.runtime.gauge import presented
from hemtra.storage.scans import load_scan
from hemtra.storage.study_folders import entries_of, keep_run, keep_study, load_study
from hemtra.virtual.gauge_demo import scan_presented

GoOn = Callable[[], bool]
"""Whether to continue waiting."""


class Presenter(Protocol):
    """Source of a study's scans."""

    by_itself: bool
    """Whether nobody has to put the parts there; doubtful runs are then repeated once."""

    def scan_of(self, one: Presentation, go_on: GoOn) -> Scan | None:
        """The scan of the part that was requested, as soon as there is one; None where it was stopped."""


class SimulatedCovers:
    """Pump covers of the demo station; operators are poses. Each time it is requested, a run scans anew."""

    by_itself = True

    def __init__(self, parts: tuple[str, ...]) -> None:
        self._numbers: Mapping[str, int] = {name: k for k, name in enumerate(parts, 1)}
        self._asked: Counter[Presentation] = Counter()

    def scan_of(self, one: Presentation, go_on: GoOn) -> Scan | None:
        """At once."""
        self._asked[one] += 1
        return scan_presented(self._numbers[one.part], one.operator, one.trial, self._asked[one])


class IncomingScans:
    """A folder that a sensor's program saves scans in: each new one is the part that was requested."""

    by_itself = False

    def __init__(self, folder: Path) -> None:
        """Ignore scans already in the folder. Raises `FileError` without such a folder."""
        known = {str(path): time.time() for path in folder.iterdir()} if folder.is_dir() else {}
        self._feed = WatchFeed(folder, known)
        self._waiting: deque[Path] = deque()

    def scan_of(self, one: Presentation, go_on: GoOn) -> Scan | None:
        """The oldest that came. Raises `FileError` where it cannot be read."""
        while not self._waiting:
            if not go_on():
                return None
            self._waiting.extend(self._feed.complete())
            time.sleep(LOOK)
        return load_scan(self._waiting.popleft())


@dataclass(frozen=True)
class Run:
    """A part was presented: the result, and what speaks against it."""

    one: Presentation
    found: Presented
    doubts: tuple[str, ...]


@dataclass
class StudyRun:
    """A study in its folder; `repeat` may be called from another thread than `work`."""

    plan: Plan
    folder: Path
    presenter: Presenter
    study: GuidedStudy
    found: dict[Presentation, Presented] = field(default_factory=dict)
    _lock: threading.Lock = field(default_factory=threading.Lock)
    _repeated: set[Presentation] = field(default_factory=set)

    @classmethod
    def of(cls, plan: Plan, folder: Path, presenter: Presenter, progress: Progress) -> StudyRun:
        """With what the plan finds on the scans that were taken before. Raises `FileError`, `HemtraError`."""
        study = load_study(folder)
        known = presented(plan, entries_of(folder, study), progress)
        return cls(plan, folder, presenter, study, dict(zip(study.taken, known, strict=True)))

    def work(self, go_on: GoOn, said: Callable[[Presentation | Run], None]) -> bool:
        """Request one part after the other and keep what comes, until all were presented or it is stopped.

        said: gets what is requested, then what came of it. Whether all were presented. A scan that cannot be
        read is a doubtful run that is requested again. Raises `FileError` where nothing can be kept.
        """
        while (one := self.study.next) is not None:
            if not go_on():
                return False
            said(one)
            try:
                scan = self.presenter.scan_of(one, go_on)
            except HemtraError as error:
                failed = Presented(one.part, one.operator, one.trial, error=str(error))
                said(Run(one, failed, (str(error),)))
                if self.presenter.by_itself:
                    raise
                continue
            if scan is None:
                return False
            said(self._kept(one, scan))
        return True

    def _kept(self, one: Presentation, scan: Scan) -> Run:
        result = Engine(scan.data, scan.serial).run(self.plan)
        now = Presented(one.part, one.operator, one.trial, str(result.verdict), result.characteristics)
        against = tuple(doubts(now, [found for other, found in self.found.items() if other != one]))
        with self._lock:
            self.study = keep_run(self.folder, self.study, one, scan)
            self.found[one] = now
        if against and self.presenter.by_itself and one not in self._repeated:
            self._repeated.add(one)
            self.repeat(one)
        return Run(one, now, against)

    def repeat(self, one: Presentation) -> None:
        """Request a run again, next."""
        with self._lock:
            self.study = keep_study(self.folder, self.study.with_again(one))

    @property
    def results(self) -> list[Presented]:
        """The result so far, in the order of parts, operators and trials."""
        with self._lock:
            return self.study.sorted(list(self.found.values()))
