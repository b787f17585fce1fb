"""Indexes for looking back at many parts: by time, by plan revision, and what did not pass."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    """Indexes only; what is kept stays as it is."""
    op.drop_index("parts_by_verdict", "parts")
    op.create_index("parts_of_lot", "parts", ["lot_id"])
    op.create_index("parts_by_lot", "parts", ["lot_id", "recorded"])
    op.create_index("parts_by_verdict", "parts", ["lot_id", "verdict", "recorded"])
    op.create_index("parts_by_verdict_time", "parts", ["verdict", "recorded"])
    op.create_index("parts_by_revision", "parts", ["revision_id", "recorded"])
    op.create_index(
        "values_not_passed",
        "part_values",
        ["characteristic_id", "part_id", "verdict"],
        sqlite_where=sa.text("verdict <> 0"),
        postgresql_where=sa.text("verdict <> 0"),
    )
