"""The tables of the records database.

Values lie by characteristic and then by part, so that a trend is one stretch of the table; the values of one
part are looked up one by one. What does not change from part to part, plan revisions and station snapshots, is
kept once.
"""

from __future__ import annotations

from typing import Any

from sqlalchemy import (
    Column,
    Float,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    MetaData,
    SmallInteger,
    String,
    Table,
    Text,
    TypeDecorator,
    UniqueConstraint,
    text,
    type_coerce,
)

from hemtra.core.plan.balloon import APART, Balloon
from hemtra.core.plan.limits import Verdict
from hemtra.storage.records.fields import NUMBERS

VERDICTS = (Verdict.PASS, Verdict.FAIL, Verdict.NOT_MEASURED, Verdict.NOT_PROVEN)
"""Verdicts by the number that is stored."""
CODES = {verdict: code for code, verdict in enumerate(VERDICTS)}


class _Balloons(TypeDecorator[Balloon]):
    """Numbers in the database, balloons in the program."""

    impl = Integer
    cache_ok = True

    def process_bind_param(self, value: Any, dialect: Any) -> int | None:
        """A balloon as its number."""
        return None if value is None else int(value)

    def process_result_value(self, value: Any, dialect: Any) -> Balloon | None:
        """A number as its balloon."""
        return None if value is None else Balloon(value)


class _Words(TypeDecorator[str]):
    """Text as every database takes it: without NUL, and no longer than its column.

    letterwise: compared letter by letter whatever language a server sorts by, since what begins alike is looked
    for in the order of an index.
    """

    impl = Text
    cache_ok = True

    def __init__(self, most: int | None = None, *, letterwise: bool = False) -> None:
        super().__init__()
        self.most, self.letterwise = most, letterwise

    def load_dialect_impl(self, dialect: Any) -> Any:
        """The column as it is made."""
        if self.most is None:
            return dialect.type_descriptor(Text())
        collation = "C" if self.letterwise and dialect.name == "postgresql" else None
        return dialect.type_descriptor(String(self.most, collation=collation))

    def process_bind_param(self, value: Any, dialect: Any) -> str | None:
        """Stored form of a text."""
        return None if value is None else str(value).replace("\0", "")[: self.most]


metadata = MetaData()

