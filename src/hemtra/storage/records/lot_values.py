"""The values of one characteristic in one lot: where they lie, and how millions of them are read."""

from __future__ import annotations

from itertools import chain
from typing import Any

import numpy as np
from sqlalchemy import BigInteger, ColumnElement, Connection, Select, cast, exists, func, literal, select

from hemtra.core.arrays import FloatArray
from hemtra.storage.records.schema import parts, values

STEPS, NONE = 1e9, 9 * 10**18
"""Steps to a unit that values are rounded to on their way, and the number of steps that stands for none."""
PAIR = np.dtype([("part", np.int64), ("value", np.float64)])


def range_of(db: Connection, lot: int) -> tuple[int, int] | None:
    """First and last key of a lot's parts where it has them for itself; None where others lie between.

    Keys are given one after the other and never taken away, so a lot that nothing was written beside has no
    gaps; its values are then one stretch of the table and nothing needs to be joined.
    """
    # each by itself is found at an end of the index
    ends = func.min(parts.c.id), func.max(parts.c.id), func.count()
    here = parts.c.lot_id == lot
    first, last, count = (int(db.execute(select(end).where(here)).scalar() or 0) for end in ends)
    if not count:
        return (1, 0)
    return (first, last) if last - first + 1 == count else None


def of_lot(lot: int, span: tuple[int, int] | None) -> tuple[Any, ...]:
    """Values of the parts of a lot."""
    if span is not None:
        return (values.c.part_id.between(*span),)
    return (exists().where(parts.c.id == values.c.part_id, parts.c.lot_id == lot),)


def taken(name: str) -> ColumnElement[Any]:
    """Column of the values; for a part with one value that is both its minimum and maximum."""
    return values.c.value if name == "value" else func.coalesce(values.c[name], values.c.value)


def read_values(
    db: Connection, key: int, lot: int, span: tuple[int, int] | None, column: ColumnElement[Any]
) -> np.ndarray[Any, Any]:
    """Parts and values (of some column) of one characteristic in a lot, (n,) of `PAIR`."""
    held = (values.c.characteristic_id == key, *of_lot(lot, span))
    found = None
    if span is not None and db.dialect.name == "sqlite":
        found = _packed(db, held, column)
    if found is None:
        found = exact_values(db, held, column)
    rows = np.empty(found.size, PAIR)
    rows["value"] = found
    if span is not None and found.size == span[1] - span[0] + 1:
        # a value for each key there is between two: which they are need not be asked
        rows["part"] = np.arange(span[0], span[1] + 1)
    else:
        rows["part"] = part_ids(db, held)
    return rows


def exact_values(db: Connection, held: tuple[Any, ...], column: ColumnElement[Any]) -> FloatArray:
    """Some column of the values for which conditions hold, by part, to the last bit; NaN for none."""
    # an infinity stands for none, which arrays cannot hold
    value = func.coalesce(column, literal(float("inf")))
    found = _column(db, select(value).where(*held).order_by(values.c.part_id))
    found[np.isinf(found)] = np.nan
    return found


def part_ids(db: Connection, held: tuple[Any, ...]) -> FloatArray:
    """Keys of the parts of these values, in their order."""
    return _column(db, select(values.c.part_id).where(*held).order_by(values.c.part_id))


def _packed(db: Connection, held: tuple[Any, ...], column: ColumnElement[Any]) -> FloatArray | None:
    """The values of one stretch of the table in its order; None where some value is too large for this way.

    SQLite makes one text of them, in whole steps, and NumPy reads it: half the time that a million rows take.
    """
    steps = func.coalesce(cast(func.round(column * STEPS), BigInteger), NONE)
    text = db.execute(select(func.group_concat(steps)).where(*held)).scalar()
    if not text:
        return np.empty(0)
    found = np.fromstring(text, np.int64, sep=",")
    missing = found == NONE
    if ((found > NONE) | (found < -NONE)).any():
        return None
    return np.where(missing, np.nan, found / STEPS)


def _column(db: Connection, query: Select[Any]) -> FloatArray:
    """Values of a query's only column, from the cursor itself, since a million rows are worth it."""
    rows: Any = db.execute(query).cursor
    return np.fromiter(chain.from_iterable(rows), np.float64)
