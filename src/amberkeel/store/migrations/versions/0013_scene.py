"""What stands in a shot's scene: proxies and probe objects."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0013"
down_revision = "0012"


def upgrade() -> None:
    """Add the column."""
    op.add_column("shot", sa.Column("scene", JSONB, nullable=False, server_default="{}"))


def downgrade() -> None:
    """Drop it."""
    op.drop_column("shot", "scene")
