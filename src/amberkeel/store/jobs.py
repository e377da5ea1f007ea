"""Job rows: long work asked for, before any queue knows of it."""

from sqlalchemy import select
from sqlalchemy.orm import Session

from amberkeel.core.errors import KeelError
from amberkeel.store.models import Job


def submit(opened: Session, kind: str, shot_id: int | None, arguments: dict | None = None) -> Job:
    """Add a job that a user asks for. Raises KeelError when the shot has such a job already."""
    busy = opened.scalar(
        select(Job).where(Job.shot_id == shot_id, Job.kind == kind, Job.state.in_(["queued", "running"])).limit(1)
    )
    if busy is not None:
        raise KeelError("That is running already.", "Wait for it, or cancel it first.")
    return add_job(opened, kind, shot_id, arguments)


def add_job(opened: Session, kind: str, shot_id: int | None, arguments: dict | None = None) -> Job:
    """Add a job row; its number goes on the queue once the row is committed."""
    job = Job(kind=kind, shot_id=shot_id, arguments=arguments or {})
    opened.add(job)
    opened.flush()
    return job
