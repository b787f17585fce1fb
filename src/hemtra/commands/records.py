"""What is done with records in a terminal: exports, reports, taking over those of another computer."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from hemtra.core.errors import HemtraError
from hemtra.core.progress import Progress
from hemtra.runtime.reporting import report_lot, report_part
from hemtra.runtime.starting import default_db
from hemtra.storage.exports import export
from hemtra.storage.records import Records
from hemtra.storage.records.merging import merge, refuse
from hemtra.storage.records.store import Lot


def export_records(db: str | None, lot: str | None, output: Path, tell: Progress) -> None:
    """Export all parts, or those of a lot. Raises `HemtraError`."""
    with _opened(db) as records:
        export(records, output, None if lot is None else [_lot(records, lot)], tell)


def report_records(db: str | None, lot: str | None, part: int | None, output: Path, tell: Progress) -> None:
    """Report a lot, the newest unless told, or one part of it. Raises `HemtraError`."""
    with _opened(db) as records:
        wanted = _lot(records, lot)
        if part is None:
            report_lot(records, wanted, output, tell)
            return
        found = records.parts_of(wanted, first=part, most=1)
        if not found or found[0].number != part:
            raise HemtraError(f"Lot {wanted.name} has no part {part}.")
        report_part(records, found[0].id, output)


def merge_into(db: str | None, other: Path, tell: Progress) -> str:
    """Take over what is new in other records; what became of them. Raises `HemtraError`."""
    mine = Path(db or default_db())
    if not mine.is_file() or not mine.stat().st_size:
        # nothing is made to take over into what nothing can be taken from
        refuse(other)
    with _opened(db, create=True) as records:
        return merge(records, other, tell).words


@contextmanager
def _opened(db: str | None, *, create: bool = False) -> Iterator[Records]:
    records = Records(db or default_db(), create=create)
    try:
        yield records
    finally:
        records.close()


def _lot(records: Records, name: str | None) -> Lot:
    """The lot of a name, or the newest."""
    found = records.all_lots()
    if not found:
        raise HemtraError("There are no lots in the records yet; run a line first.")
    wanted = found[0] if name is None else next((lot for lot in found if lot.name == name), None)
    if wanted is None:
        newest = ", ".join(lot.name for lot in found[:5])
        raise HemtraError(f"There is no lot “{name}”; the newest are: {newest}.")
    return wanted
