"""A workbook (Office Open XML): the parts with their values, and statistics of the characteristics."""

from __future__ import annotations

import math
import re
from array import array
from datetime import datetime
from typing import IO, Any

import numpy as np

from hemtra.core.errors import FileError
from hemtra.core.statistics import Statistics, statistics
from hemtra.storage.exports.iteration import Walk
from hemtra.storage.exports.table import COLUMNS, cells_of, columns_of
from hemtra.storage.foreign.extra import library
from hemtra.storage.tables import harmless

MOST_ROWS = 1_048_575
"""Parts that a sheet has room for, below its head."""
UNFIT = re.compile(r"[\x00-\x08\x0b\x0c\x0e-\x1f]")
"""Characters that XML cannot hold."""
STATISTICS = {
    "measured": "count",
    "not measured": "missing",
    "mean": "mean",
    "standard deviation": "deviation",
    "minimum": "least",
    "maximum": "greatest",
    "Cp": "cp",
    "Cpk": "cpk",
    "Pp": "pp",
    "Ppk": "ppk",
}
"""Columns of the sheet of statistics, by title the number they hold."""
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
    values: dict[int, array[float]] = {one.id: array("d") for one in walk.characteristics}
    for chunk in walk.chunks():
        for cells in cells_of(chunk, columns, walk.texts):
            sheet.append([_cell(k, cell) for k, cell in enumerate(cells)])
        for key, held in values.items():
            if key not in walk.texts:
                column = chunk.column(key, text=False)
                found = (column[row.id] for row in chunk.rows if row.id in column)
                held.extend(math.nan if value is None else float(value) for value in found)
    asked = book.create_sheet("Statistics")
    asked.append(["balloon", "name", "unit", "nominal", "lower", "upper", *STATISTICS])
    for one in walk.characteristics:
        numbers = _numbers(statistics(np.array(values[one.id]), one.lower, one.upper))
        limits = one.nominal, one.lower, one.upper
        asked.append([str(one.balloon), harmless(one.name), one.unit, *limits, *numbers])
    book.save(stream)


def _numbers(found: Statistics) -> list[float | None]:
    return [getattr(found, name) for name in STATISTICS.values()]


def _cell(column: int, cell: Any) -> Any:
    """Times as such, in local time; text never as a formula, and only what XML may hold."""
    if column == SCANNED:
        return datetime.fromisoformat(cell).astimezone().replace(microsecond=0, tzinfo=None)
    return harmless(UNFIT.sub("", cell)) if isinstance(cell, str) else cell
