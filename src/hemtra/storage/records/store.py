"""Keeps the results of each part, and finds them."""

from __future__ import annotations

import hashlib
import json
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, TypeVar

from sqlalchemy import Connection, Table, distinct, exists, func, insert, select, update
from sqlalchemy.exc import IntegrityError

from hemtra.core.evaluation.rows import evaluated
from hemtra.core.events import Event
from hemtra.core.plan.document import Plan
from hemtra.core.plan.graph import method_of
from hemtra.core.plan.limits import CharacteristicResult, Verdict
from hemtra.core.plan.registry import kind_named
from hemtra.core.station.station import Station
from hemtra.storage.plans import to_json
from hemtra.storage.records.fields import NUMBERS
from hemtra.storage.records.opening import (
    Patience,
    RecordsAway,
    RecordsError,
    masked,
    open_engine,
    translated_errors,
)
from hemtra.storage.records.schema import (
    CODES,
    NOT_PASSED,
    VERDICTS,
    characteristics,
    events,
    lots,
    parts,
    revisions,
    stations,
    values,
)

T = TypeVar("T")
ASK_AGAIN = 0.2
"""Interval between attempts to reach a server that is away, s."""
SENT, NOT_SENT, NONE = "sent", "not signalled", "none"
"""States of a part's signals."""


@dataclass(frozen=True)
class Lot:
    """A production run of parts. started, ended: seconds since 1970."""

    id: int
    name: str
    plan: str
    started: float
    ended: float | None = None


@dataclass(frozen=True)
class PartRecord:
    """A recorded part. Times in seconds since 1970; `scan` is the file it is kept in."""

    number: int
    verdict: Verdict
    reason: str
    serial: str
    rows: Sequence[CharacteristicResult]
    triggered: float
    scanned: float
    judged: float
    elapsed_ms: float
    source: str = ""
    scan: str | None = None
    recorded: float = 0.0
    signalled: float | None = None
    signal: str = NONE
    lot_id: int = 0
    id: int = 0
    revision_id: int = 0
    station_id: int | None = None
    events: Sequence[Event] = field(default_factory=tuple)


@dataclass(frozen=True)
class Counts:
    """Number of parts of a lot by verdict; unproven: of these, parts with a row that is NOT PROVEN."""

    passed: int = 0
    failed: int = 0
    missing: int = 0
    unproven: int = 0

    def with_part(self, verdict: Verdict, *, unproven: bool = False) -> Counts:
        """With one part more."""
        if unproven:
            return replace(self.with_part(verdict), unproven=self.unproven + 1)
        if verdict is Verdict.PASS:
            return replace(self, passed=self.passed + 1)
        if verdict is Verdict.FAIL:
            return replace(self, failed=self.failed + 1)
        return replace(self, missing=self.missing + 1)

    @property
    def all(self) -> int:
        """Every part."""
        return self.passed + self.failed + self.missing

    @property
    def share(self) -> float | None:
        """Yield: the share of parts that passed, 0 to 1; None before the first."""
        return self.passed / self.all if self.all else None


