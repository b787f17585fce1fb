"""Taking in the records of another database, as of the computer at a line."""

from __future__ import annotations

import sqlite3
import tempfile
from collections.abc import Collection, Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass
from itertools import groupby, takewhile
from pathlib import Path
from typing import Any

from sqlalchemy import Connection, Table, func, insert, select, update

from hemtra.core.progress import Progress
from hemtra.storage.files import shown
from hemtra.storage.records.opening import RecordsError
from hemtra.storage.records.packed import pack, pack_ended
from hemtra.storage.records.schema import (
    characteristics,
    events,
    lots,
    parts,
    revisions,
    stations,
    values,
)
from hemtra.storage.records.store import Records, key_of

CHUNK = 1000
"""Parts merged at a time, each time in one transaction: a stopped merge continues where it was."""


@dataclass(frozen=True)
class Merged:
    """Result for the other database's parts.

    added: they were new. known: they were here already. clashing: another part has their number in their lot,
    so they were left out. finished: False where it was stopped.
    """

    added: int = 0
    known: int = 0
    clashing: int = 0
    finished: bool = True

    @property
    def words(self) -> str:
        """Summarise in a sentence."""
        text = f"{self.added} parts merged, {self.known} were here already"
        if self.clashing:
            text += f"; {self.clashing} skipped: part number already used in this lot"
        return f"{text}." if self.finished else f"Stopped: {text}."


def merge(records: Records, other: Path, progress: Progress = lambda done, of, what: True) -> Merged:
    """Merge what is new in another file of records; that one is only read.

    A lot is known by its plan, its name and when it began; a part by its lot, its number, its serial and when
    it was scanned. Plan revisions and stations are known by their text. Raises `RecordsError`.
    """
    _is_there(other)
    if other.resolve() == Path(records.name).resolve():
        raise RecordsError(f"{other.name} is what is open already; choose another file.")
    with _copy(other) as source, source.reading() as theirs:
        merged = _Merge(records, theirs).run(progress)
    if merged.finished:
        pack_ended(records)
    return merged


def copied_lots(target: Records, source: Connection, chosen: Collection[int], progress: Progress) -> Merged:
    """Some lots, by their keys, merged into other records. Raises `RecordsError`."""
    return _Merge(target, source, chosen).run(progress)


def forwarded(target: Records, source: Connection, after: int, until: float) -> tuple[int, Merged]:
    """Add some parts of other records in their order: the key there of the last, `after` where there is none.

    after: keys up to this one were forwarded before. until: only parts recorded by then, in s since 1970, and
    none behind one that was not, as where a clock was set back. What is here already is left as it is, so the
    same may be forwarded twice. Raises `RecordsError`.
    """
    query = select(parts).where(parts.c.id > after).order_by(parts.c.id).limit(CHUNK)
    found = list(takewhile(lambda row: row.recorded <= until, source.execute(query)))
    merged = Merged()
    if not found:
        return after, merged
    merge, ended = _Merge(target, source), []
    with target.writing() as ours:
        merge.take_documents(ours)
        for lot_key, rows in groupby(found, key=lambda row: row.lot_id):
            lot = source.execute(select(lots).where(lots.c.id == lot_key)).one()
            here = _lot_here(ours, lot)
            ended += _end_before(ours, source, lot)
            ours.execute(update(lots).where(lots.c.id == here).values(ended=lot.ended))
            merged = merge.take(ours, here, sorted(rows, key=lambda row: row.number), merged)
            merge.take_events(ours, lot_key, here)
    for key in ended:
        pack(target, key)
    return int(found[-1].id), merged


def _end_before(ours: Connection, source: Connection, lot: Any) -> list[int]:
    """End the lot before one of the same plan, as its line has; its key here, nothing where that is known."""
    query = select(lots).where(lots.c.plan == lot.plan, lots.c.id < lot.id, lots.c.ended.is_not(None))
    before = source.execute(query.order_by(lots.c.id.desc()).limit(1)).first()
    here = None if before is None else _known_lot(ours, before)
    if before is None or here is None:
        return []
    is_open = lots.c.id == here, lots.c.ended.is_(None)
    return [here] if ours.execute(update(lots).where(*is_open).values(ended=before.ended)).rowcount else []


