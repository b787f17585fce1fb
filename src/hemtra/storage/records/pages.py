"""Finding parts among very many: filters, a page at a time, and how many there are.

A page is answered in one of two ways. Where some condition is rare, its index names the parts, which are then
sorted; otherwise parts are walked from the newest on until the page is full. What is rare is counted first,
never further than `RARE`, so that no page looks through the whole table.
"""

from __future__ import annotations

import heapq
import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection, Select, exists, func, select, tuple_

from hemtra.core.plan.limits import Verdict
from hemtra.storage.records.schema import (
    CODES,
    NOT_PASSED,
    VERDICTS,
    characteristics,
    lots,
    parts,
    revisions,
    values,
)
from hemtra.storage.records.store import Counts, Lot, PartRecord, Records, counts_of, part_of

PAGE = 200
FEW_LOTS = 50
"""Lots that are each looked through by themselves; of more, parts are walked by time."""
RARE = 20_000
"""Parts that are sorted in a few milliseconds."""
NOT_PASS = (Verdict.FAIL, Verdict.NOT_MEASURED)
_LAST = "\U0010ffff"
"""Sorts behind every other character."""


@dataclass(frozen=True)
class Filter:
    """Filter of parts; every condition must hold, and an empty one always does.

    balloon: of a characteristic they do not pass. serial: how it begins. since, until: when they were recorded,
    in seconds since 1970. revision: the key of a plan revision.
    """

    lots: tuple[int, ...] = ()
    verdicts: tuple[Verdict, ...] = ()
    balloon: int | None = None
    serial: str = ""
    since: float | None = None
    until: float | None = None
    revision: int | None = None


@dataclass(frozen=True)
class Page:
    """Parts, newest first, without their values; `more` is where the next page continues, None at the end."""

    parts: list[PartRecord]
    more: tuple[float, int] | None


@dataclass(frozen=True)
class LotView:
    """A lot with the verdicts of its parts."""

    lot: Lot
    counts: Counts


@dataclass(frozen=True)
class Revision:
    """A plan revision: key, name of the plan, when it was first used (seconds since 1970), and its digest."""

    id: int
    name: str
    seen: float
    digest: str


@dataclass(frozen=True)
class _Condition:
    """`fast` may use the index whose first parts `keys` names; `plain` says the same and uses none."""

    fast: Any
    plain: Any
    keys: Select[Any]


def page(records: Records, wanted: Filter, after: tuple[float, int] | None = None, most: int = PAGE) -> Page:
    """The newest parts that are wanted, or those older than where another page ended. Raises `RecordsError`."""
    with records.reading() as db:
        # each lot and verdict has a stretch of an index; they are merged, not sorted
        queries = [_page(db, one, after, most) for one in _stretches(wanted)]
    rows = list(heapq.merge(*queries, key=lambda row: (-row.recorded, -row.id)))[: most + 1]
    more = (rows[most - 1].recorded, rows[most - 1].id) if len(rows) > most else None
    return Page([part_of(row) for row in rows[:most]], more)


def count(records: Records, wanted: Filter) -> int:
    """Number of parts that match."""
    total = 0
    with records.reading() as db:
        for one in _stretches(wanted):
            query, _ = _wanted(db, one, select(func.count()).select_from(parts))
            total += int(db.execute(query).scalar_one())
    return total


def _stretches(wanted: Filter) -> list[Filter]:
    """The same condition in parts that have one verdict and, of few lots, one lot each."""
    lots_ = [(key,) for key in wanted.lots] if 1 < len(wanted.lots) <= FEW_LOTS else [wanted.lots]
    verdicts: list[tuple[Verdict, ...]] = [(verdict,) for verdict in wanted.verdicts] or [()]
    return [replace(wanted, lots=some, verdicts=one) for some, one in itertools.product(lots_, verdicts)]


def lot_views(records: Records) -> list[LotView]:
    """All lots with their counts, newest first."""
    with records.reading() as db:
        found: dict[int, dict[Verdict, int]] = {}
        query = select(parts.c.lot_id, parts.c.verdict, func.count()).group_by(parts.c.lot_id, parts.c.verdict)
        for lot, code, number in db.execute(query):
            found.setdefault(lot, {})[VERDICTS[code]] = number
        rows = db.execute(select(lots).order_by(lots.c.started.desc(), lots.c.id.desc())).all()
    return [
        LotView(Lot(r.id, r.name, r.plan, r.started, r.ended), counts_of(found.get(r.id, {}))) for r in rows
    ]