class Records:
    """A database of lots, parts, values and events. One thread writes; others may read.

    Every method raises `RecordsError` in the user's words.
    """

    def __init__(self, url: str, *, create: bool = True) -> None:
        """url: a file, or any URL that SQLAlchemy supports. create: make it where there is none."""
        self.url = url
        self.patience = Patience()
        self._engine = open_engine(url, self.patience, create=create)
        self.name = self._engine.url.database or masked(url)
        self._rows: dict[int, dict[int, int]] = {}
        """Key of each balloon's characteristic, by revision."""
        self._units: dict[int, str] = {}
        """Stored unit of each characteristic; the final one is known with its first value."""

    def close(self) -> None:
        """Close the database."""
        self._engine.dispose()

    @contextmanager
    def reading(self) -> Iterator[Connection]:
        """A connection to look things up with; its answers are all of one moment, whoever writes meanwhile."""
        with translated_errors(self.name), self._engine.connect() as db:
            if db.dialect.name == "sqlite":
                # its driver begins by itself only where something is written
                db.exec_driver_sql("BEGIN")
                yield db
            else:
                yield db.execution_options(isolation_level="REPEATABLE READ")

    @contextmanager
    def writing(self) -> Iterator[Connection]:
        """A connection to write with, all of it or nothing."""
        with translated_errors(self.name), self._engine.begin() as db:
            yield db

    def written(self, work: Callable[[Connection, bool], T]) -> T:
        """What some writing answers, all of it or nothing; again where a server went away meanwhile.

        work: gets whether it may be done already, since nobody knows whether what broke off was kept.
        """
        until, again = time.monotonic() + self.patience.seconds, False
        while True:
            try:
                with self.writing() as db:
                    return work(db, again)
            except RecordsAway:
                if time.monotonic() > until:
                    raise
            again = True
            time.sleep(ASK_AGAIN)

    # -- lots -------------------------------------------------------------------------------------

    def open_lot(self, plan: str, name: str | None = None, *, new: bool = False) -> Lot:
        """The lot that is still open for a plan, or that has the name; a new one where there is none.

        new: in any case. A new lot ends the ones of the plan that are open.
        """
        now = time.time()

        def work(db: Connection, again: bool) -> Lot:
            if again or not new:
                wanted = lots.c.name == name if name else lots.c.ended.is_(None)
                if new:
                    wanted = lots.c.started == now
                query = select(lots).where(lots.c.plan == plan, wanted).order_by(lots.c.id.desc()).limit(1)
                found = db.execute(query).first()
                if found is not None:
                    db.execute(update(lots).where(lots.c.id == found.id).values(ended=None))
                    return Lot(found.id, found.name, found.plan, found.started)
            db.execute(update(lots).where(lots.c.plan == plan, lots.c.ended.is_(None)).values(ended=now))
            made = name or self._free_name(db, now)
            key = key_of(db.execute(insert(lots).values(name=made, plan=plan, started=now)))
            return Lot(key, made, plan, now)

        return self.written(work)

    def _free_name(self, db: Connection, now: float) -> str:
        day = time.strftime("%Y-%m-%d", time.localtime(now))
        count = db.execute(
            select(func.count()).select_from(lots).where(lots.c.name.startswith(day))
        ).scalar_one()
        return f"{day} lot {count + 1}"

    def add_lot(self, lot: Lot) -> Lot:
        """Keep a lot that was made elsewhere, as it is; with its key here."""
        with self.writing() as db:
            row = {"name": lot.name, "plan": lot.plan, "started": lot.started, "ended": lot.ended}
            return replace(lot, id=key_of(db.execute(insert(lots).values(row))))

    def all_lots(self) -> list[Lot]:
        """Newest first."""
        with translated_errors(self.name), self._engine.connect() as db:
            found = db.execute(select(lots).order_by(lots.c.id.desc()))
            return [Lot(r.id, r.name, r.plan, r.started, r.ended) for r in found]

    def next_number(self, lot: Lot) -> int:
        """The running number after the last part of a lot."""
        with translated_errors(self.name), self._engine.connect() as db:
            last = db.execute(select(func.max(parts.c.number)).where(parts.c.lot_id == lot.id)).scalar()
            return 1 if last is None else last + 1

    def counts(self, lot: Lot) -> Counts:
        """Number of parts of a lot by verdict."""
        with translated_errors(self.name), self._engine.connect() as db:
            query = (
                select(parts.c.verdict, func.count()).where(parts.c.lot_id == lot.id).group_by(parts.c.verdict)
            )
            counts = counts_of({VERDICTS[code]: count for code, count in db.execute(query)})
            return replace(counts, unproven=_unproven(db, lot))

    # -- plans and stations -----------------------------------------------------------------------

    def revision(self, plan: Plan) -> int:
        """The key of a plan as it stands, kept once with its whole text."""
        document = to_json(plan)
        with translated_errors(self.name), self._engine.begin() as db:
            key, is_new = _kept_once(db, revisions, document, name=plan.name, seen=time.time())
            if is_new:
                rows = [_characteristic(plan, row.balloon) for row in plan.sheet if not row.off]
                if rows:
                    db.execute(insert(characteristics), [{"revision_id": key, **row} for row in rows])
            query = select(characteristics.c.balloon, characteristics.c.id, characteristics.c.unit)
            found = db.execute(query.where(characteristics.c.revision_id == key)).all()
            self._rows[key] = {row.balloon: row.id for row in found}
            self._units |= {row.id: row.unit for row in found}
            return key

    def station(self, station: Station) -> int:
        """The key of a station as it stands, kept once."""
        document = json.dumps(station.model_dump(mode="json", by_alias=True), sort_keys=True)
        with translated_errors(self.name), self._engine.begin() as db:
            return _kept_once(db, stations, document, name=station.name)[0]

    def plan_text(self, revision: int) -> str:
        """The whole text of a plan revision."""
        with translated_errors(self.name), self._engine.connect() as db:
            found: str = db.execute(select(revisions.c.document).where(revisions.c.id == revision)).scalar_one()
            return found

    # -- parts ------------------------------------------------------------------------------------

    def add(self, lot: Lot, part: PartRecord, revision: int, station: int | None = None) -> int:
        """Keep a part with its values and events in one transaction; its key.

        Raises `RecordsError` when the lot has the number already, and nothing is kept then.
        """
        return self.add_all(lot, [part], revision, station)[0]

    def add_all(
        self, lot: Lot, made: Sequence[PartRecord], revision: int, station: int | None = None
    ) -> list[int]:
        """Keep many parts in one transaction; their keys. All or none."""

        def work(db: Connection, again: bool) -> list[int]:
            return (again and _kept_already(db, lot, made)) or [
                self._add(db, lot, part, revision, station) for part in made
            ]

        return self.written(work)

    def _add(self, db: Connection, lot: Lot, part: PartRecord, revision: int, station: int | None) -> int:
        row: dict[str, Any] = {
            "lot_id": lot.id,
            "revision_id": revision,
            "station_id": station,
            "verdict": CODES[part.verdict],
            "recorded": part.recorded or time.time(),
        }
        plain = ("number", "reason", "serial", "source", "scan", "triggered", "scanned", "judged", "elapsed_ms")
        row |= {name: getattr(part, name) for name in plain}
        row |= {"signalled": part.signalled, "signal": part.signal}
        known = self._rows.get(revision, {})
        try:
            key = key_of(db.execute(insert(parts).values(row)))
        except IntegrityError:
            raise RecordsError(
                f"Lot {lot.name} has a part {part.number} already; is another line writing to the same lot?"
            ) from None
        held = [
            {
                "characteristic_id": known[result.balloon],
                "part_id": key,
                "value": result.value,
                "verdict": CODES[result.verdict],
                "text": result.text or None,
                "reason": result.reason or None,
                **{number.name: getattr(result, number.name) for number in NUMBERS},
            }
            for result in part.rows
            if result.balloon in known
        ]
        if held:
            db.execute(insert(values), held)
        self._note_units(db, part.rows, known)
        self._add_events(db, lot, part.events, {part.number: key})
        return key

    def _note_units(
        self, db: Connection, rows: Sequence[CharacteristicResult], known: Mapping[int, int]
    ) -> None:
        for row in rows:
            key = known.get(row.balloon)
            if key is not None and row.value is not None and self._units.get(key) != row.unit:
                db.execute(update(characteristics).where(characteristics.c.id == key).values(unit=row.unit))
                self._units[key] = row.unit

    def signalled(self, states: Mapping[int, tuple[str, float | None]]) -> None:
        """Record the signals of parts, by key: the state, and when."""

        def work(db: Connection, _: bool) -> None:
            for key, (state, when) in states.items():
                db.execute(update(parts).where(parts.c.id == key).values(signal=state, signalled=when))

        if states:
            self.written(work)

    def keep_scan(self, key: int, path: str) -> None:
        """The file that the scan of a part is kept in."""
        self.written(lambda db, _: db.execute(update(parts).where(parts.c.id == key).values(scan=path)))

    def parts_of(self, lot: Lot, *, first: int = 1, most: int = 1000) -> list[PartRecord]:
        """Parts of a lot in their order, from a running number on, without their values."""
        query = select(parts).where(parts.c.lot_id == lot.id, parts.c.number >= first)
        with translated_errors(self.name), self._engine.connect() as db:
            found = db.execute(query.order_by(parts.c.number).limit(most))
            return [part_of(row) for row in found]

    def known_sources(self, folder: Path) -> dict[str, float]:
        """The scan files of a folder that have been evaluated already, and when last, in seconds since 1970."""
        with translated_errors(self.name), self._engine.connect() as db:
            query = (
                select(parts.c.source, func.max(parts.c.scanned))
                .where(parts.c.source.startswith(f"{folder}/", autoescape=True))
                .group_by(parts.c.source)
            )
            return {source: float(when) for source, when in db.execute(query)}

    # -- events -----------------------------------------------------------------------------------

    def event(self, lot: Lot | None, event: Event, part: int | None = None) -> None:
        """Keep an event; part: the key of the one it happened to."""
        keys = {} if part is None or event.number is None else {event.number: part}

        def work(db: Connection, again: bool) -> None:
            same = (events.c.time == event.time, events.c.kind == event.kind, events.c.text == event.text)
            if not again or db.execute(select(events.c.id).where(*same)).first() is None:
                self._add_events(db, lot, (event,), keys)

        self.written(work)

    def events_of(self, lot: Lot) -> list[Event]:
        """The events of a lot, oldest first."""
        query = (
            select(events, parts.c.number)
            .join(parts, parts.c.id == events.c.part_id, isouter=True)
            .where(events.c.lot_id == lot.id)
            .order_by(events.c.id)
        )
        with translated_errors(self.name), self._engine.connect() as db:
            return [event_of(row, row.number) for row in db.execute(query)]

    def _add_events(
        self, db: Connection, lot: Lot | None, found: Sequence[Event], keys: Mapping[int, int]
    ) -> None:
        if found:
            db.execute(
                insert(events),
                [
                    {
                        "lot_id": None if lot is None else lot.id,
                        "part_id": keys.get(e.number or 0),
                        "time": e.time,
                        "kind": e.kind,
                        "text": e.text,
                        "fields": json.dumps(dict(e.fields), sort_keys=True),
                    }
                    for e in found
                ],
            )


