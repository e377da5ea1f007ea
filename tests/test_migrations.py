"""Every migration on rows: what an earlier version kept is there after it, and the tables are those of the models."""

import os
from datetime import datetime

import pytest
import sqlalchemy as sa
from alembic import command
from alembic.autogenerate import compare_metadata
from alembic.config import Config
from alembic.migration import MigrationContext
from alembic.script import ScriptDirectory
from desk import beside

from amberkeel.store import migrate
from amberkeel.store.models import Base

FOLDER = os.path.join(os.path.dirname(migrate.__file__), "migrations")

TEXTS = {"kind": "weed", "state": "done", "fps": "24/1", "purpose": "ignore"}
"""Texts that mean something, by their column."""

CHANGED = {("edit", "kind", "weed"): ("samples", "0006")}
"""What a migration calls otherwise: table, column and value, with the value after it and the migration."""

REFERENCES = {"pinned_id": "attempt", "reference_id": "shot", "reference_attempt": "attempt"}
"""Columns that name a row of another table without the database knowing."""


def config() -> Config:
    made = Config()
    made.set_main_option("script_location", FOLDER)
    return made


REVISIONS = [one.revision for one in ScriptDirectory.from_config(config()).walk_revisions()][::-1]


@pytest.fixture
def empty(service, monkeypatch):
    """A database of its own; the environment names it."""
    with beside(service, "migrated") as own:
        monkeypatch.setenv("AMBERKEEL_DATABASE", own)
        engine = sa.create_engine(own)
        yield engine
        engine.dispose()


def sample(column: sa.Column, k: int):
    """A value that a column of an earlier version may have held, another one for each `k`."""
    kind = column.type
    if column.foreign_keys:
        return 1
    if isinstance(kind, sa.ARRAY):
        return [sample(sa.Column(column.name, kind.item_type), k + n) for n in range(2)]
    if isinstance(kind, sa.JSON):
        return {"held": [k, None, "as it was"]}
    if isinstance(kind, sa.Boolean):
        return column.name not in ("removed", "archived", "cancel", "undone")
    if isinstance(kind, sa.DateTime):
        return None if column.name == "deleted" else datetime(2026, 1, 2, 3, 4, k % 60)
    if isinstance(kind, sa.Float):
        return 0.5 + k
    if isinstance(kind, sa.Integer):
        return 1 if column.name in REFERENCES else 1 + k % 100
    return TEXTS.get(column.name, f"{column.name[:6]} {k}")[: kind.length or 200]


def filled(engine: sa.Engine) -> dict[str, dict]:
    """Put a row into every table as it is now; return what was put there."""
    held, tables = {}, sa.MetaData()
    tables.reflect(engine)
    with engine.begin() as link:
        for table in tables.sorted_tables:
            if table.name == "alembic_version":
                continue
            row = {c.name: sample(c, n) for n, c in enumerate(table.columns)}
            row |= {c.name: 1 for c in table.primary_key if isinstance(c.type, sa.Integer)}
            link.execute(table.insert().values(row))
            held[table.name] = row
    return held


@pytest.mark.parametrize("revision", REVISIONS[:-1])
def test_what_an_earlier_version_kept_is_there_after_the_last_migration(empty, revision):
    command.upgrade(config(), revision)
    held = filled(empty)
    migrate.upgrade()
    tables = sa.MetaData()
    tables.reflect(empty)
    with empty.connect() as link:
        for name, row in held.items():
            (found,) = link.execute(sa.select(tables.tables[name])).mappings().all()
            for column, value in row.items():
                later, since = CHANGED.get((name, column, str(value)), (value, ""))
                expected = later if revision < since else value
                assert found[column] == expected, (name, column)
        if "attempt" in held:
            # Attempts go on from the number that was given out last.
            assert link.scalar(sa.text("select attempts from shot")) == held["attempt"]["number"]


def test_the_tables_are_those_of_the_models_and_can_be_taken_back(empty):
    migrate.upgrade()
    with empty.connect() as link:
        context = MigrationContext.configure(link, opts={"compare_type": True})
        assert compare_metadata(context, Base.metadata) == []
    command.downgrade(config(), "base")
    left = sa.MetaData()
    left.reflect(empty)
    assert set(left.tables) <= {"alembic_version"}
