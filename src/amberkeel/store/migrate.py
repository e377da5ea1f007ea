"""Bring the database's tables up to this version."""

from pathlib import Path

from alembic import command
from alembic.config import Config


def upgrade() -> None:
    """Run all migrations that have not run yet on the database that the environment names."""
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    command.upgrade(config, "head")
