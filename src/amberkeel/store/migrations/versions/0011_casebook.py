"""Trials of remedies, and reviews of attempts."""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"

JSONB = sa.dialects.postgresql.JSONB


def upgrade() -> None:
    """Add the tables."""
    op.create_table(
        "trial",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("shot_id", sa.Integer(), sa.ForeignKey("shot.id"), nullable=False, index=True),
        sa.Column("base_id", sa.Integer(), sa.ForeignKey("attempt.id"), nullable=False),
        sa.Column("attempt_id", sa.Integer(), sa.ForeignKey("attempt.id"), nullable=True),
        sa.Column("job_id", sa.Integer(), sa.ForeignKey("job.id"), nullable=True),
        sa.Column("finding", sa.String(40), nullable=False, server_default=""),
        sa.Column("remedy", JSONB(), nullable=False),
        sa.Column("verdict", sa.String(12), nullable=False, server_default=""),
        sa.Column("comparison", JSONB(), nullable=False, server_default="{}"),
        sa.Column("change", sa.String(64), nullable=False, server_default=""),
        sa.Column("stamp", sa.Integer(), nullable=False, server_default="0"),
        sa.Column("decided", sa.String(10), nullable=False, server_default=""),
        sa.Column("who", sa.String(80), nullable=False, server_default="artist"),
        sa.Column("created", sa.DateTime(), nullable=False),
    )
    op.create_table(
        "review",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("shot_id", sa.Integer(), sa.ForeignKey("shot.id"), nullable=False, index=True),
        sa.Column("attempt_id", sa.Integer(), sa.ForeignKey("attempt.id"), nullable=False),
        sa.Column("signed", sa.Boolean(), nullable=False),
        sa.Column("note", sa.String(2000), nullable=False, server_default=""),
        sa.Column("frames", sa.String(200), nullable=False, server_default=""),
        sa.Column("reason", sa.String(1000), nullable=False, server_default=""),
        sa.Column("findings", JSONB(), nullable=False, server_default="[]"),
        sa.Column("who", sa.String(80), nullable=False, server_default="artist"),
        sa.Column("created", sa.DateTime(), nullable=False),
    )


def downgrade() -> None:
    """Remove them."""
    op.drop_table("review")
    op.drop_table("trial")
