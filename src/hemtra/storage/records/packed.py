"""Values of ended lots, packed by characteristic: a trend over millions of parts is then read at once.

They repeat what the table of values holds, bit for bit. A lot to which parts were added since is not packed;
then all is read from the values themselves, only slower.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from sqlalchemy import Connection, delete, func, insert, select, update

from hemtra.core.plan.limits import Verdict
from hemtra.core.progress import Progress
from hemtra.storage.records.lot_values import PAIR, exact_values, of_lot, part_ids, range_of, taken
from hemtra.storage.records.schema import (
    NOT_PASSED,
    VERDICTS,
    characteristics,
    lots,
    packed_values,
    parts,
    values,
)

if TYPE_CHECKING:
    from hemtra.storage.records.store import Records

AT_ONCE = 1_000_000
"""Values written in one transaction."""
COUNTED = {"failed": Verdict.FAIL, "missing": Verdict.NOT_MEASURED, "unproven": Verdict.NOT_PROVEN}
"""Columns of numbers of parts that do not pass, and their verdicts."""
_newest = select(func.max(parts.c.id)).where(parts.c.lot_id == lots.c.id).scalar_subquery()


def packed_lots(db: Connection, among: Collection[int]) -> set[int]:
    """Those of some lots, by their keys, whose packed values are all there is of them."""
    return set(db.execute(select(lots.c.id).where(lots.c.packed == _newest)).scalars()) & set(among)


def packed_values_of(
    db: Connection, keys: Sequence[int], among: Collection[int], end: str
) -> dict[int, list[np.ndarray[Any, Any]]]:
    """By lot of some that are packed, parts and values of characteristics there, (n,) of `PAIR` each.

    end: “value”, or “least” or “greatest”; of a part with one value both are that.
    """
    p = packed_values.c
    query = select(p.lot_id, p.first, p.count, p.part_ids, func.coalesce(p[end], p.value)).where(
        p.characteristic_id.in_(keys), p.lot_id.in_(among)
    )
    pieces: dict[int, list[np.ndarray[Any, Any]]] = {}
    for lot, first, count, ids, found in db.execute(query):
        rows = np.empty(count, PAIR)
        rows["part"] = np.arange(first, first + count) if ids is None else np.frombuffer(ids, "<i8")
        rows["value"] = np.frombuffer(found, "<f8")
        pieces.setdefault(lot, []).append(rows)
    return pieces


def not_passed_of(db: Connection, keys: Collection[int], among: Collection[int]) -> dict[int, list[int]]:
    """By characteristic, how many parts of some packed lots have which verdict of `COUNTED`."""
    p = packed_values.c
    query = select(p.characteristic_id, *(func.sum(p[name]) for name in COUNTED)).where(
        p.characteristic_id.in_(keys), p.lot_id.in_(among)
    )
    return {key: [int(n) for n in numbers] for key, *numbers in db.execute(query.group_by(p.characteristic_id))}


def pack_ended(
    records: Records, progress: Progress = lambda done, of, what: True, *, since: float = 0.0
) -> int:
    """Pack the values of every lot that ended, at or after a time, and is not packed; how many were.

    since: s since 1970. Stopped, the rest stays as it is. Raises `RecordsError`.
    """
    with records.reading() as db:
        query = select(lots.c.id, lots.c.name).where(
            lots.c.ended >= since, _newest.is_not(None), lots.c.packed.is_distinct_from(_newest)
        )
        found = db.execute(query.order_by(lots.c.id)).all()
    for done, (key, name) in enumerate(found):
        if not progress(done, len(found), f"lot {name}"):
            return done
        pack(records, key)
    progress(len(found), len(found), "")
    return len(found)


def pack(records: Records, lot: int) -> None:
    """Pack the values of a lot as it is now. Raises `RecordsError`.

    They are read first and written in turns, so that a line that writes meanwhile never waits long.
    The lot is packed once all of them are there.
    """
    with records.writing() as db:
        unpack(db, lot)
    with records.reading() as db:
        newest = db.execute(select(func.max(parts.c.id)).where(parts.c.lot_id == lot)).scalar()
        span = range_of(db, lot)
        used = select(parts.c.revision_id).where(parts.c.lot_id == lot).distinct()
        of_these = select(characteristics.c.id).where(characteristics.c.revision_id.in_(used))
        keys = db.execute(of_these).scalars().all()
        # all of one moment, whoever writes meanwhile
        rows = {key: _packed(db, key, lot, span) for key in keys}
    for some in _in_turns(rows):
        with records.writing() as db:
            for key in some:
                db.execute(insert(packed_values).values(characteristic_id=key, lot_id=lot, **rows[key]))
    with records.writing() as db:
        db.execute(update(lots).where(lots.c.id == lot).values(packed=newest))


def _in_turns(rows: Mapping[int, Mapping[str, Any]]) -> Iterator[list[int]]:
    """The keys of the rows that there are, so many at a time that writing them takes a moment."""
    some: list[int] = []
    for key, row in rows.items():
        if row:
            some.append(key)
        if sum(rows[one]["count"] for one in some) >= AT_ONCE:
            yield some
            some = []
    if some:
        yield some


def unpack(db: Connection, lot: int) -> None:
    """Drop the packed values of a lot."""
    db.execute(delete(packed_values).where(packed_values.c.lot_id == lot))
    db.execute(update(lots).where(lots.c.id == lot).values(packed=None))


def _packed(db: Connection, key: int, lot: int, span: tuple[int, int] | None) -> dict[str, Any]:
    """The packed columns of a characteristic; none where it has no values there."""
    v = values.c
    held = (v.characteristic_id == key, *of_lot(lot, span))
    ends = select(func.count(), func.min(v.part_id), func.max(v.part_id), func.count(v.least)).where(*held)
    count, first, last, many = db.execute(ends).one()
    if not count:
        return {}
    numbers = select(v.verdict, func.count()).where(*held, NOT_PASSED).group_by(v.verdict)
    verdicts = {VERDICTS[code]: number for code, number in db.execute(numbers)}

    def column(name: str) -> bytes:
        found: bytes = exact_values(db, held, taken(name)).astype("<f8").tobytes()
        return found

    return {
        "first": first,
        "count": count,
        "part_ids": None if last - first + 1 == count else part_ids(db, held).astype("<i8").tobytes(),
        **{name: verdicts.get(verdict, 0) for name, verdict in COUNTED.items()},
        "value": column("value"),
        "least": column("least") if many else None,
        "greatest": column("greatest") if many else None,
    }
