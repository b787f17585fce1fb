"""Views to query by hand: verdicts in words, times as ISO 8601, limits beside values."""

from alembic import op

revision = "0007"
down_revision = "0006"

VERDICT = "CASE {0} WHEN 0 THEN 'PASS' WHEN 1 THEN 'FAIL' WHEN 2 THEN 'NOT MEASURED' ELSE 'NOT PROVEN' END"
TIMES = {
    "sqlite": "strftime('%Y-%m-%dT%H:%M:%fZ', {0}, 'unixepoch')",
    "postgresql": "to_char(to_timestamp({0}) AT TIME ZONE 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS.MS\"Z\"')",
}
LETTERS = {"sqlite": "char", "postgresql": "chr"}
# a point or a letter after the number counts above it: 4.1 is 4 + 1 x 10000, 12a is 12 + 101 x 10000
BALLOON = """CASE WHEN c.balloon < 10000 THEN CAST(c.balloon AS TEXT)
    WHEN c.balloon / 10000 < 100 THEN CAST(c.balloon % 10000 AS TEXT) || '.' || CAST(c.balloon / 10000 AS TEXT)
    ELSE CAST(c.balloon % 10000 AS TEXT) || {0}(97 + c.balloon / 10000 - 101) END"""


def upgrade() -> None:
    """Nothing is stored anew."""
    dialect = op.get_bind().dialect.name
    time, balloon = TIMES[dialect].format, BALLOON.format(LETTERS[dialect])
    op.execute(
        f"""CREATE VIEW v_parts AS
        SELECT p.id AS part_id, l.name AS lot, p.number, p.serial,
            {VERDICT.format("p.verdict")} AS verdict, p.reason,
            {time("p.scanned")} AS scanned, {time("p.recorded")} AS recorded, r.name AS plan, p.revision_id,
            p.source, p.scan, p.elapsed_ms
        FROM parts p JOIN lots l ON l.id = p.lot_id JOIN revisions r ON r.id = p.revision_id"""
    )
    op.execute(
        f"""CREATE VIEW v_values AS
        SELECT v.part_id, l.name AS lot, p.number, p.serial,
            {time("p.scanned")} AS scanned, {balloon} AS balloon,
            c.name, v.value, v.text, c.unit, c.nominal, c.lower, c.upper, v.value - c.nominal AS deviation,
            v.u, {VERDICT.format("v.verdict")} AS verdict, v.reason
        FROM part_values v JOIN characteristics c ON c.id = v.characteristic_id
            JOIN parts p ON p.id = v.part_id JOIN lots l ON l.id = p.lot_id"""
    )
