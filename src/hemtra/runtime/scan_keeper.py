"""Keeping the scans of recorded parts: files and records together; values continue without their scans."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from hemtra.core.errors import HemtraError
from hemtra.core.plan.limits import Verdict
from hemtra.core.station.io_and_storage import ScanRetention
from hemtra.runtime.feeds import Arrived
from hemtra.runtime.scan_store import ScanStore
from hemtra.runtime.upkeep import kept_scans
from hemtra.storage.records import Records
from hemtra.storage.records.kept_scans import forget_scans
from hemtra.storage.records.store import Lot, PartRecord


class ScanKeeper:
    """Keeper of a run's scans."""

    def __init__(self, records: Records, folder: Path, keeping: ScanRetention) -> None:
        self._records = records
        self._store = ScanStore(folder, keeping, kept_scans(records, folder.absolute()))
        self._fails = False

    @property
    def free(self) -> float:
        """GB left where scans are kept."""
        return self._store.free

    def keep(self, record: PartRecord, arrived: Arrived, lot: Lot) -> tuple[PartRecord, str]:
        """The record with its scan, where that is kept; and why it could not be, the first time."""
        has_scan = arrived.scan is not None or arrived.path is not None
        if not has_scan or not self._store.keeps(record.number, passed=record.verdict is Verdict.PASS):
            return record, ""
        try:
            path, gone = self._store.keep(arrived, lot, record.number)
            self._records.keep_scan(record.id, str(path))
            forget_scans(self._records, [str(p) for p in gone])
        except HemtraError as error:
            known, self._fails = self._fails, True
            return record, "" if known else str(error)
        self._fails = False
        return replace(record, scan=str(path)), ""
