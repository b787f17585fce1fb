"""Evaluating parts beside everything else, in processes that hold the plan."""

from __future__ import annotations

import gc
import os
import signal
import threading
import time
import traceback
from concurrent.futures import Future, ProcessPoolExecutor, ThreadPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass
from typing import Protocol

from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.events import sentence
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.scan import Scan
from hemtra.core.plan.document import Plan
from hemtra.core.plan.limits import CharacteristicResult, Verdict, reason_of
from hemtra.core.text import plain
from hemtra.runtime.family import end_with_starter, evaluating
from hemtra.runtime.feeds import Arrived
from hemtra.runtime.lent_memory import Lent, lend, lent_for_trial, taken
from hemtra.storage.scans import load_scan

TRIES = 3
"""Number of tries for a part whose worker dies."""
LOOK_COLUMNS = 640
"""Columns of the map that a run shows of a part; more would only travel between processes."""


@dataclass(frozen=True)
class Evaluated:
    """Result of one part, as a run keeps it.

    look: the map made coarse, None where nobody looks. trouble: why it was not evaluated; kind: of the event.
    """

    verdict: Verdict
    rows: tuple[CharacteristicResult, ...] = ()
    serial: str = ""
    elapsed_ms: float = 0.0
    judged: float = 0.0
    look: HeightMap | None = None
    trouble: str = ""
    kind: str = ""
    trace: str = ""
    """Place of the failure in the program, for the log."""

    @property
    def reason(self) -> str:
        """Reason why it does not pass: “12 Plug flush 0.52, above 0.35”."""
        if self.trouble:
            return self.trouble
        return reason_of(self.rows)


def evaluate(plan: Plan, arrived: Arrived, looked_at: bool) -> Evaluated:
    """Evaluate one part. A scan that cannot be read is NOT MEASURED and says why; nothing is raised for it."""
    if arrived.trouble:
        return Evaluated(Verdict.NOT_MEASURED, judged=time.time(), trouble=arrived.trouble, kind=arrived.kind)
    try:
        scan = arrived.scan
        if scan is None:
            assert arrived.path is not None
            scan = load_scan(arrived.path)
        result = Engine(scan.data, scan.serial).run(plan)
    except HemtraError as error:
        return Evaluated(Verdict.NOT_MEASURED, judged=time.time(), trouble=str(error), kind="faulty scan")
    except Exception as error:
        return _failed(error)
    read = next((row.text for row in result.characteristics if row.text and row.value), "")
    serial = scan.serial or plain(read)
    look = coarse(scan.data) if looked_at else None
    fault = result.faults[0] if result.faults else ""
    return Evaluated(
        result.verdict,
        result.characteristics,
        serial,
        result.elapsed_ms,
        time.time(),
        look,
        fault if result.verdict is Verdict.NOT_MEASURED else "",
        "faulty scan" if fault and result.verdict is Verdict.NOT_MEASURED else "",
    )


def _failed(error: Exception) -> Evaluated:
    """Result of a bug or an unforeseen scan: the line continues, and the part is not passed."""
    what = f"{type(error).__name__}: {plain(str(error))}"
    words = sentence("error", {"fault": what})
    trace = "".join(traceback.format_exception(error))
    return Evaluated(Verdict.NOT_MEASURED, judged=time.time(), trouble=words, kind="error", trace=trace)


