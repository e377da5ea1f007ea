"""The queue: one task that runs a job row, and what happens when a worker dies.

The row in PostgreSQL is the truth; the broker only carries its number. A message is acknowledged when the work is
done, so a killed worker's job is delivered again, or found by `recover` when a worker starts.
"""

import os
import signal
import threading
import time
from datetime import timedelta

from celery import Celery
from celery.signals import worker_process_init, worker_ready
from kombu.exceptions import OperationalError
from sqlalchemy import select, update

from amberkeel.core.errors import Cancelled, KeelError
from amberkeel.jobs.kinds import work
from amberkeel.settings import Settings, from_environment
from amberkeel.store.models import Job, now
from amberkeel.store.session import session

MAX_TRIES = 3
HEARTBEAT_S = 3.0
LOST_AFTER = timedelta(seconds=15)

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
    if not _claim(settings, number):
        return
    beat = _Heartbeat(settings, number)
    following: list[int] = []
    try:
        following = _work(settings, number)
        _finish(settings, number, "done")
    except Cancelled as stop:
        _finish(settings, number, "cancelled", str(stop))
    except KeelError as error:
        _finish(settings, number, "failed", str(error))
    except Exception as error:
        _finish(settings, number, "failed", f"Something broke inside ({type(error).__name__}: {error}).")
        raise
    finally:
        beat.stop()
    for then in following:
        send(then)


def _work(settings: Settings, number: int) -> list[int]:
    with session(settings.database) as opened:
        job = opened.get(Job, number)
        kind, shot_id, arguments = job.kind, job.shot_id, dict(job.arguments)
    return work(kind, settings, shot_id, arguments, reporter(settings, number))


def _claim(settings: Settings, number: int) -> bool:
    """Mark a job as running; False when it is done, cancelled, or has failed too often."""
    with session(settings.database) as opened:
        job = opened.get(Job, number, with_for_update=True)
        if job is None or job.state in ("done", "failed", "cancelled"):
            return False
        if job.cancel:
            job.state = "cancelled"
            return False
        if job.tries >= MAX_TRIES:
            job.state, job.error = "interrupted", "The worker was lost three times while doing this. Try again."
            return False
        job.tries += 1
        job.state, job.heartbeat = "running", now()
        job.doing = "Starting" if job.tries == 1 else "Starting again after a worker was lost"
        return True


def _finish(settings: Settings, number: int, state: str, error: str = "") -> None:
    with session(settings.database) as opened:
        job = opened.get(Job, number)
        job.state, job.error = state, error[:600]
        job.progress = 1.0 if state == "done" else job.progress


def reporter(settings: Settings, number: int):
    """Return a progress callback that writes to the job row and stops the work when it was cancelled."""
    last = [0.0]

    def report(share: float, doing: str) -> None:
        if time.monotonic() - last[0] < 0.25 and share < 1.0:
            return
        last[0] = time.monotonic()
        with session(settings.database) as opened:
            cancelled = opened.scalar(
                update(Job)
                .where(Job.id == number)
                .values(progress=share, doing=doing[:200], heartbeat=now())
                .returning(Job.cancel)
            )
        if cancelled:
            raise Cancelled()

    return report


class _Heartbeat:
    """Tells the job row every few seconds that its worker lives."""

    def __init__(self, settings: Settings, number: int):
        self._done = threading.Event()
        self._thread = threading.Thread(target=self._beat, args=(settings, number), daemon=True)
        self._thread.start()

    def _beat(self, settings: Settings, number: int) -> None:
        while not self._done.wait(HEARTBEAT_S):
            with session(settings.database) as opened:
                opened.execute(update(Job).where(Job.id == number).values(heartbeat=now()))

    def stop(self) -> None:
        self._done.set()
        self._thread.join()


def recover(settings: Settings) -> list[int]:
    """Queue again what a lost worker left running, or was never delivered; return the job numbers."""
    with session(settings.database) as opened:
        lost = opened.scalars(
            select(Job)
            .where(Job.state.in_(["running", "queued"]), Job.heartbeat < now() - LOST_AFTER)
            .with_for_update()
        )
        numbers = []
        for job in lost:
            job.state, job.heartbeat = "queued", now()
            job.doing = "A worker was lost; waiting to start again"
            numbers.append(job.id)
    for number in numbers:
        send(number)
    return numbers


@worker_ready.connect
def _watch(**_kwargs) -> None:
    """Look for lost jobs at the start and every few seconds."""
    settings = from_environment()

    def look() -> None:
        while True:
            recover(settings)
            threading.Event().wait(LOST_AFTER.total_seconds() / 2)

    threading.Thread(target=look, daemon=True).start()


@worker_process_init.connect
def _warm(**_kwargs) -> None:
    """Compile the inner loops in the worker before its first job; Ctrl-C is the parent's business."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    from amberkeel.core.warm import warm_up

    warm_up()
