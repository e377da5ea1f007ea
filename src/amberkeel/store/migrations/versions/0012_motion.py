"""What moves on a plate's frames, kept with the plate."""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"


def upgrade() -> None:
    """Add the column."""
    op.add_column("plate", sa.Column("motion", sa.String(64), nullable=False, server_default=""))


def downgrade() -> None:
    """Drop it."""
    op.drop_column("plate", "motion")
