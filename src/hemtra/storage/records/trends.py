"""A characteristic over many parts, and failures by characteristic."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from sqlalchemy import Connection, exists, func, select

from hemtra.core.arrays import FloatArray, IntArray
from hemtra.core.errors import PlanError
from hemtra.core.plan.limits import Verdict
from hemtra.core.units import LengthUnit
from hemtra.storage.plans import from_json
from hemtra.storage.records.lot_values import PAIR, of_lot, range_of, read_values, taken
from hemtra.storage.records.packed import COUNTED, not_passed_of, packed_lots, packed_values_of
from hemtra.storage.records.schema import (
    CODES,
    NOT_PASSED,
    characteristics,
    parts,
    revisions,
    values,
)
from hemtra.storage.records.store import Lot, Records

FIRST = 200
"""Parts that decide whether a characteristic reads text."""
ENDS = {"value": "", "least": ", min", "greatest": ", max"}
"""Suffix of a name, by the value taken of a characteristic."""


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
        packed = packed_lots(db, [lot.id for lot in chosen])
        ranges = {lot.id: range_of(db, lot.id) for lot in chosen if lot.id not in packed}
        many = {same: any(_of_many(db, key) for key in keys) for same, keys in stood.items()}
        found: dict[tuple[tuple[Any, ...], str], list[tuple[str, np.ndarray[Any, Any]]]] = {}
        for same, keys in stood.items():
            for end in ("least", "greatest") if many[same] else ("value",):
                held = packed_values_of(db, keys, packed, end)
                for lot in chosen:
                    if lot.id in packed:
                        pieces = held.get(lot.id, [])
                    else:
                        pieces = [read_values(db, key, lot.id, ranges[lot.id], taken(end)) for key in keys]
                    rows = _joined(pieces)
                    if rows.size:
                        found.setdefault((same, end), []).append((lot.name, rows))
        reads = {same: any(reads_text(db, key, same[1]) for key in stood[same]) for same, _ in found}
        known = {same: (_uncertainty(db, keys), _gauge(db, keys[-1], balloon)) for same, keys in stood.items()}
    return [
        replace(
            _trend(balloon, same, pieces, ENDS[end]),
            reads=reads[same],
            u=known[same][0],
            gauge=known[same][1] if end == "value" else None,
        )
        for (same, end), pieces in found.items()
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
    with records.reading() as db:
        names = {r.id: (r.balloon, r.name) for r in _characteristics(db, chosen)}
        found = {balloon: [0, 0, 0] for balloon, _ in names.values()}
        for key, numbers in _not_passed(db, list(names), chosen).items():
            sums = found[names[key][0]]
            found[names[key][0]] = [a + b for a, b in zip(sums, numbers, strict=True)]
    newest = dict(names[key] for key in sorted(names))
    rows = [Failures(balloon, newest[balloon], sum(sums), *sums[1:]) for balloon, sums in found.items()]
    return sorted(rows, key=lambda row: (-row.count, row.balloon))


def _not_passed(db: Connection, keys: Sequence[int], chosen: Sequence[Lot]) -> dict[int, list[int]]:
    """By characteristic, how many parts of some lots have which verdict of `COUNTED`; none without any."""
    packed = packed_lots(db, [lot.id for lot in chosen])
    found = not_passed_of(db, keys, packed)
    counts = [func.count().filter(values.c.verdict == CODES[verdict]) for verdict in COUNTED.values()]
    for lot in chosen:
        if lot.id in packed:
            continue
        query = select(values.c.characteristic_id, *counts).where(
            values.c.characteristic_id.in_(keys), NOT_PASSED, *of_lot(lot.id, range_of(db, lot.id))
        )
        for key, *numbers in db.execute(query.group_by(values.c.characteristic_id)):
            found[key] = [a + b for a, b in zip(found.get(key, [0] * len(numbers)), numbers, strict=True)]
    return found


def texts(records: Records, chosen: Sequence[Lot], balloon: int, most: int = 12) -> Texts:
    """Values of a characteristic without numbers in some lots."""
    words = func.coalesce(values.c.text, values.c.reason, "")
    counted: dict[str, int] = {}
    with records.reading() as db:
        keys = [key for keys in _stood(db, chosen, balloon).values() for key in keys]
        for lot in chosen:
            query = (
                select(words, func.count())
                .where(values.c.characteristic_id.in_(keys), *of_lot(lot.id, range_of(db, lot.id)))
                .group_by(words)
            )
            for text, number in db.execute(query):
                counted[text] = counted.get(text, 0) + number
    rows = sorted(counted.items(), key=lambda item: (-item[1], item[0]))
    return Texts(tuple(rows[:most]), len(rows))


def not_passed(records: Records, chosen: Sequence[Lot], balloon: int) -> dict[Verdict, int]:
    """Number of parts of some lots by verdict, without PASS, on one characteristic."""
    with records.reading() as db:
        keys = [key for keys in _stood(db, chosen, balloon).values() for key in keys]
        found = _not_passed(db, keys, chosen)
    sums = [sum(column) for column in zip(*found.values(), strict=True)]
    return {verdict: number for verdict, number in zip(COUNTED.values(), sums, strict=False) if number}


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


def _of_many(db: Connection, key: int) -> bool:
    """Whether a characteristic gives many values on a part, as its first parts show."""
    first = select(values.c.least).where(values.c.characteristic_id == key).limit(FIRST).subquery()
    return db.execute(select(func.count(first.c.least))).scalar_one() > 0


def _joined(pieces: Sequence[np.ndarray[Any, Any]]) -> np.ndarray[Any, Any]:
    """Values of several characteristics in the order of their parts."""
    if len(pieces) == 1:
        return pieces[0]
    return np.sort(np.concatenate([np.empty(0, PAIR), *pieces]), order="part")


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
