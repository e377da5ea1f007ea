"""What stands in a shot's scene, and slip measured on an attempt."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0013"
down_revision = "0012"


def upgrade() -> None:
    """Add the columns."""
    op.add_column("shot", sa.Column("scene", JSONB, nullable=False, server_default="{}"))
    op.add_column("attempt", sa.Column("slip", sa.String(64), nullable=False, server_default=""))
    op.add_column("attempt", sa.Column("slip_said", JSONB, nullable=False, server_default="{}"))


def downgrade() -> None:
    """Drop them."""
    op.drop_column("attempt", "slip_said")
    op.drop_column("attempt", "slip")
    op.drop_column("shot", "scene")
