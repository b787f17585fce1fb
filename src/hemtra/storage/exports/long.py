"""Long table: one row per value, with its limits and verdict, as CSV and Parquet."""

from __future__ import annotations

import io
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from typing import IO, Any

import numpy as np
from numpy.typing import NDArray

from hemtra.core.errors import FileError
from hemtra.storage.exports.iteration import VALUES, Chunk, Walk
from hemtra.storage.foreign.extra import library
from hemtra.storage.records.schema import VERDICTS
from hemtra.storage.tables import Table

COLUMNS = (
    "lot",
    "number",
    "serial",
    "scanned",
    "part_verdict",
    "balloon",
    "name",
    "value",
    "text",
    "unit",
    "nominal",
    "lower",
    "upper",
    "deviation",
    "u",
    "verdict",
    "reason",
)
"""Fields of a row; deviation is from the nominal, u the standard uncertainty, both in the unit."""
NUMBERS = frozenset({"value", "nominal", "lower", "upper", "deviation", "u"})


def write_long(walk: Walk, stream: IO[bytes]) -> None:
    """Write all values as CSV (RFC 4180), times as ISO 8601 in UTC."""
    text = io.TextIOWrapper(stream, "utf-8", newline="", write_through=True)
    table = Table(text, walk.style, quote_text=True)
    table.writerow(COLUMNS)
    for chunk in walk.chunks():
        table.writerows(
            (*row[:3], row[3].isoformat(timespec="milliseconds"), *row[4:]) for row in rows_of(chunk, walk)
        )
    text.detach()


def write_parquet(walk: Walk, stream: IO[bytes]) -> None:
    """Write all values as Parquet, one group of rows for each piece. Raises `FileError` without its library."""
    arrow = library("pyarrow", "pyarrow", "Parquet")
    parquet = library("pyarrow.parquet", "pyarrow", "Parquet")
    kinds = {name: arrow.float64() for name in NUMBERS}
    kinds |= {"number": arrow.int64(), "scanned": arrow.timestamp("ms", tz="UTC")}
    schema = arrow.schema([(name, kinds.get(name, arrow.string())) for name in COLUMNS])
    try:
        with parquet.ParquetWriter(stream, schema, compression="zstd") as writer:
            for chunk in walk.chunks():
                columns = columns_of(chunk, walk)
                writer.write_table(arrow.table(list(columns.values()), schema=schema))
    except arrow.ArrowException as error:
        raise FileError(f"The values cannot be written as Parquet: {error}.") from error


def rows_of(chunk: Chunk, walk: Walk) -> Iterator[tuple[Any, ...]]:
    """The values of some parts, part by part in the order of their balloons; see `COLUMNS`."""
    return zip(*columns_of(chunk, walk).values(), strict=True)


def columns_of(chunk: Chunk, walk: Walk) -> dict[str, list[Any]]:
    """The same by column, since rows made one by one take three times as long."""
    cells = np.empty((len(chunk.rows), len(walk.characteristics)), object)
    there = np.zeros(cells.shape, np.bool_)
    for k, one in enumerate(walk.characteristics):
        found = chunk.values(one.id)
        cells[:, k] = _objects([found.get(part.id) for part in chunk.rows])
        there[:, k] = [part.id in found for part in chunk.rows]
    part, which = np.nonzero(there)
    held = cells[part, which].tolist()

    def of_part(values: Iterable[Any]) -> list[Any]:
        return list(_objects(list(values))[part])

    def of_row(name: str) -> list[Any]:
        return list(_objects([getattr(one, name) for one in walk.characteristics])[which])

    def of_value(name: str) -> list[Any]:
        place = VALUES.index(name)
        return [one[place] for one in held]

    values, nominals = of_value("value"), of_row("nominal")
    words = [str(verdict) for verdict in VERDICTS]
    known = {
        "lot": of_part(one.lot for one in chunk.rows),
        "number": of_part(one.number for one in chunk.rows),
        "serial": of_part(one.serial for one in chunk.rows),
        "scanned": of_part(datetime.fromtimestamp(one.scanned, UTC) for one in chunk.rows),
        "part_verdict": of_part(words[one.verdict] for one in chunk.rows),
        "balloon": list(_objects([str(one.balloon) for one in walk.characteristics])[which]),
        "name": of_row("name"),
        "value": values,
        "text": of_value("text"),
        "unit": of_row("unit"),
        "nominal": nominals,
        "lower": of_row("lower"),
        "upper": of_row("upper"),
        "deviation": [
            None if v is None or nominal is None else v - nominal
            for v, nominal in zip(values, nominals, strict=True)
        ],
        "u": of_value("u"),
        "verdict": [words[verdict] for verdict in of_value("verdict")],
        "reason": of_value("reason"),
    }
    return {name: known[name] for name in COLUMNS}


def _objects(values: list[Any]) -> NDArray[np.object_]:
    """(n,) of anything, tuples as well."""
    found = np.empty(len(values), object)
    found[:] = values
    return found
