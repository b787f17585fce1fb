"""Values of ended lots, packed by characteristic: a trend over millions of parts is then read at once.

They repeat what the table of values holds, bit for bit. A lot to which parts were added since is not packed;
then all is read from the values themselves, only slower.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
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
COUNTED = {"failed": Verdict.FAIL, "missing": Verdict.NOT_MEASURED, "unproven": Verdict.NOT_PROVEN}
"""Columns of numbers of parts that do not pass, and their verdicts."""
_newest = select(func.max(parts.c.id)).where(parts.c.lot_id == lots.c.id).scalar_subquery()


def packed_lots(db: Connection, among: Collection[int]) -> set[int]:
    """Those of some lots, by their keys, whose packed values are all there is of them."""
    return set(db.execute(select(lots.c.id).where(lots.c.packed == _newest)).scalars()) & set(among)


def packed_values_of(db: Connection, keys: Sequence[int], lot: int, taken: str) -> list[np.ndarray[Any, Any]]:
    """Parts and values of characteristics in a lot that is packed, (n,) of `PAIR` each.

    taken: “value”, or “least” or “greatest”; of a part with one value both are that.
    """
    p = packed_values.c
    query = select(p.first, p.count, p.part_ids, p.value, p[taken]).where(
        p.characteristic_id.in_(keys), p.lot_id == lot
    )
    pieces = []
    for first, count, part_ids, value, chosen in db.execute(query):
        rows = np.empty(count, PAIR)
        rows["part"] = np.arange(first, first + count) if part_ids is None else np.frombuffer(part_ids, "<i8")
        rows["value"] = np.frombuffer(value if chosen is None else chosen, "<f8")
        pieces.append(rows)
    return pieces


def not_passed_of(db: Connection, keys: Collection[int], among: Collection[int]) -> dict[int, list[int]]:
    """By characteristic, how many parts of some packed lots have which verdict of `COUNTED`."""
    p = packed_values.c
    query = select(p.characteristic_id, *(func.sum(p[name]) for name in COUNTED)).where(
        p.characteristic_id.in_(keys), p.lot_id.in_(among)
    )
    return {key: [int(n) for n in numbers] for key, *numbers in db.execute(query.group_by(p.characteristic_id))}


def pack_ended(records: Records, progress: Progress = lambda done, of, what: True) -> int:
    """Pack the values of every lot that has ended and is not packed; how many were. Raises `RecordsError`.

    One lot at a time, so a line that writes meanwhile does not wait long. Stopped, the rest stays as it is.
    """
    with records.reading() as db:
        query = select(lots.c.id, lots.c.name).where(
            lots.c.ended.is_not(None), _newest.is_not(None), lots.c.packed.is_distinct_from(_newest)
        )
        found = db.execute(query.order_by(lots.c.id)).all()
    for done, (key, name) in enumerate(found):
        if not progress(done, len(found), f"lot {name}"):
            return done
        with records.writing() as db:
            pack(db, key)
    progress(len(found), len(found), "")
    return len(found)


def pack(db: Connection, lot: int) -> None:
    """Pack the values of a lot as it is now."""
    unpack(db, lot)
    newest = db.execute(select(func.max(parts.c.id)).where(parts.c.lot_id == lot)).scalar()
    if newest is None:
        return
    span = range_of(db, lot)
    used = select(parts.c.revision_id).where(parts.c.lot_id == lot).distinct()
    of_these = select(characteristics.c.id).where(characteristics.c.revision_id.in_(used))
    for key in db.execute(of_these).scalars().all():
        row = _packed(db, key, lot, span)
        if row:
            db.execute(insert(packed_values).values(characteristic_id=key, lot_id=lot, **row))
    db.execute(update(lots).where(lots.c.id == lot).values(packed=newest))


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