revisions = Table(
    "revisions",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("digest", String(64), nullable=False, unique=True),
    Column("name", _Words(120), nullable=False),
    Column("document", Text, nullable=False),
    Column("seen", Float, nullable=False),
)
characteristics = Table(
    "characteristics",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("revision_id", ForeignKey("revisions.id"), nullable=False),
    Column("balloon", _Balloons, nullable=False),
    Column("name", _Words(120), nullable=False),
    Column("unit", String(12), nullable=False),
    Column("nominal", Float),
    Column("lower", Float),
    Column("upper", Float),
    Column("decimals", Integer, nullable=False),
    Column("method", String(200), nullable=False, server_default=""),
    UniqueConstraint("revision_id", "balloon"),
)
BALLOON_ORDER = (type_coerce(characteristics.c.balloon, Integer) % APART, characteristics.c.balloon)
"""Balloon as on the drawing: 4, 4.1, 4a, 5."""
stations = Table(
    "stations",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("digest", String(64), nullable=False, unique=True),
    Column("name", _Words(120), nullable=False),
    Column("document", Text, nullable=False),
)
lots = Table(
    "lots",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("name", _Words(120), nullable=False),
    Column("plan", _Words(120), nullable=False),
    Column("started", Float, nullable=False),
    Column("ended", Float),
    Column("packed", Integer),
)
parts = Table(
    "parts",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("lot_id", ForeignKey("lots.id"), nullable=False),
    Column("number", Integer, nullable=False),
    Column("serial", _Words(120, letterwise=True), nullable=False),
    Column("revision_id", ForeignKey("revisions.id"), nullable=False),
    Column("station_id", ForeignKey("stations.id")),
    Column("verdict", SmallInteger, nullable=False),
    Column("reason", _Words(), nullable=False),
    Column("source", _Words(), nullable=False),
    Column("scan", _Words()),
    Column("triggered", Float, nullable=False),
    Column("scanned", Float, nullable=False),
    Column("judged", Float, nullable=False),
    Column("recorded", Float, nullable=False),
    Column("signalled", Float),
    Column("signal", String(16), nullable=False),
    Column("elapsed_ms", Float, nullable=False),
    UniqueConstraint("lot_id", "number"),
)
Index("parts_of_lot", parts.c.lot_id)  # the keys of a lot in their order
Index("parts_by_lot", parts.c.lot_id, parts.c.recorded)
Index("parts_by_verdict", parts.c.lot_id, parts.c.verdict, parts.c.recorded)
Index("parts_by_verdict_time", parts.c.verdict, parts.c.recorded)
Index("parts_by_revision", parts.c.revision_id, parts.c.recorded)
Index("parts_by_time", parts.c.recorded)
Index("parts_by_serial", parts.c.serial)
Index("parts_by_source", parts.c.source)
values = Table(
    "part_values",
    metadata,
    Column("characteristic_id", ForeignKey("characteristics.id"), primary_key=True),
    Column("part_id", ForeignKey("parts.id"), primary_key=True),
    Column("value", Float),
    Column("verdict", SmallInteger, nullable=False),
    Column("text", _Words()),
    Column("reason", _Words()),
    *(Column(number.name, Float) for number in NUMBERS),
    sqlite_with_rowid=False,
)
NOT_PASSED = text("verdict <> 0")
"""Condition of the index of values that did not pass; queries must use the same words to be answered by it."""
Index(
    "values_not_passed",
    values.c.characteristic_id,
    values.c.part_id,
    values.c.verdict,
    sqlite_where=NOT_PASSED,
    postgresql_where=NOT_PASSED,
)
packed_values = Table(
    "packed_values",
    metadata,
    Column("characteristic_id", ForeignKey("characteristics.id"), primary_key=True),
    Column("lot_id", ForeignKey("lots.id"), primary_key=True),
    Column("first", Integer, nullable=False),
    Column("count", Integer, nullable=False),
    Column("failed", Integer, nullable=False),
    Column("missing", Integer, nullable=False),
    Column("unproven", Integer, nullable=False),
    Column("part_ids", LargeBinary),
    Column("value", LargeBinary, nullable=False),
    Column("least", LargeBinary),
    Column("greatest", LargeBinary),
)
"""What `part_values` holds of ended lots, see `packed`; short columns come first, to be read alone."""
Index("packed_values_of_lot", packed_values.c.lot_id)
lines = Table(
    "lines",
    metadata,
    Column("name", _Words(120), primary_key=True),
    Column("host", _Words(120), primary_key=True),
    Column("plan", _Words(120), nullable=False),
    Column("lot", _Words(120), nullable=False),
    Column("state", String(16), nullable=False),
    Column("parts", Integer, nullable=False),
    Column("passed", Integer, nullable=False),
    Column("waiting", Integer, nullable=False),
    Column("latency", Float, nullable=False),
    Column("began", Float, nullable=False),
    Column("seen", Float, nullable=False),
)
reevaluations = Table(
    "reevaluations",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("lot_id", Integer, nullable=False),
    Column("lot", _Words(120), nullable=False),
    Column("plan", _Words(120), nullable=False),
    Column("digest", String(64), nullable=False),
    Column("author", _Words(120), nullable=False),
    Column("began", Float, nullable=False),
    Column("ended", Float),
    Column("result", _Words()),
    Index("reevaluations_of_lot", "lot_id", "digest"),
)
reevaluated_parts = Table(
    "reevaluated_parts",
    metadata,
    Column("reevaluation_id", Integer, primary_key=True, autoincrement=False),
    Column("part_id", Integer, primary_key=True, autoincrement=False),
    Column("result", _Words(), nullable=False),
)
events = Table(
    "events",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("lot_id", ForeignKey("lots.id")),
    Column("part_id", ForeignKey("parts.id")),
    Column("time", Float, nullable=False),
    Column("kind", String(32), nullable=False),
    Column("text", _Words(), nullable=False),
    Column("fields", _Words()),
)
Index("events_by_time", events.c.time)
