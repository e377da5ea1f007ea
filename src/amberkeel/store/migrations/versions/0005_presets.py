"""sensor presets belong to a user"""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("sensor_preset", sa.Column("owner", sa.String(length=80), nullable=False, server_default="artist"))
    op.drop_constraint("sensor_preset_name_key", "sensor_preset", type_="unique")
    op.create_unique_constraint("sensor_preset_owner_name_key", "sensor_preset", ["owner", "name"])


def downgrade() -> None:
    op.drop_constraint("sensor_preset_owner_name_key", "sensor_preset", type_="unique")
    op.create_unique_constraint("sensor_preset_name_key", "sensor_preset", ["name"])
    op.drop_column("sensor_preset", "owner")
