"""The queue: one task that runs a job row, and what happens when a worker dies.

The row in PostgreSQL is the truth; the broker only carries its number. A message is acknowledged when the work is
done, so a killed worker's job is delivered again, or found by `recover`.

A job is claimed by one worker at a time: only where it waits, or where the worker that claimed it has been silent for
too long. Each claim has a number of its own, the token. Every transaction of a job ends with a look at the row: an
older claim is refused, and what it was about to write is rolled back. So whatever is delivered twice, and whichever
worker comes back from a long sleep, a job takes effect by its newest claim alone.
"""

import os
import signal
import threading
import time
from datetime import timedelta

from celery import Celery
from celery.signals import worker_process_init, worker_ready
from kombu.exceptions import OperationalError
from redis.exceptions import RedisError
from sqlalchemy import select, update
from sqlalchemy.exc import OperationalError as DatabaseAway
from sqlalchemy.orm import Session

from amberkeel.core.errors import Cancelled, KeelError
from amberkeel.jobs.kinds import work
from amberkeel.settings import Settings, from_environment
from amberkeel.store.models import Job, now
from amberkeel.store.session import fence, session

MAX_TRIES = 3
HEARTBEAT_S = 3.0
LOST_AFTER = timedelta(seconds=15)

FINISH_PAUSES_S = [0.5, 1.0, 2.0] + 60 * [5.0]
"""Pauses between tries to write that a job has ended, while the database is away."""

WARM_UP_S = 180.0
"""Seconds that a worker's child may take to load its compiled loops; a pool that waits less kills it, and the next one,
for ever.
"""

celery = Celery("amberkeel")
celery.conf.update(
    broker_url=os.environ.get("AMBERKEEL_BROKER", ""),
    task_acks_late=True,
    task_reject_on_worker_lost=True,
    worker_prefetch_multiplier=1,
    worker_proc_alive_timeout=WARM_UP_S,
    task_ignore_result=True,
    broker_connection_retry_on_startup=True,
    worker_hijack_root_logger=False,
)


def send(number: int) -> None:
    """Put a job row on the queue. With the broker away it stays in the table, where a worker's `recover` finds it."""
    celery.conf.broker_url = from_environment().broker
    try:
        run_job.apply_async((number,), retry=False)
    except OperationalError:
        return


@celery.task(name="amberkeel.run_job")
def run_job(number: int) -> None:
    """Run the job of a row, and put those that follow from it on the queue."""
    settings = from_environment()
    token = claim(settings, number)
    if token is None:
        return
    beat = _Heartbeat(settings, number, token)
    following: list[int] = []
    try:
        following = _work(settings, number, token)
        finish(settings, number, token, "done")
    except Superseded:
        return
    except Cancelled as stop:
        finish(settings, number, token, "cancelled", str(stop))
    except KeelError as error:
        finish(settings, number, token, "failed", str(error))
    except Exception as error:
        finish(settings, number, token, "failed", f"Something broke inside ({type(error).__name__}: {error}).")
        raise
    finally:
        beat.stop()
    for then in following:
        send(then)


class Superseded(Exception):
    """Another claim of the job is newer than this one."""


def _work(settings: Settings, number: int, token: int) -> list[int]:
    with session(settings.database) as opened:
        job = opened.get(Job, number)
        kind, shot_id, arguments = job.kind, job.shot_id, dict(job.arguments)
    fenced = fence.set(lambda opened: held(opened, number, token))
    try:
        return work(kind, settings, shot_id, arguments, reporter(settings, number, token))
    finally:
        fence.reset(fenced)


def claim(settings: Settings, number: int) -> int | None:
    """Claim a job that waits, or whose worker has been silent for too long; return the token, or None where it is not
    to be had: another worker is at it, it is over, or it was lost too often.
    """
    with session(settings.database) as opened:
        job = opened.get(Job, number, with_for_update=True)
        if job is None or job.state not in ("queued", "running"):
            return None
        if job.state == "running" and job.heartbeat > now() - LOST_AFTER:
            return None
        if job.cancel:
            job.state = "cancelled"
            return None
        if job.tries >= MAX_TRIES:
            job.state, job.error = "interrupted", "The worker was lost three times while doing this. Try again."
            return None
        job.tries += 1
        job.state, job.heartbeat = "running", now()
        job.doing = "Starting" if job.tries == 1 else "Starting again after a worker was lost"
        return job.tries


