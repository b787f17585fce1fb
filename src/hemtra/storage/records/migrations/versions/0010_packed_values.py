"""Values of ended lots, packed by characteristic."""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    """A table for them, and which part of a lot was the newest when it was packed."""
    op.add_column("lots", sa.Column("packed", sa.Integer))
    op.create_table(
        "packed_values",
        sa.Column("characteristic_id", sa.Integer, sa.ForeignKey("characteristics.id"), primary_key=True),
        sa.Column("lot_id", sa.Integer, sa.ForeignKey("lots.id"), primary_key=True),
        sa.Column("first", sa.Integer, nullable=False),
        sa.Column("count", sa.Integer, nullable=False),
        sa.Column("failed", sa.Integer, nullable=False),
        sa.Column("missing", sa.Integer, nullable=False),
        sa.Column("unproven", sa.Integer, nullable=False),
        sa.Column("part_ids", sa.LargeBinary),
        sa.Column("value", sa.LargeBinary, nullable=False),
        sa.Column("least", sa.LargeBinary),
        sa.Column("greatest", sa.LargeBinary),
    )
    op.create_index("packed_values_of_lot", "packed_values", ["lot_id"])
    if op.get_bind().dialect.name == "postgresql":
        # measured values hardly get smaller, and trying takes longer than reading them
        for name in ("part_ids", "value", "least", "greatest"):
            op.execute(f"alter table packed_values alter column {name} set storage external")
