"""Re-evaluations as processes of their own, which continue when the window that ordered them is closed.

Each has a folder in the user's state folder: what was ordered, the plan, and what came of it so far.
"""

from __future__ import annotations

import fcntl
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path

import platformdirs
from pydantic import BaseModel, ValidationError

from hemtra.core.errors import FileError, HemtraError
from hemtra.core.plan.document import Plan
from hemtra.core.progress import pace
from hemtra.runtime.crews import Crew, crew_for
from hemtra.runtime.lot_reevaluation import JOBS, LotReevaluation, reevaluate
from hemtra.storage.files import make_folder, parsed_json, read_text, write_text
from hemtra.storage.plans import load_plan, save_plan
from hemtra.storage.records import Records
from hemtra.storage.records.reevaluations import digest_of
from hemtra.storage.records.store import Lot

ORDER, PLAN, STATE, LOG = "order.json", "plan.hplan", "state.json", "log.txt"
"""Files of a job: what was ordered, by which plan, what came of it, and messages."""
LOCK, STOP, ANNOUNCED = "lock", "stop", "announced"
"""Marks of a job: locked by its process, asked to stop, its end announced in a window."""
FILES = (ORDER, PLAN, STATE, LOG, LOCK, STOP, ANNOUNCED)
LARGEST = 1 << 22
KEPT = 20
"""Jobs that have ended and stay in the folder."""
EVERY = 0.25
"""Interval between updates of the state, and between looks at a request to stop, s."""
SOON = 1.0
"""Time that work has to stop by itself before it is interrupted, s."""


class Order(BaseModel):
    """What is to be re-evaluated, and where.

    digest: of the plan, see `digest_of`. lots: keys and names. on: address of a cluster, “local” for one
    started here, empty for processes of this computer, of which there are `jobs`. scans: folder or address that
    the scans have been moved to, empty where they lie as on record. began: s since 1970.
    """

    plan: str
    digest: str = ""
    lots: dict[int, str]
    author: str
    on: str = ""
    jobs: int = JOBS
    scans: str = ""
    began: float = 0.0


class LotDone(BaseModel):
    """What came of a lot: a summary, the number of parts that change, and of those with another verdict."""

    lot: str
    words: str
    changes: int
    flips: int


class JobState(BaseModel):
    """Progress of a job: parts of the lot that is under way, and lots that are done.

    ended: s since 1970; 0 while it is under way. trouble: why it ended early, as a sentence.
    """

    done: int = 0
    of: int = 0
    what: str = ""
    lots: list[LotDone] = []
    ended: float = 0.0
    trouble: str = ""

    @property
    def words(self) -> str:
        """Summarise what came of it."""
        changes, flips = sum(one.changes for one in self.lots), sum(one.flips for one in self.lots)
        if len(self.lots) == 1 and not self.trouble:
            return f"{self.lots[0].lot}: {self.lots[0].words}"
        count = f"Lots re-evaluated: {len(self.lots)}. Parts that change: {changes}; another verdict: {flips}."
        return f"{count if self.lots else 'No lot was re-evaluated.'} {self.trouble}".rstrip()


@dataclass(frozen=True)
class Job:
    """A re-evaluation by its folder."""

    folder: Path
    order: Order

    @property
    def state(self) -> JobState:
        """How far it is."""
        try:
            return JobState.model_validate(parsed_json(read_text(self.folder / STATE, LARGEST), "damaged"))
        except (FileError, ValidationError):
            return JobState()

    @property
    def is_running(self) -> bool:
        """Whether its process is there."""
        with suppress(OSError), (self.folder / LOCK).open("rb") as lock:
            try:
                fcntl.flock(lock, fcntl.LOCK_SH | fcntl.LOCK_NB)
            except BlockingIOError:
                return True
        return False

    @property
    def was_announced(self) -> bool:
        """Whether a window has announced how it ended."""
        return (self.folder / ANNOUNCED).exists()

    def mark_announced(self) -> None:
        """Note that its end was announced."""
        with suppress(OSError):
            (self.folder / ANNOUNCED).touch()

    @property
    def log(self) -> Path:
        """File with what its process printed."""
        return self.folder / LOG

    def stop(self) -> None:
        """Ask it to stop; what it has found is kept, and a later one continues there."""
        with suppress(OSError):
            (self.folder / STOP).touch()


def jobs_folder() -> Path:
    """Folder of all jobs of this user."""
    return Path(platformdirs.user_state_dir("hemtra")) / "reevaluations"


def all_jobs() -> list[Job]:
    """Jobs in the order in which they were begun, the newest first; damaged ones are left out."""
    found = []
    for path in jobs_folder().glob(f"*/{ORDER}"):
        with suppress(FileError, ValidationError):
            order = Order.model_validate(parsed_json(read_text(path, LARGEST), "damaged"))
            found.append(Job(path.parent, order))
    return sorted(found, key=lambda job: job.order.began, reverse=True)


