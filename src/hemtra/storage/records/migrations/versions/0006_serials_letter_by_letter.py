"""Serials are compared letter by letter, whatever language a server sorts by."""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    """On PostgreSQL only: SQLite never compares in another way."""
    if op.get_bind().dialect.name == "postgresql":
        op.alter_column("parts", "serial", type_=sa.String(120, collation="C"))
