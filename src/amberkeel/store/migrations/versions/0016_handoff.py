"""Recipients of a production, and the packages that were made for them."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0016"
down_revision = "0015"


def upgrade() -> None:
    """Add both tables."""
    op.create_table(
        "recipient",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("production_id", sa.Integer(), sa.ForeignKey("production.id"), nullable=False, index=True),
        sa.Column("name", sa.String(80), nullable=False),
        sa.Column("document", JSONB(), nullable=False),
        sa.Column("removed", sa.Boolean(), nullable=False, server_default="false"),
        sa.Column("created", sa.DateTime(), nullable=False),
    )
    op.create_table(
        "package",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("shot_id", sa.Integer(), sa.ForeignKey("shot.id"), nullable=False, index=True),
        sa.Column("recipient", sa.String(80), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("folder", sa.String(300), nullable=False),
        sa.Column("manifest", JSONB(), nullable=False),
        sa.Column("made_of", JSONB(), nullable=False),
        sa.Column("who", sa.String(80), nullable=False),
        sa.Column("created", sa.DateTime(), nullable=False),
    )


def downgrade() -> None:
    """Drop them."""
    op.drop_table("package")
    op.drop_table("recipient")
