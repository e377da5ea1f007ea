"""Tracks by hand, groups, sightings, tags, blur, tracking copies."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("plate", sa.Column("blur", postgresql.JSONB(astext_type=sa.Text()), nullable=False, server_default="{}"))
    op.add_column("plate", sa.Column("stack", postgresql.JSONB(astext_type=sa.Text()), nullable=False, server_default="[]"))
    op.add_column("plate", sa.Column("replaced", sa.String(length=1000), nullable=False, server_default=""))
    op.add_column("shot", sa.Column("groups", postgresql.JSONB(astext_type=sa.Text()), nullable=False, server_default="{}"))
    op.add_column("shot", sa.Column("sightings", sa.String(length=64), nullable=False, server_default=""))
    op.add_column("shot", sa.Column("tags", postgresql.JSONB(astext_type=sa.Text()), nullable=False, server_default="{}"))
    op.add_column("track", sa.Column("keys", sa.ARRAY(sa.Integer()), nullable=False, server_default="{}"))
    op.add_column("track", sa.Column("group", sa.String(length=40), nullable=False, server_default=""))
    op.add_column("track", sa.Column("locked", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("track", sa.Column("made", postgresql.JSONB(astext_type=sa.Text()), nullable=False, server_default="{}"))


def downgrade() -> None:
    op.drop_column("track", "made")
    op.drop_column("track", "locked")
    op.drop_column("track", "group")
    op.drop_column("track", "keys")
    op.drop_column("shot", "tags")
    op.drop_column("shot", "sightings")
    op.drop_column("shot", "groups")
    op.drop_column("plate", "replaced")
    op.drop_column("plate", "stack")
    op.drop_column("plate", "blur")
