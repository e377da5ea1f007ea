"""lens profiles"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "lens_profile",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("production_id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(length=80), nullable=False),
        sa.Column("document", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("removed", sa.Boolean(), nullable=False),
        sa.Column("created", sa.DateTime(), nullable=False),
        sa.ForeignKeyConstraint(["production_id"], ["production.id"]),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_lens_profile_production_id"), "lens_profile", ["production_id"], unique=False)
    op.add_column("shot", sa.Column("lens", postgresql.JSONB(astext_type=sa.Text()), nullable=False, server_default="{}"))
    op.add_column("shot", sa.Column("lens_stamp", sa.Integer(), nullable=False, server_default="0"))
    op.add_column("shot", sa.Column("profile_id", sa.Integer(), nullable=True))
    op.create_foreign_key("shot_profile_id_fkey", "shot", "lens_profile", ["profile_id"], ["id"])


def downgrade() -> None:
    op.drop_constraint("shot_profile_id_fkey", "shot", type_="foreignkey")
    op.drop_column("shot", "profile_id")
    op.drop_column("shot", "lens_stamp")
    op.drop_column("shot", "lens")
    op.drop_index(op.f("ix_lens_profile_production_id"), table_name="lens_profile")
    op.drop_table("lens_profile")