def held(opened: Session, number: int, token: int) -> None:
    """Raise Superseded where a claim of a job is not its newest one any more; else hold the row to the transaction's
    end.
    """
    row = opened.execute(select(Job.tries, Job.state).where(Job.id == number).with_for_update()).one_or_none()
    if row is None or row.tries != token or row.state != "running":
        raise Superseded


def finish(settings: Settings, number: int, token: int, state: str, error: str = "") -> None:
    """Mark a job as ended, and wait for the database where it is away: no job may seem to run for ever."""
    own = (Job.id == number) & (Job.tries == token) & (Job.state == "running")
    changed = {"state": state, "error": error[:600]} | ({"progress": 1.0} if state == "done" else {})
    for pause in FINISH_PAUSES_S:
        try:
            with session(settings.database) as opened:
                opened.execute(update(Job).where(own).values(**changed))
            return
        except DatabaseAway:
            time.sleep(pause)


def reporter(settings: Settings, number: int, token: int):
    """Return a progress callback that writes to the job row, and stops the work when it was cancelled or another claim
    is newer.
    """
    last = [0.0]

    def report(share: float, doing: str) -> None:
        if time.monotonic() - last[0] < 0.25 and share < 1.0:
            return
        last[0] = time.monotonic()
        own = (Job.id == number) & (Job.tries == token)
        try:
            with session(settings.database) as opened:
                told = update(Job).where(own).values(progress=share, doing=doing[:200], heartbeat=now())
                cancelled = opened.scalar(told.returning(Job.cancel))
        except DatabaseAway:
            # The work goes on; whether it still counts is seen when its result is written.
            return
        if cancelled is None:
            raise Superseded
        if cancelled:
            raise Cancelled()

    return report


class _Heartbeat:
    """Tells the job row every few seconds that its worker lives; goes on once a database that was away is back."""

    def __init__(self, settings: Settings, number: int, token: int):
        self._done = threading.Event()
        self._thread = threading.Thread(target=self._beat, args=(settings, number, token), daemon=True)
        self._thread.start()

    def _beat(self, settings: Settings, number: int, token: int) -> None:
        own = (Job.id == number) & (Job.tries == token)
        while not self._done.wait(HEARTBEAT_S):
            try:
                with session(settings.database) as opened:
                    opened.execute(update(Job).where(own).values(heartbeat=now()))
            except DatabaseAway:
                continue

    def stop(self) -> None:
        self._done.set()
        self._thread.join()


def recover(settings: Settings) -> list[int]:
    """Queue again what a lost worker left running, and what waits where the broker has nothing left to deliver; return
    the job numbers.
    """
    stale = Job.heartbeat < now() - LOST_AFTER
    with session(settings.database) as opened:
        lost = list(opened.scalars(select(Job).where(Job.state == "running", stale).with_for_update(skip_locked=True)))
        for job in lost:
            job.state, job.doing = "queued", "A worker was lost; waiting to start again"
        numbers = [job.id for job in lost]
        if _nothing_to_deliver():
            numbers += opened.scalars(select(Job.id).where(Job.state == "queued", stale, Job.id.not_in(numbers)))
    for number in sorted(numbers):
        send(number)
    return numbers


def _nothing_to_deliver() -> bool:
    """Return whether the broker holds no message: what waits in the table then was never delivered, or was lost."""
    try:
        with celery.connection_for_read() as link:
            return link.default_channel.client.llen(celery.conf.task_default_queue) == 0
    except (OperationalError, RedisError):
        return False


@worker_ready.connect
def _watch(**_kwargs) -> None:
    """Look for lost jobs at the start and every few seconds."""
    settings = from_environment()

    def look() -> None:
        while True:
            try:
                recover(settings)
            except DatabaseAway:
                pass
            threading.Event().wait(LOST_AFTER.total_seconds() / 2)

    threading.Thread(target=look, daemon=True).start()


@worker_process_init.connect
def _warm(**_kwargs) -> None:
    """Compile the inner loops in the worker before its first job; Ctrl-C is the parent's business."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    from amberkeel.core.warm import warm_up

    warm_up()