def _kept_already(db: Connection, lot: Lot, made: Sequence[PartRecord]) -> list[int]:
    """The keys of parts that are on record as they are; empty where any is not."""
    query = select(parts.c.id, parts.c.number, parts.c.scanned, parts.c.judged).where(
        parts.c.lot_id == lot.id, parts.c.number.in_([part.number for part in made])
    )
    known = {row.number: row for row in db.execute(query)}
    same = [part.number in known and known[part.number][2:] == (part.scanned, part.judged) for part in made]
    return [known[part.number].id for part in made] if all(same) else []


def _unproven(db: Connection, lot: Lot) -> int:
    """Number of parts of a lot with a row that is NOT PROVEN."""
    used = select(parts.c.revision_id).where(parts.c.lot_id == lot.id).distinct()
    rows = select(characteristics.c.id).where(characteristics.c.revision_id.in_(used))
    query = select(func.count(distinct(values.c.part_id))).where(
        values.c.characteristic_id.in_(rows),
        NOT_PASSED,  # the index holds these only
        values.c.verdict == CODES[Verdict.NOT_PROVEN],
        exists().where(parts.c.id == values.c.part_id, parts.c.lot_id == lot.id),
    )
    return int(db.execute(query).scalar_one())


def _kept_once(db: Connection, table: Table, document: str, **row: Any) -> tuple[int, bool]:
    """The key of a document by its digest, and whether it was not there before."""
    digest = hashlib.sha256(document.encode()).hexdigest()
    known = db.execute(select(table.c.id).where(table.c.digest == digest)).scalar()
    if known is not None:
        return int(known), False
    return key_of(db.execute(insert(table).values(digest=digest, document=document, **row))), True


