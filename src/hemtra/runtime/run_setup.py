"""Putting a run together from what was requested."""

from __future__ import annotations

import time
from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

import platformdirs

from hemtra.core.errors import HemtraError
from hemtra.core.events import Event
from hemtra.core.maps.scan import Scan
from hemtra.core.plan.document import Plan
from hemtra.core.station.io_and_storage import Incoming
from hemtra.core.station.station import Station
from hemtra.runtime.belt_mark import BeltMark, BeltNotClear
from hemtra.runtime.feeds import Feed, FolderFeed, WatchFeed
from hemtra.runtime.heartbeat import Heartbeat, host
from hemtra.runtime.io_process import started
from hemtra.runtime.line_feeds import BeltFeed, StationFeed
from hemtra.runtime.production import Listeners, Production, Setup
from hemtra.runtime.signaller import Punctual, Signaller
from hemtra.runtime.sources import made_up_parts, source_of
from hemtra.runtime.upkeep import Upkeep, evaluated_sources
from hemtra.runtime.uplink import Uplink, is_server, spool_of
from hemtra.runtime.workers import ProcessWorkers, ThreadWorkers, Workers
from hemtra.storage.records import Records
from hemtra.storage.records.lines import LineState
from hemtra.storage.settings import load_settings

LOCK_FILE = "lock.json"
"""Beside the records: what the PIN is known by that locks editing on this computer."""
PARTS_ON_LINE = 24
"""Parts that pass on the virtual line where nobody says how many."""


@dataclass(frozen=True)
class RunRequest:
    """Set-up of a run: the source of parts, and the destinations.

    One of line (the station's own), watch, replay and belt (recorded parts on the station's belt).
    rate: parts a second of a replay, 0 as fast as possible. io: host and port, None for the station's.
    jobs: processes that evaluate; 0 evaluates in this one.
    """

    line: bool = False
    watch: Path | None = None
    replay: Path | None = None
    belt: tuple[Path, ...] = ()
    parts: int | None = None
    rate: float = 0.0
    db: str | None = None
    scans: Path | None = None
    io: tuple[str, int] | None = None
    lot: str | None = None
    jobs: int = 2
    looked_at: bool = False
    belt_clear: bool = False
    """Somebody says that nothing lies between the eye and a gate."""


PATIENCE_OF_SIGNS = 1.0
"""Waiting time of a heartbeat for locked records, s; the next one comes soon."""


def records_folder() -> Path:
    """Default location of the records."""
    return Path(platformdirs.user_data_dir("hemtra"))


def default_db() -> str:
    """The database that is used by default, which the settings may name."""
    return load_settings().database or str(records_folder() / "records.db")


def begin(
    plan: Plan, station: Station | None, asked: RunRequest, listeners: Listeners, sample: Scan | None = None
) -> Production:
    """A run ready to `start`. Raises `HemtraError` where something it needs is not there."""
    if not any(not row.off for row in plan.sheet):
        raise HemtraError("The plan has no characteristics to evaluate; add one before it runs.")
    held: list[Production] = []
    name = station.name if station is not None else f"{plan.name}, {'watch' if asked.watch else 'replay'}"

    def happened(event: Event) -> None:
        if held:
            held[0].happened(event)

    def link_changed(up: bool) -> None:
        if held:
            held[0].link_changed(up)

    with ExitStack() as undo:
        db = asked.db or default_db()
        uplink = Uplink(spool_of(records_folder(), db, name), db, happened) if is_server(db) else None
        records = Records(db if uplink is None else str(spool_of(records_folder(), db, name)))
        undo.callback(records.close)
        feed = _feed(asked, station, records)
        block = None if station is None or asked.io is not None else started(station.io)
        if block is not None:
            undo.callback(block.stop)
        workers: Workers
        if asked.jobs:
            try:
                workers = ProcessWorkers(plan, asked.jobs, looked_at=asked.looked_at, sample=sample)
            except OSError as error:
                raise HemtraError(
                    f"No worker processes can be started ({error.strerror}): /dev/shm must be open to you."
                    " Open it, or evaluate in this process with --jobs 0."
                ) from error
        else:
            workers = ThreadWorkers(plan, looked_at=asked.looked_at)
        undo.callback(workers.stop)
        scans = asked.scans
        if scans is None and station is not None and asked.db is None:
            scans = records_folder() / "scans"
        signaller = _signaller(plan, station, asked, feed.travel, link_changed)
        setup = Setup(plan, station, scans, asked.lot)
        belt = None
        if station is not None and signaller is not None and signaller.farthest > 0.0:
            belt = _belt(station, asked)
        production = Production(setup, feed, workers, records, signaller, listeners, belt)
        held.append(production)
        undo.pop_all()
    if block is not None:
        production.closing.append(block.stop)
    if uplink is not None:
        uplink.start()
    own = Records(db) if uplink is None else None
    if own is not None:
        own.patience.seconds = PATIENCE_OF_SIGNS
    heartbeat = _heartbeat(production, lambda: own if uplink is None else uplink.target, uplink, name)
    if uplink is not None:
        production.closing += [uplink.finish, heartbeat.stop, uplink.close]
    if own is not None:
        production.closing += [heartbeat.stop, own.close]
    file = Path(records.name)
    if station is not None and station.keeping.looks_after and file.is_file():
        upkeep = Upkeep(file, station.keeping, production.not_looked_after)
        upkeep.start()
        production.closing.append(upkeep.stop)
    return production


