"""Bounds of values, minimum and maximum of many, and the method of a characteristic."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    """Columns only; what is kept stays as it is, and was measured by the first method."""
    for name in ("low", "high", "least", "greatest"):
        op.add_column("part_values", sa.Column(name, sa.Float()))
    op.add_column("characteristics", sa.Column("method", sa.String(200), nullable=False, server_default=""))