def key_of(result: Any) -> int:
    """The key of the row that was put in."""
    return int(result.inserted_primary_key[0])


def _characteristic(plan: Plan, balloon: int) -> dict[str, Any]:
    row = plan.characteristic(balloon)
    assert row is not None
    unit = row.unit or ("" if row.step is None else kind_named(plan.step(row.step).kind).unit)
    stood = evaluated(row, None, "", unit)
    return {
        "balloon": row.balloon,
        "name": row.name,
        "unit": stood.unit,
        "nominal": stood.nominal,
        "lower": stood.lower,
        "upper": stood.upper,
        "decimals": stood.decimals,
        "method": "" if row.step is None else method_of(plan, row.step),
    }


def event_of(row: Any, number: int | None) -> Event:
    """A row of the table of events; number: of its part. Older and damaged ones have their words alone."""
    try:
        fields = json.loads(row.fields or "")
    except ValueError:
        fields = None
    return Event(row.kind, row.time, number, fields if isinstance(fields, dict) else {"text": row.text})


def counts_of(found: Mapping[Verdict, int]) -> Counts:
    """Counts from how many parts have which verdict."""
    passed, failed = found.get(Verdict.PASS, 0), found.get(Verdict.FAIL, 0)
    return Counts(passed, failed, sum(found.values()) - passed - failed)


def part_of(row: Any) -> PartRecord:
    """A row of the table of parts as a record, without its values."""
    return PartRecord(
        number=row.number,
        verdict=VERDICTS[row.verdict],
        reason=row.reason,
        serial=row.serial,
        rows=(),
        triggered=row.triggered,
        scanned=row.scanned,
        judged=row.judged,
        elapsed_ms=row.elapsed_ms,
        source=row.source,
        scan=row.scan,
        recorded=row.recorded,
        signalled=row.signalled,
        signal=row.signal,
        lot_id=row.lot_id,
        id=row.id,
        revision_id=row.revision_id,
        station_id=row.station_id,
    )
