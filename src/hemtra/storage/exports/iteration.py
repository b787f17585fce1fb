"""Going through all parts of some lots in pieces, so that memory stays bounded however many there are."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, exists, func, select

from hemtra.core.progress import Progress
from hemtra.storage.records.fields import NUMBERS
from hemtra.storage.records.schema import BALLOON_ORDER, characteristics, lots, parts, values
from hemtra.storage.records.store import Lot, Records
from hemtra.storage.records.trends import reads_text
from hemtra.storage.tables import PLAIN, TableStyle

VALUES = ("value", "verdict", "text", "reason", *(number.name for number in NUMBERS))
"""Fields of a characteristic on one part, in reading order."""
CHUNK = 5000
"""Parts at a time."""


class Stopped(Exception):
    """Somebody asked to stop; what was written is dropped."""


@dataclass(frozen=True)
class Chunk:
    """Some parts in their order: rows of the table of parts, each with the name of its lot."""

    db: Connection
    rows: Sequence[Any]

    def values(self, key: int) -> dict[int, tuple[Any, ...]]:
        """`VALUES` of one characteristic by part, of these parts and perhaps others."""
        found = self._rows(key, values.c.part_id, *(values.c[name] for name in VALUES))
        return {part: tuple(rest) for part, *rest in found}

    def column(self, key: int, *, text: bool) -> dict[int, float | str | None]:
        """Value of one characteristic, or its text, by part; of these parts and perhaps others."""
        return dict(self._rows(key, values.c.part_id, values.c.text if text else values.c.value))

    def _rows(self, key: int, *columns: Any) -> Any:
        """Plain tuples from the cursor itself, since there may be very many."""
        span = values.c.part_id.between(self.rows[0].id, self.rows[-1].id)
        found = self.db.execute(select(*columns).where(values.c.characteristic_id == key, span)).cursor
        assert found is not None
        return found


@dataclass(frozen=True)
class Walk:
    """All parts of some lots.

    characteristics: rows of their table, by balloon; texts: keys of those that read text; total: parts;
    style: how tables are written.
    """

    db: Connection
    lots: Sequence[Lot]
    characteristics: Sequence[Any]
    texts: frozenset[int]
    total: int
    progress: Progress
    style: TableStyle = PLAIN

    @staticmethod
    def of(db: Connection, chosen: Sequence[Lot], progress: Progress, style: TableStyle = PLAIN) -> Walk:
        """Get ready."""
        keys = [lot.id for lot in chosen]
        used = exists().where(parts.c.revision_id == characteristics.c.revision_id, parts.c.lot_id.in_(keys))
        order = *BALLOON_ORDER, characteristics.c.id
        known = db.execute(select(characteristics).where(used).order_by(*order)).all()
        total = db.execute(select(func.count()).select_from(parts).where(parts.c.lot_id.in_(keys))).scalar_one()
        texts = frozenset(row.id for row in known if reads_text(db, row.id, row.unit))
        return Walk(db, chosen, known, texts, total, progress, style)

    def chunks(self) -> Iterator[Chunk]:
        """Each piece, lot by lot, oldest first. Raises `Stopped`."""
        done = 0
        for lot in sorted(self.lots, key=lambda lot: (lot.started, lot.id)):
            last = 0
            while rows := self._rows(lot, last):
                yield Chunk(self.db, rows)
                last, done = rows[-1].id, done + len(rows)
                if not self.progress(done, self.total, f"part {rows[-1].number} of {lot.name}"):
                    raise Stopped

    def _rows(self, lot: Lot, last: int) -> Sequence[Any]:
        query = (
            select(parts, lots.c.name.label("lot"))
            .join(lots, lots.c.id == parts.c.lot_id)
            .where(parts.c.id > last, parts.c.lot_id == lot.id)
            .order_by(parts.c.id)
            .limit(CHUNK)
        )
        return self.db.execute(query).all()


def lots_or_all(records: Records, chosen: Sequence[Lot] | None) -> Sequence[Lot]:
    """Some lots, or all there are."""
    return records.all_lots() if chosen is None else list(chosen)
