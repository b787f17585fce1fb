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
from hemtra.storage.records.lot_values import PAIR, of_lot, range_of
from hemtra.storage.records.schema import CODES, characteristics, lots, packed_values, parts, values

if TYPE_CHECKING:
    from hemtra.storage.records.store import Records

AT_A_TIME = 50_000
"""Rows taken from the database at a time."""
AT_ONCE = 1_000_000
"""Values written in one transaction."""
COUNTED = {"failed": Verdict.FAIL, "missing": Verdict.NOT_MEASURED, "unproven": Verdict.NOT_PROVEN}
"""Columns of numbers of parts that do not pass, and their verdicts."""
_newest = select(func.max(parts.c.id)).where(parts.c.lot_id == lots.c.id).scalar_subquery()


def packed_lots(db: Connection, among: Collection[int]) -> set[int]:
    """Those of some lots, by their keys, whose packed values are all there is of them."""
    return set(db.execute(select(lots.c.id).where(lots.c.packed == _newest)).scalars()) & set(among)


def packed_values_of(
    db: Connection, keys: Sequence[int], among: Collection[int], taken: str
) -> dict[int, list[np.ndarray[Any, Any]]]:
    """By lot of some that are packed, parts and values of characteristics there, (n,) of `PAIR` each.

    taken: “value”, or “least” or “greatest”; of a part with one value both are that.
    """
    p = packed_values.c
    query = select(p.lot_id, p.first, p.count, p.part_ids, func.coalesce(p[taken], p.value)).where(
        p.characteristic_id.in_(keys), p.lot_id.in_(among)
    )
    pieces: dict[int, list[np.ndarray[Any, Any]]] = {}
    for lot, first, count, part_ids, values_ in db.execute(query):
        rows = np.empty(count, PAIR)
        rows["part"] = np.arange(first, first + count) if part_ids is None else np.frombuffer(part_ids, "<i8")
        rows["value"] = np.frombuffer(values_, "<f8")
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
    query = select(v.part_id, v.value, v.least, v.greatest, v.verdict).where(
        v.characteristic_id == key, *of_lot(lot, span)
    )
    cursor: Any = db.execute(query.order_by(v.part_id)).cursor
    pieces = []
    while rows := cursor.fetchmany(AT_A_TIME):
        pieces.append(np.array(rows, np.float64))  # what is none becomes NaN
    if not pieces:
        return {}
    ids, value, least, greatest, verdict = np.concatenate(pieces).T
    part_ids = ids.astype("<i8")
    consecutive = part_ids[-1] - part_ids[0] + 1 == part_ids.size
    ends = {"least": least, "greatest": greatest}
    many = not np.isnan(least).all()
    return {
        "first": int(part_ids[0]),
        "count": part_ids.size,
        "part_ids": None if consecutive else part_ids.tobytes(),
        **{name: int(np.count_nonzero(verdict == CODES[of])) for name, of in COUNTED.items()},
        "value": value.astype("<f8").tobytes(),
        **{
            name: np.where(np.isnan(end), value, end).astype("<f8").tobytes() if many else None
            for name, end in ends.items()
        },
    }