def _heartbeat(
    production: Production, where: Callable[[], Records | None], uplink: Uplink | None, name: str
) -> Heartbeat:
    """Start the heartbeat of a line in the records."""

    def now() -> LineState:
        state = "paused" if production.paused else "runs" if production.running else "stopped"
        counts, waiting = production.counts, uplink.waiting if uplink is not None else 0
        return LineState(
            name=name,
            host=host(),
            plan=production.setup.plan.name,
            lot=production.lot.name,
            state="stopped" if production.stopping else state,
            parts=counts.all,
            passed=counts.passed,
            waiting=waiting,
            latency=production.times.now.latency,
            began=production.lot.started,
        )

    made = Heartbeat(where, now)
    made.start()
    return made


def _belt(station: Station, asked: RunRequest) -> BeltMark:
    """Belt mark of a line. Raises `BeltNotClear` where the belt must be checked first."""
    belt = BeltMark(station.name)
    if asked.belt_clear:
        belt.take_away()
    if belt.there and station.io.restart == "ask":
        raise BeltNotClear(
            "The line was cut off with parts between the eye and a gate. Clear the belt, say so, and start"
            " again (hemtra run --belt-clear)."
        )
    return belt


def _feed(asked: RunRequest, station: Station | None, records: Records) -> Feed:
    if asked.watch is not None:
        folder = asked.watch.resolve()
        incoming = Incoming() if station is None else station.incoming
        return WatchFeed(folder, evaluated_sources(records, folder), asked.parts, incoming)
    if asked.replay is not None:
        return FolderFeed.of(asked.replay, asked.parts, asked.rate)
    if station is None:
        raise HemtraError("No part source. Give --station, --watch or --replay.")
    if asked.belt:
        return BeltFeed(station, asked.belt, asked.parts)
    seed = int(time.time()) % 100_000
    count = PARTS_ON_LINE if asked.parts is None else asked.parts
    return StationFeed(station, source_of(station, made_up_parts(seed, count)))


def _signaller(
    plan: Plan,
    station: Station | None,
    asked: RunRequest,
    travel: Callable[[], float | None],
    changed: Callable[[bool], None],
) -> Signaller | None:
    host, port, unit = "", 502, 1
    if station is not None:
        host, port, unit = station.io.host, station.io.port, station.io.unit
    if asked.io is not None:
        host, port = asked.io
    if not host:
        return None
    from hemtra.outputs.modbus import ModbusOutput  # loads a library

    punctual = Punctual()
    if station is not None:
        punctual = Punctual(station.io.late, station.io.gate_late / 1000.0, station.travel.speed)
    return Signaller(plan.signals, ModbusOutput(host, port, unit, changed), travel, punctual)
