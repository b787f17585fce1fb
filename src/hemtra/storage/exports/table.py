"""Table with one row per part and one column per characteristic (RFC 4180)."""

from __future__ import annotations

import io
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from typing import IO, Any

from hemtra.storage.exports.iteration import Chunk, Walk
from hemtra.storage.records.schema import VERDICTS
from hemtra.storage.tables import Table

COLUMNS = ("lot", "number", "serial", "verdict", "reason", "scanned", "signal", "scan")


def write_table(walk: Walk, stream: IO[bytes]) -> None:
    """Write all parts. A characteristic that was renamed or measures in another unit has a column of its own.

    Times are ISO 8601 in UTC; what was not measured is empty, what was read is its text.
    """
    columns = columns_of(walk)
    text = io.TextIOWrapper(stream, "utf-8", newline="", write_through=True)
    table = Table(text, walk.style, quote_text=True)
    table.writerow((*COLUMNS, *columns))
    for chunk in walk.chunks():
        table.writerows(cells_of(chunk, columns, walk.texts))
    text.detach()


def columns_of(walk: Walk) -> dict[str, list[int]]:
    """Keys of the characteristics in one column, by title."""
    columns: dict[str, list[int]] = {}
    for row in walk.characteristics:
        columns.setdefault(title_of(row), []).append(row.id)
    return columns


def cells_of(
    chunk: Chunk, columns: Mapping[str, list[int]], texts: frozenset[int]
) -> Iterator[tuple[Any, ...]]:
    """The rows of some parts."""
    keys = [row.id for row in chunk.rows]
    plain = zip(*(_plain(row) for row in chunk.rows), strict=True)
    measured = (_column(chunk, ids, texts, keys) for ids in columns.values())
    return zip(*plain, *measured, strict=True)


def title_of(row: Any) -> str:
    """Column title of a characteristic."""
    return f"{row.balloon} {row.name}" + (f" ({row.unit})" if row.unit else "")


def _plain(row: Any) -> tuple[Any, ...]:
    verdict = VERDICTS[row.verdict]
    return (
        row.lot,
        row.number,
        row.serial,
        verdict,
        row.reason,
        datetime.fromtimestamp(row.scanned, UTC).isoformat(timespec="milliseconds"),
        row.signal,
        row.scan or "",
    )


def _column(chunk: Chunk, ids: list[int], texts: frozenset[int], keys: list[int]) -> list[Any]:
    """Cells of a chunk of parts in one column."""
    held: dict[int, Any] = {}
    for key in ids:
        held |= chunk.column(key, text=key in texts)
    return list(map(held.get, keys))