def revisions_of(records: Records, chosen: Sequence[int] = ()) -> list[Revision]:
    """Plan revisions, newest first: of some lots, or all."""
    columns = revisions.c.id, revisions.c.name, revisions.c.seen, revisions.c.digest
    query = select(*columns).order_by(revisions.c.seen.desc())
    if chosen:
        query = query.where(exists().where(parts.c.revision_id == revisions.c.id, parts.c.lot_id.in_(chosen)))
    with records.reading() as db:
        return [Revision(*row) for row in db.execute(query)]


def _page(db: Connection, wanted: Filter, after: tuple[float, int] | None, most: int) -> list[Any]:
    query, leads = _wanted(db, wanted, select(parts))
    # led by a rare condition, what is found is sorted; a server would rather walk through all parts by time.
    # The index of verdicts is in that order itself
    time = parts.c.recorded if leads in ("", "verdict") else parts.c.recorded + 0
    if after is not None:
        query = query.where(tuple_(time, parts.c.id) < tuple_(*after))
    query = query.order_by(time.desc(), parts.c.id.desc()).limit(most + 1)
    return list(db.execute(query).all())


def _wanted(db: Connection, wanted: Filter, query: Select[Any]) -> tuple[Select[Any], str]:
    """The query with the conditions of a filter, and the rarest where one is rare, which leads; else ''."""
    conditions = _conditions(db, wanted)
    counted = {
        name: int(db.execute(select(func.count()).select_from(c.keys.limit(RARE + 1).subquery())).scalar_one())
        for name, c in conditions.items()
        if name in ("balloon", "serial", "revision") or len(conditions) > 1
    }
    rarest = min(counted, key=counted.__getitem__, default="")
    leads = rarest if rarest and counted[rarest] <= RARE else ""
    for name, condition in conditions.items():
        # in order of time the verdict's index serves best; a frequent condition is only checked
        fast = name == leads or (not leads and name == "verdict")
        query = query.where(condition.fast if fast else condition.plain)
    for bound, holds in ((wanted.since, "__ge__"), (wanted.until, "__lt__")):
        if bound is not None:
            column = parts.c.recorded + 0 if leads else parts.c.recorded
            query = query.where(getattr(column, holds)(bound))
    if wanted.lots:
        query = query.where(_in_lots(wanted, plain=bool(leads) and leads != "verdict"))
    return query, leads


def _in_lots(wanted: Filter, *, plain: bool) -> Any:
    if len(wanted.lots) == 1:
        column = parts.c.lot_id + 0 if plain else parts.c.lot_id
        return column == wanted.lots[0]
    return (parts.c.lot_id + 0).in_(wanted.lots)


def _conditions(db: Connection, wanted: Filter) -> dict[str, _Condition]:
    found: dict[str, _Condition] = {}
    here = (parts.c.lot_id == wanted.lots[0],) if len(wanted.lots) == 1 else ()
    if wanted.verdicts:
        code = CODES[wanted.verdicts[0]]
        fast = parts.c.verdict == code
        found["verdict"] = _Condition(fast, parts.c.verdict + 0 == code, select(parts.c.id).where(fast, *here))
    if wanted.revision is not None:
        fast = parts.c.revision_id == wanted.revision
        plain = parts.c.revision_id + 0 == wanted.revision
        found["revision"] = _Condition(fast, plain, select(parts.c.id).where(fast))
    if wanted.serial:
        fast = parts.c.serial.between(wanted.serial, wanted.serial + _LAST)
        plain = func.substr(parts.c.serial, 1, len(wanted.serial)) == wanted.serial
        found["serial"] = _Condition(fast, plain, select(parts.c.id).where(fast))
    if wanted.balloon is not None:
        keys = select(characteristics.c.id).where(characteristics.c.balloon == wanted.balloon)
        known = tuple(db.execute(keys).scalars())
        failing = select(values.c.part_id).where(values.c.characteristic_id.in_(known), NOT_PASSED)
        found["balloon"] = _Condition(
            parts.c.id.in_(failing),
            exists().where(values.c.characteristic_id.in_(known), values.c.part_id == parts.c.id, NOT_PASSED),
            failing,
        )
    return found
