"""Exporting records in the format that the name of the file requires."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import IO

from hemtra.core.errors import FileError
from hemtra.core.progress import Progress
from hemtra.storage.exports.document import write_document
from hemtra.storage.exports.iteration import Stopped, Walk, lots_or_all
from hemtra.storage.exports.long import write_long, write_parquet
from hemtra.storage.exports.qif import write_qif
from hemtra.storage.exports.table import write_table
from hemtra.storage.exports.wide import write_wide
from hemtra.storage.exports.workbook import write_workbook
from hemtra.storage.files import atomic_write
from hemtra.storage.records.store import Lot, Records
from hemtra.storage.tables import PLAIN, TableStyle

FORMATS: dict[str, tuple[str, Callable[[Walk, IO[bytes]], None]]] = {
    ".values.csv": ("Table, one row a value", write_long),
    ".wide.csv": ("Table, one row a part, with limits, U and verdicts", write_wide),
    ".csv": ("Table, one row a part", write_table),
    ".xlsx": ("Workbook", write_workbook),
    ".parquet": ("Parquet, one row a value", write_parquet),
    ".json": ("JSON, everything", write_document),
    ".qif": ("QIF 3.0 results", write_qif),
    ".xml": ("QIF 3.0 results", write_qif),
}
"""Formats by the end of the name: title and writer; the first that fits counts."""


def export(
    records: Records,
    path: Path,
    chosen: Sequence[Lot] | None = None,
    progress: Progress = lambda done, of, what: True,
    style: TableStyle = PLAIN,
) -> bool:
    """Save all parts of some lots, or of all, atomically; False when `progress` asked to stop.

    style: how a CSV is written. Raises `FileError`; what stood at `path` is untouched then.
    """
    ending = next((end for end in FORMATS if path.name.lower().endswith(end)), None)
    if ending is None:
        known = ", ".join(FORMATS)
        raise FileError(f"{path.name} has no format that records are exported in; end its name in {known}.")
    write = FORMATS[ending][1]
    try:
        with records.reading() as db, atomic_write(path) as stream:
            write(Walk.of(db, lots_or_all(records, chosen), progress, style), stream)
    except Stopped:
        return False
    return True
