"""A database of a million parts with 24 values each, as a line makes in some months."""

from __future__ import annotations

import time
from pathlib import Path

import numpy as np
from sqlalchemy import text

from hemtra.core.plan.limits import Verdict
from hemtra.storage.records import Records
from hemtra.storage.records.schema import CODES
from hemtra.virtual.demo import demo_plan

DAY = 86_400.0
BEGAN = 1_760_000_000.0
CYCLE = 12.0
"""s from part to part."""


def many_parts(path: Path, count: int = 1_000_000, lots: int = 20, seed: int = 7) -> Path:
    """Write the database, unless it is there; a part in sixty fails one characteristic."""
    if path.exists():
        return path
    rng = np.random.default_rng(seed)
    unfinished = path.with_suffix(".unfinished")
    unfinished.unlink(missing_ok=True)
    records = Records(str(unfinished))
    plan = demo_plan()
    revision = records.revision(plan)
    size = count // lots
    lot_ids = [records.open_lot(plan.name, f"lot {k + 1:02d}", new=True).id for k in range(lots)]
    fails = np.where(rng.random(count) < 1 / 60, rng.integers(1, 25, count), 0)
    missing = rng.random(count) < 1 / 2000
    verdicts = np.where(missing, CODES[Verdict.NOT_MEASURED], np.where(fails > 0, CODES[Verdict.FAIL], 0))
    with records.reading() as db:
        raw = db.connection.driver_connection
        raw.execute("pragma synchronous=off")
        raw.execute("pragma cache_size=-400000")
        times = BEGAN + CYCLE * np.arange(count)
        raw.executemany(
            "insert into parts (id, lot_id, number, serial, revision_id, verdict, reason, source, triggered,"
            " scanned, judged, recorded, signal, elapsed_ms) values (?,?,?,?,?,?,?,?,?,?,?,?,?,?)",
            (
                (
                    k + 1,
                    lot_ids[min(k // size, lots - 1)],
                    k % size + 1,
                    f"RPC-7 {k:07d}",
                    revision,
                    code,
                    f"{bad} of it" if bad else "",
                    "",
                    at,
                    at + 0.5,
                    at + 0.6,
                    at + 0.61,
                    "sent",
                    90.0,
                )
                for k, (code, bad, at) in enumerate(
                    zip(verdicts.tolist(), fails.tolist(), times.tolist(), strict=True)
                )
            ),
        )
        for k, key in enumerate(lot_ids):
            first, last = times[k * size], times[min((k + 1) * size, count) - 1]
            raw.execute("update lots set started=?, ended=? where id=?", (first, last, key))
        known = dict(
            raw.execute("select balloon, id from characteristics where revision_id=?", (revision,)).fetchall()
        )
        for balloon, key in known.items():
            row = plan.characteristic(balloon)
            middle = 1.0 if row is None or row.nominal is None else row.nominal
            values = middle + rng.normal(0, 0.02, count) + 0.02 * np.sin(np.arange(count) / 40_000)
            bad = fails == balloon
            values[bad] += 1.0
            codes = np.where(missing, 2, np.where(bad, 1, 0))
            raw.executemany(
                "insert into part_values (characteristic_id, part_id, value, verdict) values (?,?,?,?)",
                (
                    (key, part, None if gone else value, code)
                    for part, (value, code, gone) in enumerate(
                        zip(values.tolist(), codes.tolist(), missing.tolist(), strict=True), start=1
                    )
                ),
            )
        raw.commit()
        db.execute(text("analyze"))
        raw.commit()
    records.close()
    unfinished.rename(path)
    for extra in ("-wal", "-shm"):
        Path(f"{unfinished}{extra}").unlink(missing_ok=True)
    return path


if __name__ == "__main__":
    import sys

    began = time.perf_counter()
    print(many_parts(Path(sys.argv[1])), f"{time.perf_counter() - began:.0f} s")
