"""A run: parts come, are evaluated, recorded and signalled, each stage beside the others and in order.

    feed -> (bounded) -> workers -> finishing: record -> signal -> keep the scan

Nothing is dropped silently. A part that cannot be evaluated, for whatever reason, has a number, the verdict NOT
MEASURED and an event like every other.
"""

from __future__ import annotations

import logging
import queue
import threading
import time
from collections.abc import Callable
from concurrent.futures import Future
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from hemtra.core.errors import HemtraError
from hemtra.core.events import Event, sentence
from hemtra.core.plan.document import Plan
from hemtra.core.plan.limits import Verdict
from hemtra.core.station.station import Station
from hemtra.runtime.belt_mark import BeltMark
from hemtra.runtime.feeds import Arrived, Feed
from hemtra.runtime.master_watch import MasterWatch
from hemtra.runtime.run_log import RunLog
from hemtra.runtime.scan_keeper import ScanKeeper
from hemtra.runtime.signaller import Heard, Signaller
from hemtra.runtime.times import RecentTimes
from hemtra.runtime.workers import Evaluated, Workers
from hemtra.storage.records import Records
from hemtra.storage.records.evidence import newest_event
from hemtra.storage.records.packed import pack_ended
from hemtra.storage.records.store import NONE, NOT_SENT, Counts, Lot, PartRecord

IN_FLIGHT = 8
"""Scans in the queue or evaluated at a time: memory stays bounded."""
SETTLE = 0.5
"""Time after which states of signals are recorded without another part, s."""
SHORT = 2.0
"""Waiting time for records after their first failure, s."""


@dataclass(frozen=True)
class Done:
    """A part that is through: its record, and the result on it."""

    record: PartRecord
    found: Evaluated


@dataclass(frozen=True)
class Setup:
    """Needs of a run besides its feed, workers and records."""

    plan: Plan
    station: Station | None = None
    scans: Path | None = None
    """Folder of kept scans; None for none."""
    lot: str | None = None


@dataclass
class Listeners:
    """Listeners; all are called on threads of the run."""

    done: Callable[[Done], None] = lambda done: None
    event: Callable[[Event], None] = lambda event: None
    ended: Callable[[str], None] = lambda trouble: None


@dataclass(frozen=True)
class _Item:
    arrived: Arrived
    future: Future[Evaluated]
    held: bool
    """Whether it takes one of the places in flight."""


_IDLE: Any = object()
"""Stands for no part having come for a while."""


