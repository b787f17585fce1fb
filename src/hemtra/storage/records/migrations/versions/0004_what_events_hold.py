"""Fields of an event, as JSON beside its words."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    """A column only; older events keep their words."""
    op.add_column("events", sa.Column("fields", sa.Text()))
