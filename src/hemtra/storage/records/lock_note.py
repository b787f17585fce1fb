"""Note in the records that editing is locked on a line: not the PIN, only that there is one."""

from __future__ import annotations

import sqlite3
import time
from contextlib import closing
from pathlib import Path

from hemtra.core.events import Event
from hemtra.storage.records.store import Records

KINDS = ("editing unlocked", "editing locked")


def is_noted(path: Path) -> bool:
    """Whether the last that a file of records says of it is that editing is locked; not where there is none."""
    if not path.is_file():
        return False
    # by itself, since opening records may migrate them, which a window must not wait for
    query = "select kind from events where kind in (?, ?) order by id desc limit 1"
    try:
        with closing(sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True, timeout=1.0)) as db:
            found = db.execute(query, KINDS).fetchone()
    except sqlite3.Error:
        return False
    return found is not None and found[0] == KINDS[True]


def note(records: Records, *, locked: bool) -> None:
    """Note that editing was locked or unlocked. Raises `RecordsError`."""
    records.event(None, Event(KINDS[locked], time.time()))
