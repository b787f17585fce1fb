"""Looking back at records: trends of a characteristic, what failed how often, and everything as a table."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import Connection, func, select

from hemtra.core.arrays import FloatArray, IntArray
from hemtra.core.plan.limits import Verdict
from hemtra.storage.files import atomic_write
from hemtra.storage.records.schema import CODES, VERDICTS, characteristics, lots, parts, values
from hemtra.storage.records.store import Lot, Records

CHUNK = 2000
"""Parts that are exported at a time; memory stays bounded however many there are."""
PART_COLUMNS = ("number", "serial", "verdict", "reason", "scanned", "signal", "scan")

Progress = Callable[[int, int, str], bool]
"""Told how many of how many are done and what comes next; answers whether to go on."""


@dataclass(frozen=True)
class Trend:
    """The values of one characteristic as it stood, in the order of the parts.

    A characteristic that was renamed, or whose limits changed, is another one. numbers: (n,) running numbers;
    values: (n,) NaN where it was not measured.
    """

    balloon: int
    name: str
    unit: str
    nominal: float | None
    lower: float | None
    upper: float | None
    decimals: int
    numbers: IntArray
    values: FloatArray


def trends(records: Records, lot: Lot, balloon: int) -> list[Trend]:
    """One series for each way the characteristic of a balloon stood while the lot was made."""
    with records.reading() as db:
        stood = db.execute(
            select(characteristics)
            .where(characteristics.c.balloon == balloon)
            .where(characteristics.c.revision_id.in_(_revisions(lot)))
            .order_by(characteristics.c.id)
        ).all()
        found: dict[tuple[Any, ...], list[tuple[int, float | None]]] = {}
        for one in stood:
            same = (one.name, one.unit, one.nominal, one.lower, one.upper, one.decimals)
            query = (
                select(parts.c.number, values.c.value)
                .join(parts, parts.c.id == values.c.part_id)
                .where(values.c.characteristic_id == one.id, parts.c.lot_id == lot.id)
                .order_by(values.c.part_id)
            )
            rows = found.setdefault(same, [])
            rows += [(number, value) for number, value in db.execute(query)]
    return [_trend(balloon, same, sorted(rows)) for same, rows in found.items() if rows]


def _trend(balloon: int, same: tuple[Any, ...], rows: list[tuple[int, float | None]]) -> Trend:
    name, unit, nominal, lower, upper, decimals = same
    numbers = np.array([number for number, _ in rows], np.int64)
    measured = np.array([np.nan if value is None else value for _, value in rows])
    return Trend(balloon, name, unit, nominal, lower, upper, decimals, numbers, measured)


def failures(records: Records, lot: Lot) -> list[tuple[int, str, int]]:
    """Balloon, name, and how many parts of a lot do not pass it; the most frequent first."""
    query = (
        select(characteristics.c.balloon, func.max(characteristics.c.name), func.count())
        .join(values, values.c.characteristic_id == characteristics.c.id)
        .join(parts, parts.c.id == values.c.part_id)
        .where(parts.c.lot_id == lot.id, values.c.verdict != CODES[Verdict.PASS])
        .where(characteristics.c.revision_id.in_(_revisions(lot)))
        .group_by(characteristics.c.balloon)
        .order_by(func.count().desc(), characteristics.c.balloon)
    )
    with records.reading() as db:
        return [(balloon, name, count) for balloon, name, count in db.execute(query)]


def export_csv(
    records: Records,
    path: Path,
    chosen: Sequence[Lot] | None = None,
    progress: Progress = lambda done, of, what: True,
) -> bool:
    """Save one row a part with a column a characteristic, atomically; False when `progress` asked to stop.

    A characteristic that was renamed or measures in another unit has a column of its own. Raises `FileError`.
    """
    try:
        _export(records, path, chosen, progress)
    except _Stopped:
        return False
    return True


def _export(records: Records, path: Path, chosen: Sequence[Lot] | None, progress: Progress) -> None:
    with records.reading() as db:
        found = records.all_lots() if chosen is None else list(chosen)
        keys = [lot.id for lot in reversed(found)]
        titles = _titles(db, keys)
        columns = list(dict.fromkeys(titles.values()))
        total = db.execute(select(func.count()).select_from(parts).where(parts.c.lot_id.in_(keys))).scalar_one()
        done = 0
        with atomic_write(path) as stream:
            text = io.TextIOWrapper(stream, "utf-8", newline="", write_through=True)
            table = csv.writer(text, lineterminator="\n")
            table.writerow(("lot", *PART_COLUMNS, *columns))
            last = 0
            while rows := _chunk(db, keys, last):
                measured = _values(db, titles, rows[0].id, rows[-1].id)
                for row in rows:
                    held = measured.get(row.id, {})
                    plain = (row.number, row.serial, VERDICTS[row.verdict], row.reason, f"{row.scanned:.3f}")
                    told = (held.get(column, "") for column in columns)
                    table.writerow((row.lot, *plain, row.signal, row.scan or "", *told))
                last, done = rows[-1].id, done + len(rows)
                if not progress(done, total, f"part {rows[-1].number} of {rows[-1].lot}"):
                    raise _Stopped
            text.detach()


class _Stopped(Exception):
    """Somebody asked to stop; what was written is dropped."""


def _revisions(lot: Lot) -> Any:
    return select(parts.c.revision_id).where(parts.c.lot_id == lot.id).distinct()


def _titles(db: Connection, keys: Sequence[int]) -> dict[int, str]:
    """By characteristic, the title of its column."""
    used = select(parts.c.revision_id).where(parts.c.lot_id.in_(keys)).distinct()
    query = select(characteristics).where(characteristics.c.revision_id.in_(used))
    found = db.execute(query.order_by(characteristics.c.balloon, characteristics.c.id))
    return {row.id: f"{row.balloon} {row.name}" + (f" ({row.unit})" if row.unit else "") for row in found}


def _chunk(db: Connection, keys: Sequence[int], last: int) -> Sequence[Any]:
    query = (
        select(parts, lots.c.name.label("lot"))
        .join(lots, lots.c.id == parts.c.lot_id)
        .where(parts.c.id > last, parts.c.lot_id.in_(keys))
        .order_by(parts.c.id)
        .limit(CHUNK)
    )
    return db.execute(query).all()


def _values(db: Connection, titles: dict[int, str], first: int, last: int) -> dict[int, dict[str, float]]:
    """By part and column, of a stretch of parts; each characteristic is one stretch of its table."""
    found: dict[int, dict[str, float]] = {}
    for key, title in titles.items():
        query = select(values.c.part_id, values.c.value).where(
            values.c.characteristic_id == key, values.c.part_id.between(first, last)
        )
        for part, value in db.execute(query):
            if value is not None:
                found.setdefault(part, {})[title] = value
    return found
