"""Sessions on the database."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

from sqlalchemy import create_engine
from sqlalchemy.orm import Session, sessionmaker

from amberkeel.store.held import watch

_makers: dict[str, sessionmaker] = {}

fence: ContextVar[Callable[[Session], None] | None] = ContextVar("fence", default=None)
"""What must hold when a transaction ends; it raises where that is not so. A job sets it to its claim."""

actor: ContextVar[str] = ContextVar("actor", default="artist")
"""Whose edits are recorded: who is asking, or the work that a job does."""


def maker(database: str) -> sessionmaker:
    """Return the session maker of a database address, made once a process."""
    if database not in _makers:
        engine = create_engine(database, pool_pre_ping=True, pool_size=20, max_overflow=40)
        made = sessionmaker(engine, expire_on_commit=False)
        watch(made)
        _makers[database] = made
    return _makers[database]


def leave_connections() -> None:
    """Forget the connections that a process was forked with: they are its parent's."""
    for made in _makers.values():
        made.kw["bind"].dispose(close=False)
    _makers.clear()


@contextmanager
def session(database: str) -> Iterator[Session]:
    """Open a session; commit at the end if what fences it holds, roll back when it fails."""
    with maker(database)() as opened, opened.begin():
        yield opened
        holds = fence.get()
        if holds is not None:
            holds(opened)
