"""What is known of the set and of the camera's path."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0007"
down_revision = "0006"


def upgrade() -> None:
    """Give each shot a list of constraints."""
    op.add_column("shot", sa.Column("constraints", JSONB(), nullable=False, server_default="[]"))


def downgrade() -> None:
    """Forget them."""
    op.drop_column("shot", "constraints")