def coarse(data: HeightMap) -> HeightMap:
    """Every n-th point of a map, few enough for a picture."""
    step = max(1, -(-data.shape[1] // LOOK_COLUMNS))
    grid = data.grid
    grey = None if data.intensity is None else data.intensity[::step, ::step].copy()
    z = data.z[::step, ::step].copy()
    return HeightMap(z, grey, dx=grid.dx * step, dy=grid.dy * step, x0=grid.x0, y0=grid.y0)


class Workers(Protocol):
    """Evaluate parts, several at a time."""

    def submit(self, arrived: Arrived) -> Future[Evaluated]:
        """Begin with a part."""

    def result(self, arrived: Arrived, future: Future[Evaluated]) -> Evaluated:
        """Wait for the result."""

    def stop(self) -> None:
        """End, once what was begun is done."""


class ThreadWorkers:
    """Workers in threads of this process: ready at once, for single parts and tests."""

    def __init__(self, plan: Plan, count: int = 1, *, looked_at: bool = False) -> None:
        self._plan, self._looked_at = plan, looked_at
        self._pool = ThreadPoolExecutor(count, "evaluate")

    def submit(self, arrived: Arrived) -> Future[Evaluated]:
        """Begin with a part."""
        return self._pool.submit(evaluate, self._plan, arrived, self._looked_at)

    def result(self, arrived: Arrived, future: Future[Evaluated]) -> Evaluated:
        """Wait for the result."""
        try:
            return future.result()
        except Exception as error:
            return _failed(error)

    def stop(self) -> None:
        """End."""
        self._pool.shutdown()


_held: list[tuple[Plan, bool]] = []
"""State of a worker process: its plan, and whether a preview is wanted."""


def _begin(plan: Plan, looked_at: bool, sample: Scan | None) -> None:
    end_with_starter()
    # a terminal interrupts everything that runs in it; who started this says when it ends
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    _held[:] = [(plan, looked_at)]
    if sample is not None:
        # compiled loops are loaded by the first part; the line should not wait for that
        evaluate(plan, Arrived("sample", 0.0, 0.0, sample), False)
    # what is there by now stays; looking through all of it again and again makes some parts late
    gc.collect()
    gc.freeze()


def _evaluate(arrived: Arrived) -> Evaluated:
    plan, looked_at = _held[0]
    return evaluate(plan, arrived, looked_at)


def _evaluate_lent(lent: Lent) -> Evaluated:
    return _evaluate(taken(lent))


def _sees(lent: Lent | None) -> bool:
    """Whether this process can take what another lends, once it is ready itself."""
    if lent is None:
        return False
    try:
        taken(lent)
    except OSError:
        return False
    return True


class ProcessWorkers:
    """Workers in processes of their own, so that all cores are used and a window never waits.

    Where a worker dies, others take its place and what was being evaluated is re-evaluated; a part whose worker
    keeps dying is NOT MEASURED with a reason.
    """

    def __init__(
        self, plan: Plan, count: int = 2, *, looked_at: bool = False, sample: Scan | None = None
    ) -> None:
        """sample: a scan on which each worker warms up before the first part."""
        self._count, self._start = count, (plan, looked_at, sample)
        self._lock = threading.Lock()
        self._pool = self._made()
        with lent_for_trial() as lent:
            # the answers also say that each of them is ready
            seen = [self._pool.submit(_sees, lent) for _ in range(count)]
            self._lends = all(future.result() for future in seen)

    def _made(self) -> ProcessPoolExecutor:
        return ProcessPoolExecutor(self._count, evaluating(), initializer=_begin, initargs=self._start)

    def submit(self, arrived: Arrived) -> Future[Evaluated]:
        """Begin with a part."""
        with self._lock:
            try:
                return self._passed(arrived)
            except BrokenProcessPool:
                self._pool.shutdown(wait=False)
                self._pool = self._made()
                return self._passed(arrived)

    def _passed(self, arrived: Arrived) -> Future[Evaluated]:
        """Hand a part to a worker: a file by its path, a scan in memory by lending it."""
        if arrived.scan is None or not self._lends:
            return self._pool.submit(_evaluate, arrived)
        try:
            lent, file = lend(arrived)
        except OSError:  # no memory is left for it, or for any more files
            return self._pool.submit(_evaluate, arrived)
        try:
            future = self._pool.submit(_evaluate_lent, lent)
        except BaseException:
            os.close(file)
            raise
        future.add_done_callback(lambda _: os.close(file))
        return future

    def result(self, arrived: Arrived, future: Future[Evaluated]) -> Evaluated:
        """Wait for the result."""
        for _ in range(TRIES):
            try:
                return future.result()
            except BrokenProcessPool:
                future = self.submit(arrived)
            except Exception as error:  # what a worker sends may fail on its way, too
                return _failed(error)
        words = sentence("worker lost", {})
        return Evaluated(Verdict.NOT_MEASURED, judged=time.time(), trouble=words, kind="worker lost")

    def stop(self) -> None:
        """End."""
        self._pool.shutdown()
