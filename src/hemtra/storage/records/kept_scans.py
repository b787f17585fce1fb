"""Files that hold the scans of recorded parts."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from sqlalchemy import Connection, select, update

from hemtra.storage.records.schema import parts
from hemtra.storage.records.store import Records


def scans_in(records: Records, folder: Path) -> list[str]:
    """The files in a folder that scans of parts were kept in, the oldest first."""
    inside = parts.c.scan.startswith(f"{folder}/", autoescape=True)
    with records.reading() as db:
        return list(db.execute(select(parts.c.scan).where(inside).order_by(parts.c.id)).scalars())


def forget_scans(records: Records, paths: Iterable[str]) -> None:
    """The files of some scans are gone."""
    gone = list(paths)

    def work(db: Connection, again: bool) -> None:
        for path in gone:
            db.execute(update(parts).where(parts.c.scan == path).values(scan=None))

    records.written(work)
