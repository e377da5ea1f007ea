"""Bodies of a shot: rigid things in it that move on their own."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0015"
down_revision = "0014"


def upgrade() -> None:
    """Add the column."""
    op.add_column("shot", sa.Column("bodies", JSONB, nullable=False, server_default="{}"))


def downgrade() -> None:
    """Drop it."""
    op.drop_column("shot", "bodies")
