"""A recorded part: its sheet, the plan revision and station of that day, and its events."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, select

from hemtra.core.errors import PlanError
from hemtra.core.events import Event
from hemtra.core.plan.document import Plan
from hemtra.core.plan.limits import CharacteristicResult
from hemtra.storage.plans import from_json
from hemtra.storage.records.fields import NUMBERS
from hemtra.storage.records.opening import RecordsError
from hemtra.storage.records.schema import (
    BALLOON_ORDER,
    VERDICTS,
    characteristics,
    events,
    lots,
    parts,
    revisions,
    stations,
    values,
)
from hemtra.storage.records.store import Lot, PartRecord, Records, event_of, part_of

PIECE = 1000
"""Parts whose rows are read at a time."""


@dataclass(frozen=True)
class PartSheet:
    """Facts of a part without its scan.

    rows: in balloon order, as they were then. revised: when its plan revision was first used,
    in seconds since 1970; digest: what identifies that revision.
    """

    part: PartRecord
    lot: Lot
    rows: tuple[CharacteristicResult, ...]
    events: tuple[Event, ...]
    plan: str
    digest: str
    revised: float
    station: str

    @property
    def revision(self) -> str:
        """The plan revision as people read it."""
        return f"{self.plan} · {self.digest[:8]}"


def numbered_parts(records: Records, lot: Lot, numbers: Sequence[int]) -> dict[int, PartRecord]:
    """Parts of a lot by some running numbers, without their values. Raises `RecordsError`."""
    found: dict[int, PartRecord] = {}
    with records.reading() as db:
        for first in range(0, len(numbers), PIECE):
            wanted = parts.c.lot_id == lot.id, parts.c.number.in_(numbers[first : first + PIECE])
            found |= {row.number: part_of(row) for row in db.execute(select(parts).where(*wanted))}
    return found


def part_sheet(records: Records, key: int) -> PartSheet:
    """The sheet of a part by its key. Raises `RecordsError`, also where there is no such part."""
    query = (
        select(
            parts,
            lots.c.name.label("lot"),
            lots.c.plan,
            lots.c.started,
            lots.c.ended,
            revisions.c.name.label("revision"),
            revisions.c.digest,
            revisions.c.seen,
            stations.c.name.label("station"),
        )
        .join(lots, lots.c.id == parts.c.lot_id)
        .join(revisions, revisions.c.id == parts.c.revision_id)
        .outerjoin(stations, stations.c.id == parts.c.station_id)
        .where(parts.c.id == key)
    )
    happened = select(events).where(events.c.part_id == key)
    with records.reading() as db:
        row = db.execute(query).first()
        if row is None:
            raise RecordsError("This part is no longer in the records; search for it again.")
        rows = _rows(db, key, row.revision_id)
        on_record = [event_of(one, row.number) for one in db.execute(happened.order_by(events.c.id))]
    lot = Lot(row.lot_id, row.lot, row.plan, row.started, row.ended)
    return PartSheet(
        part_of(row),
        lot,
        rows,
        tuple(on_record),
        row.revision,
        row.digest,
        row.seen,
        row.station or "no station",
    )


def plan_of(records: Records, part: PartRecord) -> Plan:
    """The plan that a part was evaluated by. Raises `PlanError` where this Hemtra cannot use it."""
    text = records.plan_text(part.revision_id)
    try:
        return from_json(text, "the plan of that day")
    except PlanError as error:
        raise PlanError(f"Its plan revision cannot be evaluated here: {error}") from None


def newest_event(records: Records, plan: str, kind: str) -> Event | None:
    """The newest event of a kind in all lots of a plan; None where there is none."""
    query = (
        select(events)
        .join(lots, lots.c.id == events.c.lot_id)
        .where(lots.c.plan == plan, events.c.kind == kind)
        .order_by(events.c.time.desc())
        .limit(1)
    )
    with records.reading() as db:
        row = db.execute(query).one_or_none()
    return None if row is None else event_of(row, None)


def evaluated_parts(
    records: Records, lot: Lot
) -> Iterator[tuple[PartRecord, tuple[CharacteristicResult, ...]]]:
    """All parts of a lot in their order, each with its rows as they were evaluated; read in pieces."""
    first = 1
    while found := records.parts_of(lot, first=first, most=PIECE):
        with records.reading() as db:
            rows = _rows_of_many(db, found)
        for part in found:
            yield part, tuple(rows.get(part.id, ()))
        first = found[-1].number + 1


def _rows_of_many(db: Connection, found: Sequence[PartRecord]) -> dict[int, list[CharacteristicResult]]:
    """Rows of each part in balloon order; each characteristic is one stretch of its table."""
    used = {part.revision_id for part in found}
    span = min(part.id for part in found), max(part.id for part in found)
    stood = select(characteristics).where(characteristics.c.revision_id.in_(used))
    rows: dict[int, list[CharacteristicResult]] = {part.id: [] for part in found}
    for one in db.execute(stood.order_by(*BALLOON_ORDER)).all():
        query = select(values).where(values.c.characteristic_id == one.id, values.c.part_id.between(*span))
        for found_value in db.execute(query):
            if found_value.part_id in rows:
                rows[found_value.part_id].append(_evaluated(one, found_value))
    return rows


def _rows(db: Connection, key: int, revision: int) -> tuple[CharacteristicResult, ...]:
    query = (
        select(characteristics, values)
        .join(values, values.c.characteristic_id == characteristics.c.id)
        .where(characteristics.c.revision_id == revision, values.c.part_id == key)
        .order_by(*BALLOON_ORDER)
    )
    return tuple(_evaluated(row, row) for row in db.execute(query))


def _evaluated(row: Any, found: Any) -> CharacteristicResult:
    """A row of a sheet from its characteristic as it was and its result."""
    return CharacteristicResult(
        balloon=row.balloon,
        name=row.name,
        step="",
        value=found.value,
        unit=row.unit,
        nominal=row.nominal,
        lower=row.lower,
        upper=row.upper,
        decimals=row.decimals,
        verdict=VERDICTS[found.verdict],
        reason=found.reason or "",
        at=None,
        text=found.text or "",
        **{number.name: getattr(found, number.name) for number in NUMBERS},
    )
