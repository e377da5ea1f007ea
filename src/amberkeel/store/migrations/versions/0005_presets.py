"""sensor presets belong to a user; a deleted track's name may be given again"""

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
    op.drop_constraint("track_shot_id_run_name_key", "track", type_="unique")
    op.create_index("track_live_name", "track", ["shot_id", "run", "name"], unique=True, postgresql_where=sa.text("NOT removed"))


def downgrade() -> None:
    op.drop_index("track_live_name", table_name="track")
    op.create_unique_constraint("track_shot_id_run_name_key", "track", ["shot_id", "run", "name"])
    op.drop_constraint("sensor_preset_owner_name_key", "sensor_preset", type_="unique")
    op.create_unique_constraint("sensor_preset_name_key", "sensor_preset", ["name"])
    op.drop_column("sensor_preset", "owner")
