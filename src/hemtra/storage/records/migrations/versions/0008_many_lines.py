"""Many lines in one database: what each of them does, and indices for looking back over all of their parts."""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"


def upgrade() -> None:
    """Add a table. SQLite keeps the key of a row in every index, a server does not."""
    op.create_table(
        "lines",
        sa.Column("name", sa.String(120), primary_key=True),
        sa.Column("host", sa.String(120), primary_key=True),
        sa.Column("plan", sa.String(120), nullable=False),
        sa.Column("lot", sa.String(120), nullable=False),
        sa.Column("state", sa.String(16), nullable=False),
        sa.Column("parts", sa.Integer, nullable=False),
        sa.Column("passed", sa.Integer, nullable=False),
        sa.Column("waiting", sa.Integer, nullable=False),
        sa.Column("latency", sa.Float, nullable=False),
        sa.Column("began", sa.Float, nullable=False),
        sa.Column("seen", sa.Float, nullable=False),
    )
    if op.get_bind().dialect.name == "postgresql":
        op.create_index("parts_of_lot_in_order", "parts", ["lot_id", "id"])
        op.create_index("parts_of_revision_by_lot", "parts", ["revision_id", "lot_id"])