@dataclass
class Production:
    """A run of a line."""

    setup: Setup
    feed: Feed
    workers: Workers
    records: Records
    signaller: Signaller | None = None
    listeners: Listeners = field(default_factory=Listeners)
    belt: BeltMark | None = None
    """Mark of parts under way to a gate; None where nothing is delayed."""

    def __post_init__(self) -> None:
        plan, station = self.setup.plan, self.setup.station
        self._began = time.time()
        self.lot: Lot = self.records.open_lot(plan.name, self.setup.lot)
        self._revision = self.records.revision(plan)
        self._station = None if station is None else self.records.station(station)
        self._next = self.records.next_number(self.lot)
        self.counts: Counts = self.records.counts(self.lot)
        self.master: MasterWatch | None = None
        if plan.master_part is not None:
            passed, failed = (
                newest_event(self.records, plan.name, kind) for kind in ("master passed", "master failed")
            )
            self.master = MasterWatch.going_on(plan.master_part, self.happened, passed, failed)
        self.keeper: ScanKeeper | None = None
        if self.setup.scans is not None and station is not None:
            self.keeper = ScanKeeper(self.records, self.setup.scans, station.keeping)
        self._places = threading.Semaphore(IN_FLIGHT)
        self._queue: queue.SimpleQueue[_Item | None] = queue.SimpleQueue()
        self._stopping, self._paused = threading.Event(), threading.Event()
        self._new_lot: threading.Event = threading.Event()
        self.log, self.times = RunLog(self.records, self.listeners.event), RecentTimes()
        self._lock = threading.Lock()
        self._taken: dict[int, str] = {}
        """Origins of the parts in progress."""
        self.trouble = ""
        self._unrecorded = 0
        """Parts without a record: from the first that could not be written on, nothing is signalled."""
        self.closing: list[Callable[[], None]] = []
        """Work to do once all parts are done."""
        self._threads = [
            threading.Thread(target=self._take, name="feed"),
            threading.Thread(target=self._finish, name="finish"),
        ]

    # -- from outside -----------------------------------------------------------------------------

    def start(self) -> None:
        """Begin."""
        station = self.setup.station
        if self.setup.plan.by_profile is not None and station is not None and station.travel.ends == "even":
            self.happened(Event("ends evened", time.time()))
        if self.signaller is not None:
            if self.belt is not None:
                if self.belt.there:
                    self.signaller.refuse_what_lies_there()
                    self.happened(Event("belt not clear", time.time()))
                self.belt.put()
            self.signaller.start()
        for thread in self._threads:
            thread.start()

    def pause(self) -> None:
        """Take no parts until `resume`; those that were taken are finished."""
        self._paused.set()
        self._ready(False)

    def resume(self) -> None:
        """Take parts again."""
        self._paused.clear()
        self._ready(True)

    def stop(self) -> None:
        """Take no more parts; those that were taken are finished, recorded and signalled."""
        self._stopping.set()

    def begin_lot(self) -> None:
        """Parts that are finished from now on belong to a new lot."""
        self._new_lot.set()

    def link_changed(self, up: bool) -> None:
        """The link to the I/O module came or went; as its output says."""
        if up:
            self.happened(Event("link", time.time()))
            return
        lost = self.setup.station.io.lost if self.setup.station is not None else "continue"
        event = Event("link lost", time.time())
        self.happened(event)
        if lost == "stop" and not self._stopping.is_set():
            self._end(f"{event.text} Line stopped: station setting “on link loss”.")

    def happened(self, event: Event, part: int | None = None) -> None:
        """Record an event of this lot; part: the key of the recorded part that it belongs to."""
        self.log.event(self.lot, event, part)

    def not_looked_after(self, words: str) -> None:
        """The records could not be copied or archived."""
        self.happened(Event("records not copied", time.time(), fields={"text": words}))

    def wait(self, seconds: float | None = None) -> bool:
        """Until everything is through, or so long; answers whether it is."""
        until = None if seconds is None else time.monotonic() + seconds
        for thread in self._threads:
            thread.join(None if until is None else max(0.0, until - time.monotonic()))
        return not any(thread.is_alive() for thread in self._threads)

    @property
    def stopping(self) -> bool:
        """Whether it takes no more parts."""
        return self._stopping.is_set()

    @property
    def unfinished(self) -> list[str]:
        """Origins of the parts taken and not finished."""
        return list(self._taken.values())

    @property
    def running(self) -> bool:
        """Whether parts may still come."""
        return any(thread.is_alive() for thread in self._threads)

    @property
    def paused(self) -> bool:
        """Whether it waits for `resume`."""
        return self._paused.is_set()

    @property
    def waiting(self) -> int:
        """Parts that are taken and not through."""
        return len(self._taken)

    # -- taking -----------------------------------------------------------------------------------

    def _take(self) -> None:
        try:
            self.feed.run(self._put, self._stopping, self._paused)
        except HemtraError as error:
            self._end(str(error))
        except Exception as error:  # a bug in a source must not leave the line without a word
            self._end(f"The source of the parts failed ({type(error).__name__}: {error}).")
        finally:
            self._queue.put(None)

    def _put(self, arrived: Arrived) -> None:
        held = not arrived.trouble
        if held and not self._places.acquire(blocking=not self.feed.live):
            words = sentence("overrun", {"limit": IN_FLIGHT})
            arrived, held = replace(arrived, scan=None, path=None, trouble=words, kind="overrun"), False
        if held and self._stopping.is_set() and not self.feed.live:
            self._places.release()
            return
        item = _Item(arrived, self.workers.submit(arrived), held)
        with self._lock:
            self._taken[id(item)] = arrived.source
            first = len(self._taken) == 1
        if first and self.signaller is not None:
            self.signaller.busy(True)
        self._queue.put(item)

    # -- finishing --------------------------------------------------------------------------------

    def _finish(self) -> None:
        while True:
            try:
                item = self._queue.get(timeout=SETTLE)
            except queue.Empty:
                item = _IDLE
            if item is None:
                break
            try:
                if self._new_lot.is_set():
                    self._change_lot()
                if item is _IDLE:
                    self.log.write()
                    continue
                self._finish_one(item)
            except HemtraError as error:
                self._end(f"{error} The line was stopped.")
            except Exception as error:
                self._end(f"Part {self._next} could not be finished ({type(error).__name__}: {error}).")
            finally:
                if item is not _IDLE:
                    self._through(item)
        self._close()

    def _through(self, item: _Item) -> None:
        if item.held:
            self._places.release()
        with self._lock:
            del self._taken[id(item)]
            idle = not self._taken
        if idle and self.signaller is not None:
            self.signaller.busy(False)

    def _finish_one(self, item: _Item) -> None:
        arrived = item.arrived
        found = self.workers.result(arrived, item.future)
        if self._unrecorded:
            self._unrecorded += 1
            return
        if self.master is not None:
            if self.master.is_master(found):
                # it is no part of the lot, and gates keep it from the good ones
                self.master.present(found, arrived.scanned)
                if self.signaller is not None:
                    self.signaller.part(self._next, Verdict.NOT_MEASURED, found.rows, arrived.travel)
                self.log.write()
                return
            found = self.master.allowed(found, arrived.scanned)
        number = self._next
        events = [_worded(found.kind, found.trouble, number)] if found.kind else []
        if arrived.note:
            events.append(_worded(arrived.kind or "note", arrived.note, number))
        record = PartRecord(
            number=number,
            verdict=found.verdict,
            reason=found.reason,
            serial=found.serial,
            rows=found.rows,
            triggered=arrived.triggered,
            scanned=arrived.scanned,
            judged=found.judged,
            elapsed_ms=found.elapsed_ms,
            source=arrived.source,
            signal=NONE if self.signaller is None else NOT_SENT,
            events=tuple(events),
        )
        try:
            key = self.records.add(self.lot, record, self._revision, self._station)
        except HemtraError as error:
            # without a record no part is signalled, so the line cannot continue
            self._unrecorded = 1
            self.records.patience.seconds = SHORT
            self._end(f"{error} The line was stopped; part {number} has no record.")
            return
        self._next += 1
        record = replace(record, id=key, lot_id=self.lot.id, recorded=time.time())
        if self.signaller is not None:
            heard = Heard(
                lambda sent: self.log.signalled(key, sent=sent),
                lambda: self.times.through(arrived.scanned),
                lambda words: self._late(number, key, words),
            )
            # what waits for us anyway is not late
            waited = time.time() - arrived.scanned if self.feed.live else 0.0
            self.signaller.part(number, found.verdict, found.rows, arrived.travel, heard, waited)
        else:
            self.times.through(arrived.scanned)
        self.counts = self.counts.with_part(
            found.verdict, unproven=any(row.verdict is Verdict.NOT_PROVEN for row in found.rows)
        )
        for event in events:
            self.listeners.event(event)
        if self.keeper is not None:
            record, trouble = self.keeper.keep(record, item.arrived, self.lot)
            if trouble:
                self.happened(_worded("scan not kept", trouble, number), key)
        self.log.write()
        self.listeners.done(Done(record, found))

    def _change_lot(self) -> None:
        """Parts that are finished from now on belong to a new lot."""
        self._new_lot.clear()
        self.lot = self.records.open_lot(self.setup.plan.name, new=True)
        self._next, self.counts = 1, Counts()
        self.happened(Event("new lot", time.time(), fields={"lot": self.lot.name}))

    def _late(self, number: int, key: int, words: str) -> None:
        """A signal came too late: the line stops or continues, as without the link."""
        message = words[0].upper() + words[1:] + "."
        self.happened(_worded("signalled late", message, number), key)
        lost = self.setup.station.io.lost if self.setup.station is not None else "continue"
        if lost == "stop" and not self._stopping.is_set():
            message = f"Part {number} was signalled too late ({words})."
            self._end(f"{message} Line stopped: station setting “on link loss”.")

    def _close(self) -> None:
        if self.signaller is not None and self.signaller.stop() and self.belt is not None:
            self.belt.take_away()
        try:
            self.log.write()
        except HemtraError as error:
            self.trouble = self.trouble or str(error)
        if self._unrecorded > 1:
            after = self._unrecorded - 1
            self.trouble += f" No record either for the {'part' if after == 1 else f'{after} parts'} after it."
        self.workers.stop()
        try:
            pack_ended(self.records, since=self._began)
        except HemtraError as error:
            # a trend is read without it, too
            logging.getLogger("hemtra").info("values of ended lots are not packed: %s", error)
        for close in self.closing:
            close()
        self.listeners.ended(self.trouble)

    def _end(self, words: str) -> None:
        """Stop for a reason that is kept, once."""
        if not self.trouble:
            self.trouble = words
            self.happened(_worded("stopped", words))
        self._stopping.set()

    def _ready(self, on: bool) -> None:
        if self.signaller is not None:
            self.signaller.ready(on)


def _worded(kind: str, words: str, number: int | None = None) -> Event:
    """An event whose words come from whoever ran into it."""
    return Event(kind, time.time(), number, {"text": words})
