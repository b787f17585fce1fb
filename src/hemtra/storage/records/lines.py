"""Current state of each line that writes into these records."""

from __future__ import annotations

import time
from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, delete, extract, func, insert, literal, select, update

from hemtra.storage.records.schema import lines
from hemtra.storage.records.store import Records

LOST_AFTER = 20.0
"""Time without a heartbeat after which a line counts as lost, s."""


@dataclass(frozen=True)
class LineState:
    """A line as it says it is. state: runs, paused, stopped. latency: s from scan to signal, the median.

    waiting: parts that wait to be forwarded. age: s since it said so, by the clock of the records.
    """

    name: str
    host: str
    plan: str
    lot: str
    state: str
    parts: int
    passed: int
    waiting: int
    latency: float
    began: float
    age: float = 0.0

    @property
    def shown(self) -> str:
        """Its state in a word: lost where it has said nothing for a while."""
        return "lost" if self.state != "stopped" and self.age > LOST_AFTER else self.state

    @property
    def share(self) -> float | None:
        """Yield of its parts, 0 to 1; None before the first."""
        return self.passed / self.parts if self.parts else None


def say(records: Records, line: LineState) -> None:
    """Keep what a line does now, in place of what it said before. Raises `RecordsError`."""
    own = lines.c.name == line.name, lines.c.host == line.host
    with records.writing() as db:
        held = {name: getattr(line, name) for name in SAID} | {"seen": _now(db.dialect.name)}
        if not db.execute(update(lines).where(*own).values(held)).rowcount:
            db.execute(insert(lines).values({**held, "name": line.name, "host": line.host}))


def all_lines(records: Records) -> list[LineState]:
    """All lines that ever said anything, by name. Raises `RecordsError`."""
    with records.reading() as db:
        now = db.execute(select(_now(db.dialect.name))).scalar_one()
        found = db.execute(select(lines).order_by(lines.c.name, lines.c.host)).mappings().all()
    return [
        LineState(
            **{name: row[name] for name in ("name", "host", *SAID)}, age=max(0.0, float(now) - row["seen"])
        )
        for row in found
    ]


def forget(records: Records, line: LineState) -> None:
    """Drop a line that is gone for good; one that says something again is there again."""
    with records.writing() as db:
        db.execute(delete(lines).where(lines.c.name == line.name, lines.c.host == line.host))


SAID = ("plan", "lot", "state", "parts", "passed", "waiting", "latency", "began")


def _now(dialect: str) -> ColumnElement[Any]:
    """Time by the server's clock, in s since 1970, so that clocks of lines may differ."""
    return extract("epoch", func.clock_timestamp()) if dialect == "postgresql" else literal(time.time())