def last_key(records: Records) -> int:
    """Largest key of a part; 0 where there is none."""
    with records.reading() as db:
        return int(db.execute(select(func.max(parts.c.id))).scalar_one() or 0)


def count_after(records: Records, key: int) -> int:
    """Parts whose keys are above one."""
    with records.reading() as db:
        return int(db.execute(select(func.count()).select_from(parts).where(parts.c.id > key)).scalar_one())


def refuse(other: Path) -> None:
    """Raise `RecordsError` where a file holds no records to merge."""
    _is_there(other)
    with _copy(other):
        pass


def _is_there(other: Path) -> None:
    if not other.is_file():
        raise RecordsError(f"There is no file {other.name}; choose the records of another computer.")


@contextmanager
def _copy(other: Path) -> Iterator[Records]:
    """Their records at one moment, in today's form, while their line continues."""
    with tempfile.TemporaryDirectory(prefix="hemtra-") as folder:
        target = Path(folder) / other.name
        # on a medium that cannot be written the first way fails, and nobody writes beside it
        for how in ("mode=ro", "immutable=1"):
            try:
                _copy_file(other, target, how)
                break
            except sqlite3.DatabaseError as error:
                target.unlink(missing_ok=True)
                words = f"{other.name} cannot be read as records: {error}."
        else:
            raise RecordsError(words)
        try:
            copied = Records(str(target), create=False)
        except RecordsError as error:
            # messages name the file, since the place of the copy means nothing to the user
            raise RecordsError(str(error).replace(str(target), shown(other))) from error
        try:
            yield copied
        finally:
            copied.close()


def _copy_file(other: Path, target: Path, how: str) -> None:
    name = f"{other.resolve().as_uri()}?{how}"
    with (
        closing(sqlite3.connect(name, uri=True, timeout=5.0)) as source,
        closing(sqlite3.connect(target)) as held,
    ):
        source.backup(held)


