"""Sets of a production, and what ties a shot to one."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0014"
down_revision = "0013"


def upgrade() -> None:
    """Add the table and the column."""
    op.create_table(
        "film_set",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("production_id", sa.Integer(), sa.ForeignKey("production.id"), nullable=False, index=True),
        sa.Column("name", sa.String(80), nullable=False),
        sa.Column("document", JSONB(), nullable=False),
        sa.Column("reference_id", sa.Integer(), nullable=True),
        sa.Column("reference_attempt", sa.Integer(), nullable=True),
        sa.Column("version", sa.Integer(), nullable=False, server_default="1"),
        sa.Column("removed", sa.Boolean(), nullable=False, server_default="false"),
        sa.Column("created", sa.DateTime(), nullable=False),
    )
    op.add_column("shot", sa.Column("ties", JSONB, nullable=False, server_default="{}"))


def downgrade() -> None:
    """Drop them."""
    op.drop_column("shot", "ties")
    op.drop_table("film_set")
