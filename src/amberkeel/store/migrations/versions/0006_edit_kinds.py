"""Edits of samples are of the kind that says so."""

from alembic import op

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    """Rename the kind of edits kept before."""
    op.execute("update edit set kind = 'samples' where kind = 'weed'")


def downgrade() -> None:
    """Give them their old name."""
    op.execute("update edit set kind = 'weed' where kind = 'samples'")
