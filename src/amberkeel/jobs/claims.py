"""Who does a job: it is claimed by one worker at a time, and takes effect by its newest claim alone.

Each claim has a number of its own, the token. Every transaction of a job ends with a look at the row: an older claim is
refused, and what it was about to write is rolled back. The last transaction writes the effect, the job that follows
and the end of this one together: a worker that dies leaves all of it done, or nothing.
"""

import time
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import exists, func, select, text, update
from sqlalchemy.exc import OperationalError as DatabaseAway
from sqlalchemy.orm import Session, aliased

from amberkeel.core.errors import Cancelled, without_folders
from amberkeel.core.progress import AtFrame, phase_of
from amberkeel.settings import Settings
from amberkeel.store.held import hold_shots
from amberkeel.store.models import Job, database_now, now
from amberkeel.store.session import fence, session

MAX_TRIES = 3

LOST_AFTER = timedelta(seconds=15)
"""Silence after which a worker counts as lost."""

FINISH_PAUSES_S = [0.5, 1.0, 2.0] + 60 * [5.0]
"""Pauses between tries to write that a job has ended, while the database is away."""

MOST_LOGGED = 40
"""Parts of its work that a job's log keeps, the newest."""

AWAY = "The database was away; waiting to start again"
"""What is said of a job that waits for the database."""

ONE_AT_A_TIME = 8130
"""Number of the lock under which jobs are claimed."""


@dataclass(frozen=True)
class Claim:
    """A job's number, and which of its claims this is."""

    job: int
    token: int


@dataclass(frozen=True)
class Lane:
    """What a worker takes: jobs of `kinds`, or of all where that is None, and `background` work or not; `beside` are
    the kinds that may run while another job of their shot does.
    """

    kinds: frozenset[str] | None = None
    background: bool = True
    beside: frozenset[str] = frozenset()


class Superseded(Exception):
    """Another claim of the job is newer than this one."""


current: ContextVar[Claim | None] = ContextVar("current", default=None)
"""The claim under which this thread works."""


def claim_next(settings: Settings, lane: Lane) -> Claim | None:
    """Claim the job that is next: what somebody waits for first, in the order it was asked for; None where none is.

    A shot has one job at a time, but for those that may run beside another one.
    """
    with session(settings.database) as opened:
        opened.execute(text(f"select pg_advisory_xact_lock({ONE_AT_A_TIME})"))
        other = aliased(Job)
        apart = other.kind.not_in(lane.beside)
        busy = exists().where(other.shot_id == Job.shot_id, other.state == "running", apart)
        ready = select(Job).where(Job.state == "queued", ~busy | Job.kind.in_(lane.beside))
        if lane.kinds is not None:
            ready = ready.where(Job.kind.in_(lane.kinds))
        if not lane.background:
            ready = ready.where(~Job.background)
        while True:
            job = opened.scalar(ready.order_by(*Job.order()).limit(1).with_for_update(of=Job))
            if job is None:
                return None
            if job.cancel:
                job.state = "cancelled"
            elif job.tries >= MAX_TRIES:
                job.state, job.error = "interrupted", "The worker was lost three times while doing this. Try again."
            else:
                job.tries += 1
                job.state, job.heartbeat = "running", database_now()
                job.started = job.started or now()
                job.doing = "Starting" if job.tries == 1 else "Starting again after a worker was lost"
                return Claim(job.id, job.tries)
            opened.flush()


@contextmanager
def working(claim: Claim) -> Iterator[None]:
    """Work under a claim: every transaction of this thread ends with a look at whether it still counts."""
    claimed = current.set(claim)
    fenced = fence.set(lambda opened: held(opened, claim))
    try:
        yield
    finally:
        fence.reset(fenced)
        current.reset(claimed)


def held(opened: Session, claim: Claim) -> None:
    """Hold a job's row to the transaction's end; raise Superseded where a claim is not its newest one any more."""
    row = opened.execute(select(Job.tries, Job.state).where(Job.id == claim.job).with_for_update()).one_or_none()
    if row is None or row.tries != claim.token or row.state != "running":
        raise Superseded


