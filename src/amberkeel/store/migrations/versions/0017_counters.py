"""Attempts are numbered by a counter on their shot, a version of a package is given once, and watchers have a pulse."""

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"


def upgrade() -> None:
    """Add the counter, as far as the numbers go, the constraint, and the table."""
    op.add_column("shot", sa.Column("attempts", sa.Integer(), nullable=False, server_default="0"))
    op.execute(
        "update shot set attempts = (select coalesce(max(number), 0) from attempt where attempt.shot_id = shot.id)"
    )
    op.create_unique_constraint("package_shot_id_version_key", "package", ["shot_id", "version"])
    op.create_table(
        "pulse",
        sa.Column("name", sa.String(120), primary_key=True),
        sa.Column("at", sa.DateTime(), nullable=False),
        sa.Column("said", sa.String(400), nullable=False, server_default=""),
    )


def downgrade() -> None:
    """Take all of it away."""
    op.drop_table("pulse")
    op.drop_constraint("package_shot_id_version_key", "package")
    op.drop_column("shot", "attempts")
