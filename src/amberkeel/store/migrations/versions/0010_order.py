"""Shots and productions can be put aside and deleted for a while; plates say how they are encoded and what is odd."""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"

COLUMNS = {
    "production": [
        sa.Column("archived", sa.Boolean(), nullable=False, server_default=sa.false()),
        sa.Column("deleted", sa.DateTime(), nullable=True),
    ],
    "shot": [
        sa.Column("archived", sa.Boolean(), nullable=False, server_default=sa.false()),
        sa.Column("deleted", sa.DateTime(), nullable=True),
    ],
    "plate": [
        sa.Column("encoding", sa.String(20), nullable=False, server_default=""),
        sa.Column("odd", sa.ARRAY(sa.String(400)), nullable=False, server_default="{}"),
        sa.Column("times", sa.ARRAY(sa.Float()), nullable=False, server_default="{}"),
        sa.Column("stated", sa.dialects.postgresql.JSONB(), nullable=False, server_default="{}"),
    ],
    "edit": [
        sa.Column("who", sa.String(80), nullable=False, server_default="artist"),
        sa.Column("revision", sa.Integer(), nullable=False, server_default="0"),
    ],
}


def upgrade() -> None:
    """Add the columns; a name that a deleted shot or production bears may be given again."""
    for table, columns in COLUMNS.items():
        for column in columns:
            op.add_column(table, column)
    op.drop_constraint("shot_production_id_name_key", "shot")
    op.drop_constraint("production_name_key", "production")
    live = sa.text("deleted is null")
    op.create_index("shot_live_name", "shot", ["production_id", "name"], unique=True, postgresql_where=live)
    op.create_index("production_live_name", "production", ["name"], unique=True, postgresql_where=live)


def downgrade() -> None:
    """Remove what is deleted, and the columns."""
    op.drop_index("shot_live_name", "shot")
    op.drop_index("production_live_name", "production")
    op.create_unique_constraint("shot_production_id_name_key", "shot", ["production_id", "name"])
    op.create_unique_constraint("production_name_key", "production", ["name"])
    for table, columns in COLUMNS.items():
        for column in columns:
            op.drop_column(table, column.name)
