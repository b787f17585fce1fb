"""Times looking back at ten million parts of 24 values, in a file and on a server, before and after packing.

`python benchmarks/ten_million.py URL [parts] [rows]` makes the records unless they are there, which takes half
an hour and 10 GB in a file, and prints the lines of docs/records.md. A year of one line: 200 lots, one after
the other. rows: how many of the 24 have values; those of a row lie together, so others do not matter to it.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from contextlib import closing

from sqlalchemy import text

from hemtra.core.plan.limits import Verdict
from hemtra.core.statistics import Blocks, statistics
from hemtra.storage.records import Records
from hemtra.storage.records.packed import pack_ended
from hemtra.storage.records.pages import NOT_PASS, Filter, lot_views, page
from hemtra.storage.records.trends import failures, trends
from hemtra.virtual.demo import demo_plan

PARTS, LOTS, ROWS = 10_000_000, 200, 24
BEGAN, CYCLE = 1_730_000_000.0, 3.0
BALLOON = 8
ASKED = (3, BALLOON, 12)
"""Rows that the questions are about."""
RANDOM = {"sqlite": "(random() / 18446744073709551616.0 + 0.5)", "postgresql": "random()"}
"""A number from 0 to 1, evenly."""
SERIES = {
    "sqlite": "with recursive s(n) as (select :first union all select n + 1 from s where n < :last)",
    "postgresql": "with s as (select generate_series(cast(:first as int), cast(:last as int)) as n)",
}
TEXT = {"sqlite": "printf('RPC-7 %08d', n)", "postgresql": "'RPC-7 ' || lpad(n::text, 8, '0')"}


def make(records: Records, count: int, many: int) -> None:
    """Fill empty records: a part in sixty fails one characteristic, one in two thousand is not measured.

    many: rows that have values.
    """
    plan = demo_plan()
    revision = records.revision(plan)
    size = count // LOTS
    lots = [records.open_lot(plan.name, f"lot {k + 1:03d}", new=True).id for k in range(LOTS)]
    with records.writing() as db:
        kind = db.dialect.name
        if kind == "sqlite":
            db.execute(text("pragma cache_size=-2000000"))
        for k, lot in enumerate(lots):
            span = {"first": k * size + 1, "last": (k + 1) * size}
            db.execute(text(_parts(kind)), span | {"lot": lot, "revision": revision, "before": k * size})
            ends = {"a": BEGAN + CYCLE * span["first"], "b": BEGAN + CYCLE * span["last"], "lot": lot}
            db.execute(text("update lots set started = :a, ended = :b where id = :lot"), ends)
    rows = {row.balloon: row for row in plan.sheet}
    keys = "select id, balloon from characteristics where revision_id = :revision order by id"
    with records.reading() as db:
        found = db.execute(text(keys), {"revision": revision}).all()
    for key, balloon in sorted(found, key=lambda row: row.balloon not in ASKED)[:many]:
        with records.writing() as db:
            middle = rows[balloon].nominal or 1.0
            db.execute(text(_values(kind)), {"key": key, "middle": middle, "bad": balloon % 24, "last": count})
        print(f"row {balloon}", file=sys.stderr, flush=True)
    with records.writing() as db:
        db.execute(text("analyze"))
    if kind == "postgresql":
        _settle(records)


def _settle(records: Records) -> None:
    """Do what the server would do by itself within the year."""
    with records._engine.connect().execution_options(isolation_level="AUTOCOMMIT") as db:
        db.execute(text("vacuum analyze"))


def _parts(kind: str) -> str:
    verdict = "case when n % 2000 = 7 then 2 when n % 60 = 1 then 1 else 0 end"
    at = f"{BEGAN} + {CYCLE} * n"
    return (
        "insert into parts (id, lot_id, number, serial, revision_id, verdict, reason, source, triggered,"
        f" scanned, judged, recorded, signal, elapsed_ms) {SERIES[kind]} select n, :lot, n - :before,"
        f" {TEXT[kind]}, :revision, {verdict}, '', '', {at}, {at}, {at}, {at}, 'sent', 90.0 from s"
    )


def _values(kind: str) -> str:
    """A part in 60 fails one row, by turns; one in 2000 has none."""
    noise = " + ".join([RANDOM[kind]] * 3)
    bad = "id % 60 = 1 and (id / 60) % 24 = :bad"
    value = f":middle + 0.04 * ({noise} - 1.5) + case when {bad} then 1.0 else 0.0 end"
    return (
        "insert into part_values (characteristic_id, part_id, value, verdict) select :key, id,"
        f" case when id % 2000 = 7 then null else {value} end,"
        f" case when id % 2000 = 7 then 2 when {bad} then 1 else 0 end from parts where id <= :last"
        + (" order by id" if kind == "sqlite" else "")
    )


def timed(name: str, work: Callable[[], object], rounds: int = 3) -> None:
    """Print the median of some rounds."""
    taken = []
    for _ in range(rounds):
        began = time.perf_counter()
        work()
        taken.append(time.perf_counter() - began)
    print(f"| {name} | {sorted(taken)[rounds // 2]:.3f} s |", flush=True)


def look_back(records: Records, count: int) -> None:
    """Print how long the questions take that people ask."""
    lots = records.all_lots()
    day = BEGAN + CYCLE * count / 2
    wanted = {
        "everything": Filter(),
        "not passed": Filter(verdicts=NOT_PASS),
        "of a balloon": Filter(balloon=12),
        "serial": Filter(serial="RPC-7 05123"),
        "of some days": Filter(since=day, until=day + 5e5, verdicts=(Verdict.FAIL,), balloon=3),
        "of some lots": Filter(lots=tuple(lot.id for lot in lots[20:40])),
    }
    for name, one in wanted.items():
        timed(f"page of 200: {name}", lambda one=one: page(records, one))
    timed("all lots with their counts", lambda: lot_views(records), 1)

    def follow() -> None:
        (found,) = trends(records, lots, BALLOON)
        statistics(found.values, found.lower, found.upper)
        Blocks.of(found.values)
        assert found.values.size == count // LOTS * LOTS

    timed("one characteristic of all parts, statistics and blocks", follow, 3)
    timed("failures by balloon", lambda: failures(records, lots), 1)


def main() -> None:
    """Make, time, pack, and time again."""
    url, count = sys.argv[1], int(sys.argv[2]) if len(sys.argv) > 2 else PARTS
    with closing(Records(url)) as records:
        if not records.all_lots():
            began = time.perf_counter()
            make(records, count, int(sys.argv[3]) if len(sys.argv) > 3 else ROWS)
            print(f"made in {time.perf_counter() - began:.0f} s", file=sys.stderr)
        look_back(records, count)
        began = time.perf_counter()
        many = pack_ended(records)
        print(f"{many} lots packed in {time.perf_counter() - began:.0f} s")
        if url.startswith("postgresql"):
            _settle(records)
        look_back(records, count)


if __name__ == "__main__":
    main()
