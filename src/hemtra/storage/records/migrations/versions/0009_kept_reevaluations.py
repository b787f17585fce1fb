"""Re-evaluations that are kept, and how far one has come that was stopped."""

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"


def upgrade() -> None:
    """Two tables. They name lots and parts by their keys alone, so that archives need not know of them."""
    op.create_table(
        "reevaluations",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("lot_id", sa.Integer, nullable=False),
        sa.Column("lot", sa.String(120), nullable=False),
        sa.Column("plan", sa.String(120), nullable=False),
        sa.Column("digest", sa.String(64), nullable=False),
        sa.Column("author", sa.String(120), nullable=False),
        sa.Column("began", sa.Float, nullable=False),
        sa.Column("ended", sa.Float),
        sa.Column("result", sa.Text),
    )
    op.create_index("reevaluations_of_lot", "reevaluations", ["lot_id", "digest"])
    op.create_table(
        "reevaluated_parts",
        sa.Column("reevaluation_id", sa.Integer, primary_key=True, autoincrement=False),
        sa.Column("part_id", sa.Integer, primary_key=True, autoincrement=False),
        sa.Column("result", sa.Text, nullable=False),
    )
