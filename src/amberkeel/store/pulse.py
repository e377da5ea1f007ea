"""Pulses of the threads that watch over jobs: that they live can be asked, and is not found out when one is missed."""

from datetime import timedelta

from sqlalchemy import select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from amberkeel.store.models import Pulse, database_now

WATCHER = "watcher"
"""The pulse of what takes up again the jobs of workers that were lost."""

SILENT_AFTER = timedelta(seconds=60)
"""Silence after which a thread counts as dead."""


def beat(session: Session, name: str, said: str = "") -> None:
    """Note that a thread is at work.

    Parameters
    ----------
    session : open. name : of the pulse. said : what it could not do, if anything.
    """
    said = said[:400]
    row = insert(Pulse).values(name=name, at=database_now(), said=said)
    session.execute(row.on_conflict_do_update(index_elements=["name"], set_={"at": row.excluded.at, "said": said}))


def silence(session: Session, name: str) -> timedelta | None:
    """Return for how long nothing was heard of a thread; None where it never was."""
    return session.scalar(select(database_now() - Pulse.at).where(Pulse.name == name))


def trouble(session: Session) -> str:
    """Return in words what is wrong with the watcher of jobs; empty where it is at work."""
    silent = silence(session, WATCHER)
    if silent is None:
        return "No worker has run yet: nothing takes jobs up."
    if silent > SILENT_AFTER:
        return (
            f"Nothing was heard of the workers' watcher for {int(silent.total_seconds())} s: jobs of a worker that is "
            "lost are not taken up again. Restart the workers."
        )
    return session.scalar(select(Pulse.said).where(Pulse.name == WATCHER)) or ""
