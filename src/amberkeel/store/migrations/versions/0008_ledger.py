"""Names and notes of attempts, and attempts taken out of the ledger."""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"


def upgrade() -> None:
    """Give attempts a name, a note and whether they are removed."""
    op.add_column("attempt", sa.Column("name", sa.String(80), nullable=False, server_default=""))
    op.add_column("attempt", sa.Column("note", sa.String(400), nullable=False, server_default=""))
    op.add_column("attempt", sa.Column("removed", sa.Boolean(), nullable=False, server_default=sa.false()))


def downgrade() -> None:
    """Forget them."""
    for column in ("name", "note", "removed"):
        op.drop_column("attempt", column)
