"""Job rows: long work asked for, before any queue knows of it."""

from sqlalchemy import func, literal, select, tuple_, update
from sqlalchemy.orm import Session

from amberkeel.core.errors import KeelError
from amberkeel.store.held import hold_shot
from amberkeel.store.models import Job, Shot, now


def submit(opened: Session, kind: str, shot_id: int | None, arguments: dict | None = None) -> Job:
    """Add a job that a user asks for. Raises KeelError when the shot has such a job already."""
    if shot_id is not None:
        # Held, so that two who press the same button at once do not both find that nothing runs.
        hold_shot(opened, shot_id)
    busy = opened.scalar(
        select(Job).where(Job.shot_id == shot_id, Job.kind == kind, Job.state.in_(["queued", "running"])).limit(1)
    )
    if busy is not None:
        raise KeelError("That is running already.", "Wait for it, or cancel it first.")
    return add_job(opened, kind, shot_id, arguments)


def add_job(
    opened: Session,
    kind: str,
    shot_id: int | None,
    arguments: dict | None = None,
    background: bool = False,
    turn: int | None = None,
) -> Job:
    """Add a job row; it is taken up once the row is committed, `background` work after all that somebody waits for, and
    in the turn of the job that it follows from, if any.
    """
    job = Job(kind=kind, shot_id=shot_id, arguments=arguments or {}, background=background, turn=turn)
    opened.add(job)
    opened.flush()
    return job


def ask_to_stop(opened: Session, number: int) -> None:
    """Ask a job to stop; one that waits is cancelled at once. Raises KeelError where there is no such job."""
    # Held, so that none is called cancelled which a worker has just taken up.
    job = opened.get(Job, number, with_for_update=True, populate_existing=True)
    if job is None:
        raise KeelError("There is no such job.")
    job.cancel = True
    if job.state == "queued":
        job.state, job.ended = "cancelled", now()


def bring_forward(opened: Session, shot_id: int) -> None:
    """Let a shot's waiting background work count as asked for: somebody has opened the shot."""
    own = Job.shot_id == shot_id, Job.state == "queued", Job.background
    opened.execute(update(Job).where(*own).values(background=False))


def waiting_words(opened: Session, job: Job) -> str:
    """Return what a job waits for: how many come before it, and what is being done."""
    before = tuple_(*Job.order()) < tuple_(literal(job.background), literal(job.turn or job.id), literal(job.id))
    ahead = opened.scalar(select(func.count()).select_from(Job).where(Job.state == "queued", before))
    running = opened.execute(
        select(Job.doing, Shot.name).join(Shot, Shot.id == Job.shot_id).where(Job.state == "running").limit(1)
    ).one_or_none()
    come = "job comes" if ahead == 1 else "jobs come"
    words = f"Waiting; {ahead} {come} before" if ahead else "Waiting for a worker"
    return f"{words} · now: {running.name}, {running.doing}"[:200] if running else words
