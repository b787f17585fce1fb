"""A recorded part as it was then: its scan, evaluated again with the plan revision of that day."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.results import Result
from hemtra.core.events import Event, Value
from hemtra.core.maps.scan import Scan
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.document import Plan
from hemtra.core.plan.limits import CharacteristicResult
from hemtra.storage.records import Records
from hemtra.storage.records.evidence import PartSheet, part_sheet, plan_of
from hemtra.storage.records.store import PartRecord
from hemtra.storage.remote import is_remote
from hemtra.storage.scans import load_scan

SAME = 1e-9
"""Relative difference of equal values: the last digits of another processor."""


@dataclass(frozen=True)
class Again:
    """A part evaluated as it was then."""

    scan: Scan
    plan: Plan
    engine: Engine
    result: Result


@dataclass(frozen=True)
class ReevaluatedPart:
    """The sheet of a part and, where its scan is there, what it gives again.

    missing: why there is no picture. differences: what is not as it was, one sentence each.
    """

    sheet: PartSheet
    again: Again | None = None
    missing: str = ""
    differences: tuple[str, ...] = ()


def reevaluate_part(records: Records, key: int) -> ReevaluatedPart:
    """Open a part by its key; a number that differs becomes an event, once. Raises `RecordsError`."""
    sheet = part_sheet(records, key)
    try:
        path = scan_of(sheet.part)
        plan = plan_of(records, sheet.part)
        scan = load_scan(path)
        engine = Engine(scan.data, scan.serial)
        again = Again(scan, plan, engine, engine.run(plan))
    except HemtraError as error:
        return ReevaluatedPart(sheet, missing=str(error))
    on_record = {event.text for event in sheet.events}
    found = _differing(sheet.rows, again.result.characteristics, sheet.part.number)
    for event in found:
        if event.text not in on_record:
            records.event(sheet.lot, event, part=sheet.part.id)
    return ReevaluatedPart(sheet, again, differences=tuple(event.text for event in found))


ONE_LOT = "Scans of two lots may have the same name; where they have been moved, name one lot."


def scan_moved(part: PartRecord, to: str) -> Path | str:
    """The scan of a part in the folder, or below the address, that all of its lot have been moved to.

    Raises `HemtraError` that says why there is none; whether an address has it shows when it is read.
    """
    name = Path(part.scan or part.source).name
    if is_remote(to):
        return f"{to.rstrip('/')}/{name}"
    path = Path(to).expanduser().absolute() / name
    if not path.is_file():
        raise HemtraError(f"Scan missing: {path}.")
    return path


def scan_of(part: PartRecord) -> Path:
    """The file that the scan of a part is in. Raises `HemtraError` that says why there is none."""
    if part.scan is not None:
        path = Path(part.scan)
        if path.is_file():
            return path
        raise HemtraError(f"No image: scan missing: {path}.")
    source = Path(part.source)
    if source.is_absolute() and source.is_file():
        return source
    raise HemtraError("No image: scan not stored. The station says which scans are kept, and how many.")


def differences(then: Sequence[CharacteristicResult], now: Sequence[CharacteristicResult]) -> tuple[str, ...]:
    """Differences from the record, one sentence each."""
    return tuple(event.text for event in _differing(then, now, None))


def _differing(
    then: Sequence[CharacteristicResult], now: Sequence[CharacteristicResult], number: int | None
) -> list[Event]:
    """Differences from the record, as events of a part."""
    again = {row.balloon: row for row in now}
    found = []
    for row in then:
        other = again.get(row.balloon)
        of_it: dict[str, Value] = {"balloon": Balloon(row.balloon).plain, "name": row.name}
        if other is None:
            found.append(Event("gone", time.time(), number, of_it))
        elif not _same(row, other):
            of_it |= {"now": _value_text(other), "then": _value_text(row)}
            found.append(Event("differs", time.time(), number, of_it))
    return found


def _same(row: CharacteristicResult, other: CharacteristicResult) -> bool:
    if row.value is None or other.value is None:
        return row.value is other.value and row.verdict is other.verdict
    near = abs(row.value - other.value) <= SAME * max(abs(row.value), 1.0)
    return near and row.verdict is other.verdict and row.text == other.text


def _value_text(row: CharacteristicResult) -> str:
    if row.value is None:
        return f"{row.verdict} ({row.reason})"
    # as many digits as it takes to see a difference
    return f"{row.text or f'{row.value:.9g} {row.unit}'.strip()} ({row.verdict})"
