"""A workbook (Office Open XML): the parts with their values, and the characteristics with their limits."""

from __future__ import annotations

import re
from datetime import datetime
from typing import IO, Any

from hemtra.core.errors import FileError
from hemtra.storage.exports.iteration import Walk
from hemtra.storage.exports.table import COLUMNS, cells_of, columns_of
from hemtra.storage.foreign.extra import library
from hemtra.storage.tables import harmless

MOST_ROWS = 1_048_575
"""Parts that a sheet has room for, below its head."""
UNFIT = re.compile(r"[\x00-\x08\x0b\x0c\x0e-\x1f]")
"""Characters that XML cannot hold."""
SCANNED = COLUMNS.index("scanned")


def write_workbook(walk: Walk, stream: IO[bytes]) -> None:
    """Write all parts, row by row. Raises `FileError` for more than a sheet has room for."""
    openpyxl = library("openpyxl", "openpyxl", "Excel")
    if walk.total > MOST_ROWS:
        raise FileError(
            f"{walk.total} parts are more than a sheet has room for; export them as .parquet or .csv."
        )
    book = openpyxl.Workbook(write_only=True)
    sheet = book.create_sheet("Parts")
    columns = columns_of(walk)
    sheet.append([*COLUMNS, *columns])
    for chunk in walk.chunks():
        for cells in cells_of(chunk, columns, walk.texts):
            sheet.append([_cell(k, cell) for k, cell in enumerate(cells)])
    asked = book.create_sheet("Characteristics")
    asked.append(["balloon", "name", "unit", "nominal", "lower", "upper"])
    for one in walk.characteristics:
        asked.append([str(one.balloon), one.name, one.unit, one.nominal, one.lower, one.upper])
    book.save(stream)


def _cell(column: int, cell: Any) -> Any:
    """Times as such, in the clock of this computer; text never as a formula, and only what XML may hold."""
    if column == SCANNED:
        return datetime.fromisoformat(cell).astimezone().replace(microsecond=0, tzinfo=None)
    return harmless(UNFIT.sub("", cell)) if isinstance(cell, str) else cell