def begin(order: Order, plan: Plan, db: str) -> Job:
    """Start a process for an order; db: where the records are. Raises `HemtraError`.

    The address is handed to the process alone, since it may hold a password.
    """
    for old in [job for job in all_jobs() if not job.is_running][KEPT - 1 :]:
        _remove(old)
    folder = jobs_folder() / f"{time.strftime('%Y-%m-%d-%H%M%S')}-{os.getpid()}-{time.monotonic_ns()}"
    make_folder(folder)
    job = Job(folder, order)
    try:
        save_plan(plan, folder / PLAN)
        # as the process reads it
        known = {"digest": digest_of(load_plan(folder / PLAN)), "began": time.time()}
        job = Job(folder, order.model_copy(update=known))
        process = _started(job, db)
    except HemtraError:
        _remove(job)
        raise
    except OSError as error:
        _remove(job)
        raise HemtraError(f"The re-evaluation cannot be started: {error.strerror}.") from error
    # nobody waits for it; this takes its end from the system where this process is still there
    threading.Thread(target=process.wait, name="re-evaluation", daemon=True).start()
    return job


def _started(job: Job, db: str) -> subprocess.Popen[bytes]:
    """The process of a job; it holds the lock before anybody finds it, so that it never seems to have ended."""
    with (job.folder / LOCK).open("wb") as lock, (job.folder / LOG).open("wb") as log:
        fcntl.flock(lock, fcntl.LOCK_EX)
        write_text(job.folder / ORDER, job.order.model_dump_json(indent=1))
        held = lock.fileno()
        process = subprocess.Popen(
            [sys.executable, "-m", "hemtra", "records", "work", str(job.folder), "--lock", str(held)],
            stdin=subprocess.PIPE,
            stdout=log,
            stderr=log,
            start_new_session=True,
            pass_fds=(held,),
        )
    assert process.stdin is not None
    with process.stdin as pipe:
        pipe.write(db.encode())
    return process


def _remove(job: Job) -> None:
    """Remove the files of a job, and nothing else."""
    for name in FILES:
        with suppress(OSError):
            (job.folder / name).unlink(missing_ok=True)
    with suppress(OSError):
        job.folder.rmdir()


def work(folder: Path, db: str) -> JobState:
    """Do what was ordered, in the process of a job; what came of it."""
    (job,) = (job for job in all_jobs() if job.folder == folder)
    doing = _Working(job)
    with interrupted(folder / STOP):
        try:
            doing.all_lots(db)
        except HemtraError as error:
            doing.state.trouble = str(error)
        except KeyboardInterrupt:
            doing.state.trouble = STOPPED
        doing.state.ended = time.time()
        doing.keep()
    return doing.state


STOPPED = "It was stopped; started again, it continues where it was."


@dataclass
class _Working:
    job: Job
    state: JobState = field(default_factory=JobState)
    crew: Crew | None = None
    said: float = 0.0
    since: float = 0.0
    """When the state was kept last, and when the present count began, s of the monotonic clock."""

    def all_lots(self, db: str) -> None:
        order, plan = self.job.order, load_plan(self.job.folder / PLAN)
        records = Records(db, create=False)
        try:
            known = {lot.id: lot for lot in records.all_lots()}
            for key, name in order.lots.items():
                lot = known.get(key)
                if lot is None or lot.name != name:
                    raise HemtraError(f"The lot {name} is not in the records any more.")
                progress = partial(self.progress, lot)
                found = reevaluate(records, lot, plan, progress, self.made_crew, order.author, order.scans)
                if found is None:
                    raise KeyboardInterrupt
                self.take(found)
        finally:
            records.close()

    def take(self, found: LotReevaluation) -> None:
        self.state.lots.append(
            LotDone(lot=found.lot.name, words=found.words, changes=len(found.changes), flips=found.flips)
        )
        self.keep()

    def made_crew(self, parts: int) -> Crew:
        self.crew = crew_for(self.job.order.on or None, self.job.order.jobs, parts)
        return self.crew

    def progress(self, lot: Lot, done: int, of: int, what: str) -> bool:
        """See `Progress`; says how fast it goes, and with how many workers."""
        now = time.monotonic()
        if done == 0:
            self.since = now
        if now - self.said >= EVERY or done == 0:
            self.said = now
            workers = f"{self.crew.size} workers" if self.crew is not None and self.crew.size else ""
            words = (lot.name, what, f"{done} of {of}", pace(done, of, now - self.since), workers)
            self.state.done, self.state.of, self.state.what = done, of, ", ".join(filter(None, words))
            self.keep()
        return not (self.job.folder / STOP).exists()

    def keep(self) -> None:
        with suppress(FileError):  # the work matters more than who looks on
            write_text(self.job.folder / STATE, self.state.model_dump_json())


@contextmanager
def interrupted(stop: Path) -> Iterator[None]:
    """Interrupts the work within where it does not stop by itself soon, as where it waits for a cluster."""
    over = threading.Event()

    def watch() -> None:
        while not over.wait(EVERY):
            if stop.exists() and not over.wait(SOON):
                os.kill(os.getpid(), signal.SIGTERM)
                return

    def interrupt(*_: object) -> None:
        raise KeyboardInterrupt

    before = signal.signal(signal.SIGTERM, interrupt)
    watching = threading.Thread(target=watch, name="stop", daemon=True)
    watching.start()
    try:
        yield
    finally:
        over.set()
        signal.signal(signal.SIGTERM, before)
