"""Wide table: one row per part, with value, limits, deviation, U, verdict and reason (RFC 4180)."""

from __future__ import annotations

import io
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import IO, Any

from hemtra.storage.exports.iteration import VALUES, Chunk, Walk
from hemtra.storage.exports.table import title_of
from hemtra.storage.records.schema import VERDICTS
from hemtra.storage.tables import Table

ABOUT = ("lot", "number", "serial", "scanned", "verdict", "reason")
OF_EACH = ("nominal", "lower", "upper", "deviation", "U", "verdict", "reason")
"""Columns beside the value of each characteristic. U: expanded uncertainty, k = 2."""


def write_wide(walk: Walk, stream: IO[bytes]) -> None:
    """Write all parts; what a characteristic gave, and what was asked of it, in columns beside each other."""
    text = io.TextIOWrapper(stream, "utf-8", newline="", write_through=True)
    table = Table(text, walk.style, quote_text=True)
    titles = [title_of(one) for one in walk.characteristics]
    table.writerow((*ABOUT, *(column for title in titles for column in _columns(title))))
    for chunk in walk.chunks():
        table.writerows(_rows(chunk, walk))
    text.detach()


def _columns(title: str) -> Iterator[str]:
    yield title
    yield from (f"{title}, {what}" for what in OF_EACH)


def _rows(chunk: Chunk, walk: Walk) -> Iterator[list[Any]]:
    held = [chunk.values(one.id) for one in walk.characteristics]
    value, verdict, text, reason, u = (
        VALUES.index(name) for name in ("value", "verdict", "text", "reason", "u")
    )
    for part in chunk.rows:
        scanned = datetime.fromtimestamp(part.scanned, UTC).isoformat(timespec="milliseconds")
        cells: list[Any] = [part.lot, part.number, part.serial, scanned, VERDICTS[part.verdict], part.reason]
        for one, found in zip(walk.characteristics, held, strict=True):
            row = found.get(part.id)
            if row is None:
                cells += [None] * (1 + len(OF_EACH))
                continue
            off = None if row[value] is None or one.nominal is None else row[value] - one.nominal
            expanded = None if row[u] is None else 2.0 * row[u]
            shown = row[text] if one.id in walk.texts else row[value]
            limits = one.nominal, one.lower, one.upper
            cells += [shown, *limits, off, expanded, str(VERDICTS[row[verdict]]), row[reason]]
        yield cells
