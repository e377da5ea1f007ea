"""Run migrations on the database that the environment names."""

from alembic import context
from sqlalchemy import create_engine

from amberkeel.settings import from_environment
from amberkeel.store.models import Base

engine = create_engine(from_environment().database)
with engine.connect() as connection:
    context.configure(connection=connection, target_metadata=Base.metadata)
    with context.begin_transaction():
        context.run_migrations()
engine.dispose()
