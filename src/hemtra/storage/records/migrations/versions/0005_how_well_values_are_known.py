"""The standard uncertainty of values."""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    """A column only; nothing on record gives its values."""
    op.add_column("part_values", sa.Column("u", sa.Float()))
