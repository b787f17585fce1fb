"""One row a value, with its limits and what came of it: as CSV, and as Parquet."""

from __future__ import annotations

import io
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import IO, Any

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
"""Of a row; deviation is from the nominal, u the standard uncertainty, both in the unit."""
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
                columns = list(zip(*rows_of(chunk, walk), strict=True))
                if columns:
                    writer.write_table(arrow.table(list(map(list, columns)), schema=schema))
    except arrow.ArrowException as error:
        raise FileError(f"The values cannot be written as Parquet: {error}.") from error


def rows_of(chunk: Chunk, walk: Walk) -> Iterator[tuple[Any, ...]]:
    """The values of some parts, part by part in the order of their balloons; see `COLUMNS`."""
    held = [(one, chunk.values(one.id)) for one in walk.characteristics]
    places = {name: k for k, name in enumerate(VALUES)}
    for part in chunk.rows:
        scanned = datetime.fromtimestamp(part.scanned, UTC)
        about = part.lot, part.number, part.serial, scanned, str(VERDICTS[part.verdict])
        for one, values in held:
            found = values.get(part.id)
            if found is None:
                continue
            value = found[places["value"]]
            off = None if value is None or one.nominal is None else value - one.nominal
            yield (
                *about,
                str(one.balloon),
                one.name,
                value,
                found[places["text"]],
                one.unit,
                one.nominal,
                one.lower,
                one.upper,
                off,
                found[places["u"]],
                str(VERDICTS[found[places["verdict"]]]),
                found[places["reason"]],
            )
