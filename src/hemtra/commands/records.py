"""Work on records from a terminal: exports, reports, merging, and maintenance."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from hemtra.core.errors import HemtraError
from hemtra.core.progress import Progress
from hemtra.core.text import plain
from hemtra.core.units import MM, LengthUnit
from hemtra.runtime.crews import crew_for
from hemtra.runtime.many_reports import Reporting, report_lots
from hemtra.runtime.reporting import first_article, report_lot, report_part
from hemtra.runtime.run_setup import LOCK_FILE, default_db, records_folder
from hemtra.runtime.upkeep import BACKUPS
from hemtra.storage.exports import export
from hemtra.storage.files import shown
from hemtra.storage.records import Records
from hemtra.storage.records.lock_note import note
from hemtra.storage.records.merging import merge, refuse
from hemtra.storage.records.packed import pack_ended
from hemtra.storage.records.store import Lot
from hemtra.storage.records.upkeep import archive, backup, check, rescue, restore
from hemtra.storage.settings import load_settings
from hemtra.storage.tables import STYLES


def export_records(
    db: str | None, lot: str | None, output: Path, progress: Progress, style: str | None = None
) -> None:
    """Export all parts, or those of a lot; style: of a CSV, else as in the settings. Raises `HemtraError`."""
    name = style or load_settings().csv
    if name not in STYLES:
        raise HemtraError(f"“{name}” is no style of tables; take {', '.join(STYLES)}.")
    with opened_records(db) as records:
        export(records, output, None if lot is None else [wanted_lot(records, lot)], progress, STYLES[name])


@dataclass(frozen=True)
class ReportRequest:
    """Choose the subject: a lot (default: the newest) or one part; as a first article on request."""

    lot: str | None = None
    part: int | None = None
    is_first: bool = False


def report_records(
    db: str | None, asked: ReportRequest, output: Path, progress: Progress, unit: LengthUnit = MM
) -> None:
    """Report a lot, or one part of it, with lengths in a unit. Raises `HemtraError`."""
    lot, part = asked.lot, asked.part
    if asked.is_first and part is None:
        raise HemtraError("A first-article report is of one part; say which with --part.")
    with opened_records(db) as records:
        wanted = wanted_lot(records, lot)
        if part is None:
            report_lot(records, wanted, output, progress, unit)
            return
        found = records.parts_of(wanted, first=part, most=1)
        if not found or found[0].number != part:
            raise HemtraError(f"Lot {wanted.name} has no part {part}.")
        (first_article if asked.is_first else report_part)(records, found[0].id, output, unit)


@dataclass(frozen=True)
class Many:
    """Choose lots by name or by the days on which they were begun, and who reports them, see `crew_for`."""

    lots: Sequence[str] = ()
    since: str | None = None
    until: str | None = None
    jobs: int = 1
    on: str | None = None


def report_many(
    db: str | None, asked: Many, folder: Path, progress: Progress, unit: LengthUnit = MM
) -> list[str]:
    """Report lots into a folder; what went wrong, one sentence a lot. Raises `HemtraError`."""
    with opened_records(db) as records:
        lots = wanted_lots(records, asked.lots, asked.since, asked.until)
        # workers may stand in other folders
        address = records.url if "://" in records.url else str(Path(records.url).absolute())
    crew = crew_for(asked.on, asked.jobs, len(lots))
    found = report_lots(Reporting(address, unit), lots, folder, crew, progress)
    return [f"Lot {lot.name}: {trouble}" for lot, trouble in found if trouble]


def merge_into(db: str | None, other: Path, progress: Progress) -> str:
    """Add what is new in other records; returns a summary. Raises `HemtraError`."""
    mine = Path(db or default_db())
    if not mine.is_file() or not mine.stat().st_size:
        # do not create a database if the other file holds no records
        refuse(other)
    with opened_records(db, create=True) as records:
        return merge(records, other, progress).words


def lift_lock() -> None:
    """Take the lock on editing away without its PIN, and note it in the records. Raises `HemtraError`."""
    try:
        (records_folder() / LOCK_FILE).unlink(missing_ok=True)
    except OSError as error:
        raise HemtraError(f"The lock cannot be taken away: {error.strerror}.") from error
    if Path(default_db()).is_file():
        with opened_records(None) as records:
            note(records, locked=False)


def check_records(db: str | None) -> tuple[str, ...]:
    """List the problems of records, one sentence each. Raises `HemtraError`."""
    return check(_file(db))


def backup_records(db: str | None, folder: Path | None, keep: int | None) -> Path:
    """Copy records while others write them; where the copy is. Raises `HemtraError`."""
    path = _file(db)
    return backup(path, folder or path.parent / BACKUPS, keep)


def restore_records(db: str | None, copy: Path) -> str:
    """Replace the records with a copy; returns a summary. Raises `HemtraError`."""
    path = _file(db)
    aside = restore(copy, path)
    stood = f" The previous records are in {shown(aside)}." if aside is not None else ""
    return f"{shown(copy)} was checked and replaces {shown(path)}.{stood}"


def rescue_records(db: str | None, target: Path, progress: Progress) -> str:
    """Save what is readable into a new file; what that is. Raises `HemtraError`."""
    return rescue(_file(db), target, progress).words


def archive_records(db: str | None, before: str, target: Path, progress: Progress) -> str:
    """Move lots that ended before a day to a file of their own. Raises `HemtraError`."""
    day = _day(before)
    with opened_records(db) as records:
        return archive(records, day, target, progress)


def pack_records(db: str | None, progress: Progress) -> str:
    """Pack the values of ended lots; returns the outcome in words. Raises `HemtraError`."""
    with opened_records(db) as records:
        count = pack_ended(records, progress)
    if not count:
        return "All ended lots are packed already."
    return (
        "The values of one ended lot are packed now." if count == 1 else f"{count} ended lots are packed now."
    )


def wanted_lots(records: Records, names: Sequence[str], since: str | None, until: str | None) -> list[Lot]:
    """Lots of some names, or all, begun between two days, the oldest first. Raises `HemtraError`."""
    first = -math.inf if since is None else _day(since)
    last = math.inf if until is None else _day(until) + 24 * 3600
    lots = [wanted_lot(records, name) for name in dict.fromkeys(names)] or records.all_lots()
    found = sorted((lot for lot in lots if first <= lot.started < last), key=lambda lot: lot.started)
    if not found:
        raise HemtraError("No lot was begun on these days.")
    return found


def _day(text: str) -> float:
    """The start of a day, in s since 1970. Raises `HemtraError`."""
    try:
        return datetime.strptime(text, "%Y-%m-%d").astimezone().timestamp()
    except ValueError:
        raise HemtraError(f"“{plain(text)}” is no day; write it like 2026-03-31.") from None


def _file(db: str | None) -> Path:
    """The file of records. Raises `HemtraError` where they are in no file."""
    name = db or default_db()
    if "://" in name and not name.startswith("sqlite:///"):
        raise HemtraError("Only records in a file are looked after here; a server has tools of its own.")
    return Path(name.removeprefix("sqlite:///"))


@contextmanager
def opened_records(db: str | None, *, create: bool = False) -> Iterator[Records]:
    records = Records(db or default_db(), create=create)
    try:
        yield records
    finally:
        records.close()


def wanted_lot(records: Records, name: str | None) -> Lot:
    """The lot of a name, or the newest."""
    found = records.all_lots()
    if not found:
        raise HemtraError("There are no lots in the records yet; run a line first.")
    wanted = found[0] if name is None else next((lot for lot in found if lot.name == name), None)
    if wanted is None:
        newest = ", ".join(lot.name for lot in found[:5])
        raise HemtraError(f"There is no lot “{name}”; the newest are: {newest}.")
    return wanted
