"""Attempts are numbered by a counter on their shot, and a version of a package is given once."""

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"


def upgrade() -> None:
    """Add the counter, as far as the numbers go, and the constraint."""
    op.add_column("shot", sa.Column("attempts", sa.Integer(), nullable=False, server_default="0"))
    op.execute(
        "update shot set attempts = (select coalesce(max(number), 0) from attempt where attempt.shot_id = shot.id)"
    )
    op.create_unique_constraint("package_shot_id_version_key", "package", ["shot_id", "version"])


def downgrade() -> None:
    """Take both away."""
    op.drop_constraint("package_shot_id_version_key", "package")
    op.drop_column("shot", "attempts")
