"""A characteristic over many parts, and failures by characteristic."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import chain
from typing import Any

import numpy as np
from sqlalchemy import BigInteger, ColumnElement, Connection, Select, cast, exists, func, literal, select

from hemtra.core.arrays import FloatArray, IntArray
from hemtra.core.errors import PlanError
from hemtra.core.plan.limits import Verdict
from hemtra.core.units import LengthUnit
from hemtra.storage.plans import from_json
from hemtra.storage.records.schema import (
    CODES,
    NOT_PASSED,
    VERDICTS,
    characteristics,
    parts,
    revisions,
    values,
)
from hemtra.storage.records.store import Lot, Records

FIRST = 200
"""Parts that decide whether a characteristic reads text."""
STEPS, NONE = 1e9, 9 * 10**18
"""Steps to a unit that values of a trend are rounded to, and the number of steps that stands for none."""
ENDS = {"value": "", "least": ", min", "greatest": ", max"}
"""Suffix of a name, by the value taken of a characteristic."""
_PAIR = np.dtype([("part", np.int64), ("value", np.float64)])


@dataclass(frozen=True)
class Trend:
    """The values of one characteristic as it stood, in the order of the lots and of their parts.

    A characteristic that was renamed, whose limits changed or that is measured otherwise is another one. Of
    one that gives many values on a part, the minimum and the maximum are series of their own: the worse of
    them would change from one side to the other. method: how it is measured, as far as that has changed.
    parts: (n,) keys; values: (n,) NaN where it was not measured; starts: of each lot, the index of its
    first part and its name. reads: whether it gives text, of which only how right it is is a number.
    u: standard uncertainty of its newest values; gauge: standard deviation of the gauge as its plan keeps it
    from a study; None where that is not known.
    """

    balloon: int
    name: str
    unit: str
    nominal: float | None
    lower: float | None
    upper: float | None
    decimals: int
    parts: IntArray
    values: FloatArray
    starts: tuple[tuple[int, str], ...]
    reads: bool = False
    method: str = ""
    u: float | None = None
    gauge: float | None = None

    def in_unit(self, unit: LengthUnit) -> Trend:
        """The same with its numbers in another unit, where they are lengths."""
        factor = unit.factor(self.unit)
        if factor == 1.0:
            return self
        return replace(
            self,
            nominal=None if self.nominal is None else self.nominal / factor,
            lower=None if self.lower is None else self.lower / factor,
            upper=None if self.upper is None else self.upper / factor,
            values=self.values / factor,
            u=None if self.u is None else self.u / factor,
            gauge=None if self.gauge is None else self.gauge / factor,
            unit=unit.of(self.unit),
            decimals=self.decimals + unit.more_digits(self.unit),
        )


@dataclass(frozen=True)
class Failures:
    """Number of parts that do not pass a characteristic; of these, not measured and not proven."""

    balloon: int
    name: str
    count: int
    missing: int
    unproven: int = 0

    @property
    def verdict(self) -> Verdict:
        """Totals of all parts."""
        return over_all(self.count - self.missing - self.unproven, self.missing, self.unproven)


def over_all(failed: int, missing: int, unproven: int) -> Verdict:
    """The verdict of many parts on one characteristic: PASS only where each of them passes."""
    if failed:
        return Verdict.FAIL
    return Verdict.NOT_MEASURED if missing else Verdict.NOT_PROVEN if unproven else Verdict.PASS


@dataclass(frozen=True)
class Texts:
    """Values of a characteristic without numbers: texts or reasons, the most frequent first, with counts."""

    found: tuple[tuple[str, int], ...]
    kinds: int
    """Number of different ones."""


def trends(records: Records, chosen: Sequence[Lot], balloon: int) -> list[Trend]:
    """One series per set of limits of a balloon in some lots of one plan, oldest first."""
    chosen = sorted(chosen, key=lambda lot: (lot.started, lot.id))
    with records.reading() as db:
        stood = _stood(db, chosen, balloon)
        ranges = {lot.id: _range(db, lot) for lot in chosen}
        many = {same: any(_of_many(db, key) for key in keys) for same, keys in stood.items()}
        found: dict[tuple[tuple[Any, ...], str], list[tuple[str, np.ndarray[Any, Any]]]] = {}
        for lot in chosen:
            for same, keys in stood.items():
                for taken in ("least", "greatest") if many[same] else ("value",):
                    pieces = [_values(db, key, lot, ranges[lot.id], _taken(taken)) for key in keys]
                    rows = np.sort(np.concatenate(pieces), order="part") if len(pieces) > 1 else pieces[0]
                    if rows.size:
                        found.setdefault((same, taken), []).append((lot.name, rows))
        reads = {same: any(reads_text(db, key, same[1]) for key in stood[same]) for same, _ in found}
        known = {same: (_uncertainty(db, keys), _gauge(db, keys[-1], balloon)) for same, keys in stood.items()}
    return [
        replace(
            _trend(balloon, same, pieces, ENDS[taken]),
            reads=reads[same],
            u=known[same][0],
            gauge=known[same][1] if taken == "value" else None,
        )
        for (same, taken), pieces in found.items()
    ]


def _uncertainty(db: Connection, keys: Sequence[int]) -> float | None:
    """The standard uncertainty of the newest values of some characteristics."""
    newest = (
        select(values.c.u)
        .where(values.c.characteristic_id == max(keys))
        .order_by(values.c.part_id.desc())
        .limit(FIRST)
        .subquery()
    )
    mean = db.execute(select(func.avg(newest.c.u * newest.c.u))).scalar()
    return None if mean is None else math.sqrt(float(mean))


def _gauge(db: Connection, key: int, balloon: int) -> float | None:
    """The standard deviation of the gauge that the plan of a characteristic keeps."""
    query = (
        select(revisions.c.document, characteristics.c.unit)
        .join(characteristics, characteristics.c.revision_id == revisions.c.id)
        .where(characteristics.c.id == key)
    )
    found = db.execute(query).one()
    try:
        row = from_json(found.document, "the plan of that day").characteristic(balloon)
    except PlanError:
        return None
    mark = None if row is None else row.gauge
    return mark.deviation if mark is not None and mark.unit == found.unit else None


def failures(records: Records, chosen: Sequence[Lot]) -> list[Failures]:
    """Failures of the parts of some lots, the most frequent first; rows that never failed come last."""
    missing = func.count().filter(values.c.verdict == CODES[Verdict.NOT_MEASURED])
    unproven = func.count().filter(values.c.verdict == CODES[Verdict.NOT_PROVEN])
    with records.reading() as db:
        names = {r.id: (r.balloon, r.name) for r in _characteristics(db, chosen)}
        found = {balloon: [0, 0, 0] for balloon, _ in names.values()}
        for lot in chosen:
            span = _range(db, lot)
            query = (
                select(values.c.characteristic_id, func.count(), missing, unproven)
                .where(values.c.characteristic_id.in_(names), NOT_PASSED, *_of_lot(lot, span))
                .group_by(values.c.characteristic_id)
            )
            for key, *numbers in db.execute(query):
                sums = found[names[key][0]]
                found[names[key][0]] = [a + b for a, b in zip(sums, numbers, strict=True)]
    newest = dict(names[key] for key in sorted(names))
    rows = [Failures(balloon, newest[balloon], *sums) for balloon, sums in found.items()]
    return sorted(rows, key=lambda row: (-row.count, row.balloon))


def texts(records: Records, chosen: Sequence[Lot], balloon: int, most: int = 12) -> Texts:
    """Values of a characteristic without numbers in some lots."""
    words = func.coalesce(values.c.text, values.c.reason, "")
    counted: dict[str, int] = {}
    with records.reading() as db:
        keys = [key for keys in _stood(db, chosen, balloon).values() for key in keys]
        for lot in chosen:
            query = (
                select(words, func.count())
                .where(values.c.characteristic_id.in_(keys), *_of_lot(lot, _range(db, lot)))
                .group_by(words)
            )
            for text, number in db.execute(query):
                counted[text] = counted.get(text, 0) + number
    rows = sorted(counted.items(), key=lambda item: (-item[1], item[0]))
    return Texts(tuple(rows[:most]), len(rows))


def not_passed(records: Records, chosen: Sequence[Lot], balloon: int) -> dict[Verdict, int]:
    """Number of parts of some lots by verdict, without PASS, on one characteristic."""
    counted: dict[Verdict, int] = {}
    with records.reading() as db:
        keys = [key for keys in _stood(db, chosen, balloon).values() for key in keys]
        for lot in chosen:
            query = (
                select(values.c.verdict, func.count())
                .where(values.c.characteristic_id.in_(keys), NOT_PASSED, *_of_lot(lot, _range(db, lot)))
                .group_by(values.c.verdict)
            )
            for code, number in db.execute(query):
                counted[VERDICTS[code]] = counted.get(VERDICTS[code], 0) + number
    return counted


def balloons_in(records: Records, chosen: Sequence[Lot]) -> dict[int, str]:
    """The characteristics of some lots: by balloon, the newest name."""
    with records.reading() as db:
        return dict(sorted((row.balloon, row.name) for row in _characteristics(db, chosen)))


def reads_text(db: Connection, key: int, unit: str) -> bool:
    """Whether a characteristic gives text, as its first parts show; what has a unit has a number beside it."""
    if unit:
        return False
    first = select(values.c.text).where(values.c.characteristic_id == key).limit(FIRST).subquery()
    return db.execute(select(func.count(first.c.text))).scalar_one() > 0


def _characteristics(db: Connection, chosen: Sequence[Lot]) -> Sequence[Any]:
    """Characteristics of all revisions used in some lots, oldest first."""
    used = exists().where(
        parts.c.revision_id == characteristics.c.revision_id, parts.c.lot_id.in_(lot.id for lot in chosen)
    )
    return db.execute(select(characteristics).where(used).order_by(characteristics.c.id)).all()


def _stood(db: Connection, chosen: Sequence[Lot], balloon: int) -> dict[tuple[Any, ...], list[int]]:
    """Keys of the characteristic, by its limits and name."""
    found: dict[tuple[Any, ...], list[int]] = {}
    for one in _characteristics(db, chosen):
        if one.balloon == balloon:
            same = (one.name, one.unit, one.nominal, one.lower, one.upper, one.decimals, one.method)
            found.setdefault(same, []).append(one.id)
    return found


def _range(db: Connection, lot: Lot) -> tuple[int, int] | None:
    """First and last key of a lot's parts where it has them for itself; None where others lie between.

    Keys are given one after the other and never taken away, so a lot that nothing was written beside has no
    gaps; its values are then one stretch of the table and nothing needs to be joined.
    """
    # each by itself is found at an end of the index
    ends = func.min(parts.c.id), func.max(parts.c.id), func.count()
    of_lot = parts.c.lot_id == lot.id
    first, last, count = (int(db.execute(select(end).where(of_lot)).scalar() or 0) for end in ends)
    if not count:
        return (1, 0)
    return (first, last) if last - first + 1 == count else None


def _of_lot(lot: Lot, span: tuple[int, int] | None) -> tuple[Any, ...]:
    """Values of the parts of a lot."""
    if span is not None:
        return (values.c.part_id.between(*span),)
    return (exists().where(parts.c.id == values.c.part_id, parts.c.lot_id == lot.id),)


def _taken(name: str) -> ColumnElement[Any]:
    """Column of the values; for a part with one value that is both its minimum and maximum."""
    return values.c.value if name == "value" else func.coalesce(values.c[name], values.c.value)


def _of_many(db: Connection, key: int) -> bool:
    """Whether a characteristic gives many values on a part, as its first parts show."""
    first = select(values.c.least).where(values.c.characteristic_id == key).limit(FIRST).subquery()
    return db.execute(select(func.count(first.c.least))).scalar_one() > 0


def _values(
    db: Connection, key: int, lot: Lot, span: tuple[int, int] | None, column: ColumnElement[Any]
) -> np.ndarray[Any, Any]:
    """Parts and values (of some column) of one characteristic in a lot, (n,) of `_PAIR`."""
    held = (values.c.characteristic_id == key, *_of_lot(lot, span))
    found = None
    if span is not None and db.dialect.name == "sqlite":
        found = _packed(db, held, column)
    if found is None:
        # an infinity stands for none, which arrays cannot hold
        value = func.coalesce(column, literal(float("inf")))
        found = _column(db, select(value).where(*held).order_by(values.c.part_id))
        found[np.isinf(found)] = np.nan
    rows = np.empty(found.size, _PAIR)
    rows["value"] = found
    if span is not None and found.size == span[1] - span[0] + 1:
        # a value for each key there is between two: which they are need not be asked
        rows["part"] = np.arange(span[0], span[1] + 1)
    else:
        rows["part"] = _column(db, select(values.c.part_id).where(*held).order_by(values.c.part_id))
    return rows


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


def _trend(
    balloon: int, same: tuple[Any, ...], pieces: list[tuple[str, np.ndarray[Any, Any]]], end: str
) -> Trend:
    name, unit, nominal, lower, upper, decimals, method = same
    name = f"{name}{end}"
    sizes = np.cumsum([0, *(rows.size for _, rows in pieces[:-1])])
    starts = tuple((int(at), lot) for at, (lot, _) in zip(sizes, pieces, strict=True))
    rows = np.concatenate([rows for _, rows in pieces])
    return Trend(
        balloon,
        name,
        unit,
        nominal,
        lower,
        upper,
        decimals,
        rows["part"].copy(),
        rows["value"].copy(),
        starts,
        method=method,
    )
