"""The first form of the records."""

from alembic import op

from hemtra.storage.records.schema import metadata

revision = "0001"
down_revision = None


def upgrade() -> None:
    """All tables."""
    metadata.create_all(op.get_bind())


def downgrade() -> None:
    """None of them."""
    metadata.drop_all(op.get_bind())
