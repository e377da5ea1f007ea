"""What a database says when it does not do what it is asked: away, full, or two changes in each other's way.

SQLAlchemy calls all of these an `OperationalError`. PostgreSQL's classes tell them apart (its manual, appendix A).
"""

from sqlalchemy.exc import DBAPIError

from amberkeel.core.errors import KeelError

_MEETING = ("40001", "40P01", "55P03")
"""Serialization failure, deadlock, lock not to be had: the same again will do."""

_FULL = {"53100": "The disk of the database is full.", "53200": "The database's machine is out of memory."}


def met(error: DBAPIError) -> bool:
    """Return whether a transaction was broken off because another one was in its way: nothing of it was kept."""
    return _code(error) in _MEETING


def refusal(error: DBAPIError) -> KeelError | None:
    """Return in words why a database that is there refuses to keep anything; None for another reason."""
    words = _FULL.get(_code(error))
    return KeelError(words, "Nothing was changed. Make room, then do it again.") if words else None


def _code(error: DBAPIError) -> str:
    """Return PostgreSQL's code of an error, five characters; empty where the connection itself failed."""
    return getattr(error.orig, "sqlstate", None) or ""
