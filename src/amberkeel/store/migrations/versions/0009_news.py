"""Who listens is told when a shot or one of its jobs changes; jobs know whether anybody waits for them, and when
they ran.
"""

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"

TELL = """
create function tell_of_{table}() returns trigger language plpgsql as $$
begin
  if new.{shot} is not null then
    perform pg_notify('shot_news', new.{shot}::text);
  end if;
  return null;
end $$
"""

MOVED = """
create function tell_who_waits() returns trigger language plpgsql as $$
begin
  perform pg_notify('shot_news', shot_id::text) from job where state = 'queued' and shot_id is not null;
  return null;
end $$
"""

WATCHED = {"job": ("shot_id", "insert or update"), "shot": ("id", "update of revision")}
"""Tables that are watched: the column with the shot's number, and what is told of."""


def upgrade() -> None:
    """Tell of every change of a job or of a shot's revision on the channel “shot_news”; whoever waits also of those
    before.
    """
    for table, (shot, when) in WATCHED.items():
        op.execute(TELL.format(table=table, shot=shot))
        op.execute(
            f"create trigger {table}_news after {when} on {table} for each row execute function tell_of_{table}()"
        )
    op.execute(MOVED)
    op.execute("create trigger job_moved after update of state on job for each row execute function tell_who_waits()")
    op.add_column("job", sa.Column("background", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("job", sa.Column("turn", sa.Integer(), nullable=True))
    for column in ("started", "ended"):
        op.add_column("job", sa.Column(column, sa.DateTime(), nullable=True))
    op.create_index("job_waiting", "job", ["background", "id"], postgresql_where=sa.text("state = 'queued'"))


def downgrade() -> None:
    """Tell nobody."""
    op.drop_index("job_waiting", "job")
    for column in ("background", "turn", "started", "ended"):
        op.drop_column("job", column)
    op.execute("drop trigger job_moved on job")
    op.execute("drop function tell_who_waits()")
    for table in WATCHED:
        op.execute(f"drop trigger {table}_news on {table}")
        op.execute(f"drop function tell_of_{table}()")
