"""The records of the demo: twenty lots to look back at, some of their scans, and where one works with them."""

from __future__ import annotations

import itertools
from pathlib import Path

from hemtra.core.evaluation.engine import Engine
from hemtra.core.events import Event
from hemtra.core.plan.document import Plan
from hemtra.core.plan.limits import CharacteristicResult, Verdict, part_verdict, reason_of
from hemtra.core.progress import Progress
from hemtra.runtime.run_setup import records_folder
from hemtra.storage.files import make_folder
from hemtra.storage.records import Records
from hemtra.storage.records.merging import merge
from hemtra.storage.records.store import SENT, Lot, PartRecord
from hemtra.storage.scans import save_scan
from hemtra.virtual.demo import STATION
from hemtra.virtual.lots import CYCLE, TOOL_CHANGE, SimulatedPart, lot_name, made_parts, measured, revised
from hemtra.virtual.sensor import scan_part

RECORDS, KEPT = "records.db", "kept"
WORKED_WITH = "demo-records.db"
SCANNED = {13: 3, 19: 2}
"""Number of failed parts per lot that have their scan; older scans were removed."""
ONE_GOOD = 13
"""The lot of which a part that passes has its scan too."""


def write_records(folder: Path, plan: Plan, progress: Progress) -> bool:
    """Write the database and the kept scans into a folder; False when `progress` asked to stop."""
    (folder / RECORDS).unlink(missing_ok=True)
    records = Records(str(folder / RECORDS))
    try:
        return _Writer(folder, records, plan).write(progress)
    finally:
        records.close()


def demo_db() -> str:
    """The database that the demo works with."""
    return str(records_folder() / WORKED_WITH)


def records_of_demo(folder: Path, progress: Progress = lambda done, of, what: True) -> str:
    """Add the twenty lots to the demo's database, beside what was recorded there before."""
    records = Records(demo_db())
    try:
        merge(records, folder / RECORDS, progress)
    finally:
        records.close()
    return demo_db()


class _Writer:
    """Writes lot by lot."""

    def __init__(self, folder: Path, records: Records, plan: Plan) -> None:
        self._folder, self._records = folder, records
        self._plans = (plan, revised(plan))
        self._left = dict(SCANNED)
        self._good = True

    def write(self, progress: Progress) -> bool:
        total, done = sum(SCANNED.values()) + 1, 0
        station = self._records.station(STATION)
        revisions = [self._records.revision(plan) for plan in self._plans]
        for number, group in itertools.groupby(made_parts(), key=lambda made: made.lot):
            made = list(group)
            end = made[-1].time + CYCLE
            lot = self._records.add_lot(Lot(0, lot_name(number), self._plans[0].name, made[0].time, end))
            held: dict[int, list[PartRecord]] = {0: [], 1: []}
            for one in made:
                record = self._record(one)
                if record.scan is not None:
                    done += 1
                    if not progress(done - 1, total, f"scanning part {record.number} of {lot.name}"):
                        return False
                held[int(one.revised)].append(record)
            for key, found in held.items():
                self._records.add_all(lot, found, revisions[key], station)
            if number == TOOL_CHANGE[0]:
                when = made[TOOL_CHANGE[1]].time - CYCLE / 2
                self._records.event(
                    lot, Event("tool change", when, fields={"text": "A new reamer for the bore."})
                )
        return True

    def _record(self, made: SimulatedPart) -> PartRecord:
        plan = self._plans[int(made.revised)]
        rows = measured(made, plan)
        serial, scan = made.cover.serial, None
        if self._scans(made, rows):
            rows, scan = self._scanned(made, plan)
        verdict = part_verdict(row.verdict for row in rows)
        return PartRecord(
            number=made.number + 1,
            verdict=verdict,
            reason=reason_of(rows),
            serial=serial,
            rows=rows,
            triggered=made.time - 0.6,
            scanned=made.time,
            judged=made.time + 0.12,
            elapsed_ms=110.0,
            scan=scan,
            recorded=made.time + 0.13,
            signalled=made.time + 0.14,
            signal=SENT,
        )

    def _scans(self, made: SimulatedPart, rows: tuple[CharacteristicResult, ...]) -> bool:
        """Whether the scan of a part was kept."""
        passes = all(row.verdict is Verdict.PASS for row in rows)
        if passes and made.lot == ONE_GOOD and self._good:
            self._good = False
            return True
        if passes or not self._left.get(made.lot):
            return False
        self._left[made.lot] -= 1
        return True

    def _scanned(self, made: SimulatedPart, plan: Plan) -> tuple[tuple[CharacteristicResult, ...], str]:
        """Result of the plan on a real scan of the part, and the file that holds the scan."""
        folder = self._folder / KEPT / lot_name(made.lot)
        make_folder(folder)
        path = folder / f"{made.number + 1:07d}.x3p"
        scan = scan_part(made.cover, STATION, made.number, name=path.name)
        save_scan(scan, path)
        return Engine(scan.data, scan.serial).run(plan).characteristics, str(path.resolve())