@contextmanager
def ending(
    settings: Settings, state: str = "done", error: str = "", said: str = "", shots: Iterable[int] = ()
) -> Iterator[Session]:
    """Open the last transaction of the job at work: what is written in it and the job's end count together, or not at
    all. Nobody else can claim the job while it is open, nor does it take reports of progress.

    Parameters
    ----------
    settings : of the installation. state, error : with which the job ends. said : the last words on what it did; what
        is found only inside is put into the session's ``info["said"]``. shots : that it changes: they are held first,
        and the job's row after them, as everybody does who needs both.
    """
    claim = current.get()
    if claim is None:
        with session(settings.database) as opened:
            hold_shots(opened, shots)
            yield opened
        return
    changed = {"state": state, "error": error[:600], "progress": 1.0, "ended": now()}

    def end(opened: Session) -> None:
        opened.flush()
        held(opened, claim)
        words = opened.info.get("said", said) or "Done."
        opened.execute(update(Job).where(Job.id == claim.job).values(**changed, doing=words[:200]))

    fenced = fence.set(end)
    try:
        with session(settings.database) as opened:
            hold_shots(opened, shots)
            held(opened, claim)
            yield opened
    finally:
        fence.reset(fenced)


def finish(settings: Settings, claim: Claim, state: str, error: str = "") -> None:
    """Mark a job as ended that has not ended with its effect, and wait for the database where it is away: no job may
    seem to run for ever.
    """
    changed = {"state": state, "error": without_folders(error)[:600], "ended": now()} | (
        {"progress": 1.0} if state == "done" else {}
    )
    _written(settings, claim, changed)


def give_back(settings: Settings, claim: Claim, why: str = AWAY) -> None:
    """Put a job back on the queue whose work the database has broken off; wait until it is there again."""
    _written(settings, claim, {"state": "queued", "doing": why})


def _written(settings: Settings, claim: Claim, changed: dict) -> None:
    own = (Job.id == claim.job) & (Job.tries == claim.token) & (Job.state == "running")
    for pause in FINISH_PAUSES_S:
        try:
            with session(settings.database) as opened:
                opened.execute(update(Job).where(own).values(**changed))
            return
        except DatabaseAway:
            time.sleep(pause)


def reporter(settings: Settings, claim: Claim):
    """Return a progress callback that writes to the job row, and stops the work when it was cancelled or another claim
    is newer.
    """
    last, began, log = [0.0], time.monotonic(), list[tuple[float, str]]()

    def report(share: float, doing: str) -> None:
        phase = phase_of(doing)
        if not log or log[-1][1] != phase:
            log.append((round(time.monotonic() - began, 1), phase))
        elif time.monotonic() - last[0] < 0.25 and share < 1.0:
            return
        last[0] = time.monotonic()
        own = (Job.id == claim.job) & (Job.tries == claim.token)
        try:
            with session(settings.database) as opened:
                changed = {"progress": share, "doing": doing[:200], "heartbeat": database_now()}
                at = {"frame": doing.frame} if isinstance(doing, AtFrame) else {}
                told = update(Job).where(own).values(**changed, result={"log": log[-MOST_LOGGED:], **at})
                row = opened.execute(told.returning(Job.cancel, Job.state)).one_or_none()
        except DatabaseAway:
            # The work goes on; whether it still counts is seen when its result is written.
            return
        if row is None:
            raise Superseded
        if row.cancel and row.state == "running":
            raise Cancelled()

    return report


def lost(opened: Session) -> list[Job]:
    """Put back on the queue what a lost worker left running; return those jobs. A heartbeat that lies ahead tells
    nothing, since the clock was set back: such a job is lost too.
    """
    stale = func.abs(func.extract("epoch", database_now() - Job.heartbeat)) > LOST_AFTER.total_seconds()
    jobs = list(opened.scalars(select(Job).where(Job.state == "running", stale).with_for_update(skip_locked=True)))
    for job in jobs:
        job.state, job.doing = "queued", "A worker was lost; waiting to start again"
    return jobs
