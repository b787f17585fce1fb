"""The first form of the records; kept as it was, whatever becomes of the tables later."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None


def upgrade() -> None:
    """All tables."""
    op.create_table(
        "lots",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(length=120), nullable=False),
        sa.Column("plan", sa.String(length=120), nullable=False),
        sa.Column("started", sa.Float(), nullable=False),
        sa.Column("ended", sa.Float(), nullable=True),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "revisions",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("digest", sa.String(length=64), nullable=False),
        sa.Column("name", sa.String(length=120), nullable=False),
        sa.Column("document", sa.Text(), nullable=False),
        sa.Column("seen", sa.Float(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("digest"),
    )
    op.create_table(
        "stations",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("digest", sa.String(length=64), nullable=False),
        sa.Column("name", sa.String(length=120), nullable=False),
        sa.Column("document", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("digest"),
    )
    op.create_table(
        "characteristics",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("revision_id", sa.Integer(), nullable=False),
        sa.Column("balloon", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(length=120), nullable=False),
        sa.Column("unit", sa.String(length=12), nullable=False),
        sa.Column("nominal", sa.Float(), nullable=True),
        sa.Column("lower", sa.Float(), nullable=True),
        sa.Column("upper", sa.Float(), nullable=True),
        sa.Column("decimals", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(["revision_id"], ["revisions.id"]),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("revision_id", "balloon"),
    )
    op.create_table(
        "parts",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("lot_id", sa.Integer(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("serial", sa.String(length=120), nullable=False),
        sa.Column("revision_id", sa.Integer(), nullable=False),
        sa.Column("station_id", sa.Integer(), nullable=True),
        sa.Column("verdict", sa.SmallInteger(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.Column("source", sa.Text(), nullable=False),
        sa.Column("scan", sa.Text(), nullable=True),
        sa.Column("triggered", sa.Float(), nullable=False),
        sa.Column("scanned", sa.Float(), nullable=False),
        sa.Column("judged", sa.Float(), nullable=False),
        sa.Column("recorded", sa.Float(), nullable=False),
        sa.Column("signalled", sa.Float(), nullable=True),
        sa.Column("signal", sa.String(length=16), nullable=False),
        sa.Column("elapsed_ms", sa.Float(), nullable=False),
        sa.ForeignKeyConstraint(["lot_id"], ["lots.id"]),
        sa.ForeignKeyConstraint(["revision_id"], ["revisions.id"]),
        sa.ForeignKeyConstraint(["station_id"], ["stations.id"]),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("lot_id", "number"),
    )
    op.create_index("parts_by_serial", "parts", ["serial"], unique=False)
    op.create_index("parts_by_source", "parts", ["source"], unique=False)
    op.create_index("parts_by_time", "parts", ["recorded"], unique=False)
    op.create_index("parts_by_verdict", "parts", ["lot_id", "verdict", "number"], unique=False)
    op.create_table(
        "events",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("lot_id", sa.Integer(), nullable=True),
        sa.Column("part_id", sa.Integer(), nullable=True),
        sa.Column("time", sa.Float(), nullable=False),
        sa.Column("kind", sa.String(length=32), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["lot_id"], ["lots.id"]),
        sa.ForeignKeyConstraint(["part_id"], ["parts.id"]),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("events_by_time", "events", ["time"], unique=False)
    op.create_table(
        "part_values",
        sa.Column("characteristic_id", sa.Integer(), nullable=False),
        sa.Column("part_id", sa.Integer(), nullable=False),
        sa.Column("value", sa.Float(), nullable=True),
        sa.Column("verdict", sa.SmallInteger(), nullable=False),
        sa.Column("text", sa.Text(), nullable=True),
        sa.Column("reason", sa.Text(), nullable=True),
        sa.ForeignKeyConstraint(["characteristic_id"], ["characteristics.id"]),
        sa.ForeignKeyConstraint(["part_id"], ["parts.id"]),
        sa.PrimaryKeyConstraint("characteristic_id", "part_id"),
        sqlite_with_rowid=False,
    )


def downgrade() -> None:
    """None of them."""
    op.drop_table("part_values")
    op.drop_index("events_by_time", table_name="events")
    op.drop_table("events")
    op.drop_index("parts_by_verdict", table_name="parts")
    op.drop_index("parts_by_time", table_name="parts")
    op.drop_index("parts_by_source", table_name="parts")
    op.drop_index("parts_by_serial", table_name="parts")
    op.drop_table("parts")
    op.drop_table("characteristics")
    op.drop_table("stations")
    op.drop_table("revisions")
    op.drop_table("lots")