class _Merge:
    """State of a merge: their keys, mapped to ours."""

    def __init__(self, records: Records, theirs: Connection, chosen: Collection[int] | None = None) -> None:
        """chosen: keys of the lots that are taken; None for all."""
        self._records, self._theirs, self._chosen = records, theirs, chosen
        self._characteristics: dict[int, int] = {}
        self._revisions: dict[int, int] = {}
        self._stations: dict[int | None, int | None] = {None: None}

    def run(self, progress: Progress) -> Merged:
        theirs = self._theirs
        total = theirs.execute(select(func.count()).select_from(parts)).scalar_one()
        merged, done = Merged(), 0
        with self._records.writing() as ours:
            self.take_documents(ours)
        for lot in theirs.execute(select(lots).order_by(lots.c.started, lots.c.id)).all():
            if self._chosen is not None and lot.id not in self._chosen:
                continue
            with self._records.writing() as ours:
                here = _lot_here(ours, lot)
            last = 0
            while found := self._chunk(lot.id, last):
                with self._records.writing() as ours:
                    merged = self.take(ours, here, found, merged)
                last, done = found[-1].number, done + len(found)
                if not progress(done, total, f"lot {lot.name}"):
                    return Merged(merged.added, merged.known, merged.clashing, finished=False)
            with self._records.writing() as ours:
                self.take_events(ours, lot.id, here)
        return merged

    def _chunk(self, lot: int, last: int) -> Sequence[Any]:
        query = select(parts).where(parts.c.lot_id == lot, parts.c.number > last)
        return self._theirs.execute(query.order_by(parts.c.number).limit(CHUNK)).all()

    def take_documents(self, ours: Connection) -> None:
        """Plan revisions and stations."""
        for row in self._theirs.execute(select(revisions)).all():
            key, is_new = _by_digest(ours, revisions, row)
            self._revisions[row.id] = key
            stood = self._theirs.execute(
                select(characteristics).where(characteristics.c.revision_id == row.id)
            ).all()
            if is_new and stood:
                plain = [{**_without_id(one), "revision_id": key} for one in stood]
                ours.execute(insert(characteristics), plain)
            query = select(characteristics.c.balloon, characteristics.c.id)
            here = {r.balloon: r.id for r in ours.execute(query.where(characteristics.c.revision_id == key))}
            self._characteristics |= {one.id: here[one.balloon] for one in stood if one.balloon in here}
        for row in self._theirs.execute(select(stations)).all():
            self._stations[row.id] = _by_digest(ours, stations, row)[0]

    def take(self, ours: Connection, lot: int, found: Sequence[Any], merged: Merged) -> Merged:
        """Parts of one lot, in the order of their numbers."""
        numbers = [row.number for row in found]
        query = select(parts.c.number, parts.c.serial, parts.c.scanned).where(
            parts.c.lot_id == lot, parts.c.number.between(numbers[0], numbers[-1])
        )
        here = {row.number: (row.serial, row.scanned) for row in ours.execute(query)}
        new = [row for row in found if row.number not in here]
        same = sum(here.get(row.number) == (row.serial, row.scanned) for row in found)
        keys: dict[int, int] = {}
        for row in new:
            plain = _without_id(row) | {
                "lot_id": lot,
                "revision_id": self._revisions[row.revision_id],
                "station_id": self._stations[row.station_id],
            }
            keys[row.id] = key_of(ours.execute(insert(parts).values(plain)))
        if keys:
            self._take_values(ours, keys)
        clashing = merged.clashing + len(found) - len(new) - same
        return Merged(merged.added + len(new), merged.known + same, clashing)

    def _take_values(self, ours: Connection, keys: dict[int, int]) -> None:
        span = min(keys), max(keys)
        for theirs, here in self._characteristics.items():
            query = select(values).where(values.c.characteristic_id == theirs, values.c.part_id.between(*span))
            rows = [
                {**row._mapping, "characteristic_id": here, "part_id": keys[row.part_id]}
                for row in self._theirs.execute(query)
                if row.part_id in keys
            ]
            if rows:
                ours.execute(insert(values), rows)

    def take_events(self, ours: Connection, lot: int, here: int) -> None:
        """Events of a lot."""
        known = set(map(tuple, ours.execute(_events_of(here))))
        new = [row for row in self._theirs.execute(_events_of(lot)) if tuple(row) not in known]
        happened = {row.number for row in new if row.number is not None}
        query = select(parts.c.number, parts.c.id).where(parts.c.lot_id == here, parts.c.number.in_(happened))
        numbers = {row.number: row.id for row in ours.execute(query)}
        if new:
            rows = [
                {
                    "lot_id": here,
                    "part_id": numbers.get(r.number),
                    "time": r.time,
                    "kind": r.kind,
                    "text": r.text,
                    "fields": r.fields,
                }
                for r in new
            ]
            ours.execute(insert(events), rows)


def _events_of(lot: int) -> Any:
    return (
        select(events.c.time, events.c.kind, events.c.text, events.c.fields, parts.c.number)
        .outerjoin(parts, parts.c.id == events.c.part_id)
        .where(events.c.lot_id == lot)
        .order_by(events.c.id)
    )


def _lot_here(ours: Connection, lot: Any) -> int:
    """The key of a lot here; it is made where it is new."""
    known = _known_lot(ours, lot)
    if known is not None:
        return known
    return key_of(ours.execute(insert(lots).values(_without_id(lot) | {"packed": None})))


def _known_lot(ours: Connection, lot: Any) -> int | None:
    """The key of a lot here, None where it is not."""
    same = (lots.c.plan == lot.plan, lots.c.name == lot.name, lots.c.started == lot.started)
    known = ours.execute(select(lots.c.id).where(*same)).scalar()
    return None if known is None else int(known)


def _by_digest(ours: Connection, table: Table, row: Any) -> tuple[int, bool]:
    """The key here of a document, and whether it was new."""
    known = ours.execute(select(table.c.id).where(table.c.digest == row.digest)).scalar()
    if known is not None:
        return int(known), False
    return key_of(ours.execute(insert(table).values(_without_id(row)))), True


def _without_id(row: Any) -> dict[str, Any]:
    return {name: value for name, value in row._mapping.items() if name != "id"}
