"""The queue: workers that take jobs from the table, and what happens when one of them dies.

The rows in PostgreSQL are the truth, and who comes first is decided there (`claims`); the broker only wakes workers.
A worker that is woken does what there is to do until nothing is left. So a message that comes twice does no harm, and
one that was lost is made up for by `recover`.

Three workers run on one machine: one does everything, one does only what somebody waits for, and one only what is
short, so that a track placed by hand never waits for a plate that is coming in.
"""

import logging
import os
import shutil
import signal
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress

from celery import Celery
from celery.signals import worker_process_init, worker_ready
from kombu.exceptions import OperationalError
from sqlalchemy import select
from sqlalchemy.exc import OperationalError as DatabaseAway

from amberkeel.core.errors import Cancelled, KeelError, disk_words
from amberkeel.jobs.claims import (
    AWAY,
    LOST_AFTER,
    Claim,
    Lane,
    Superseded,
    claim_next,
    finish,
    give_back,
    lost,
    reporter,
    working,
)
from amberkeel.jobs.kinds import BESIDE, KINDS, SHORT, work
from amberkeel.settings import Settings, from_environment
from amberkeel.store.keeping import purge
from amberkeel.store.models import Job, database_now
from amberkeel.store.pulse import WATCHER, beat
from amberkeel.store.refused import met, refusal
from amberkeel.store.session import actor, leave_connections, session
from amberkeel.store.storage import AT_WORK

LOG = logging.getLogger(__name__)

HEARTBEAT_S = 3.0

PURGE_EVERY_S = 3600.0
"""Seconds between two looks for what was deleted so long ago that it goes for good."""

WARM_UP_S = 180.0
"""Seconds that a worker's child may take to load its compiled loops; a pool that waits less kills it, and the next one,
for ever.
"""

LANES = {
    "all": Lane(beside=BESIDE),
    "people": Lane(background=False, beside=BESIDE),
    "short": Lane(SHORT, background=False, beside=BESIDE),
}
"""What the workers take; a worker's lane is also the name of the queue on which it is woken."""

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


def wake() -> None:
    """Wake the workers: there is work. With the broker away it stays in the table, where `recover` finds it."""
    celery.conf.broker_url = from_environment().broker
    try:
        for lane in LANES:
            take_up.apply_async((lane,), queue=lane, retry=False)
    except OperationalError:
        return


@celery.task(name="amberkeel.take_up")
def take_up(lane: str) -> None:
    """Do the jobs of a lane until none is left."""
    settings = from_environment()
    while (claim := _next(settings, lane)) is not None:
        run(settings, claim)


def _next(settings: Settings, lane: str) -> Claim | None:
    """Return the next job of a lane; with the database away none, until `recover` finds it there again."""
    try:
        return claim_next(settings, LANES[lane])
    except DatabaseAway:
        return None


def run(settings: Settings, claim: Claim) -> None:
    """Do a claimed job; it ends with its effect, or says what failed."""
    beat = _Heartbeat(settings, claim)
    try:
        with session(settings.database) as opened:
            job = opened.get(Job, claim.job)
            kind, shot_id, arguments = job.kind, job.shot_id, dict(job.arguments)
        with working(claim), _places(settings, claim):
            actor.set(KINDS[kind].name.lower() if kind in KINDS else kind)
            work(kind, settings, shot_id, arguments, reporter(settings, claim))
        finish(settings, claim, "done")
    except Superseded:
        return
    except DatabaseAway as error:
        refused = refusal(error)
        if refused is not None:
            finish(settings, claim, "failed", str(refused))
        else:
            give_back(settings, claim, "Two changes met; waiting to start again" if met(error) else AWAY)
    except Cancelled as stop:
        finish(settings, claim, "cancelled", str(stop))
    except KeelError as error:
        finish(settings, claim, "failed", str(error))
    except Exception as error:
        full = disk_words(error) if isinstance(error, OSError) else None
        finish(settings, claim, "failed", full or f"Something broke inside ({type(error).__name__}: {error}).")
        if full is None:
            raise
    finally:
        beat.stop()


@contextmanager
def _places(settings: Settings, claim: Claim) -> Iterator[None]:
    """Have what a job writes while it goes on lie in a folder of its own, where the next one to do it, or a clean-up,
    finds what a lost worker left. Each claim has its own within: an older one takes away nothing of a newer.
    """
    home, before = settings.media / AT_WORK / str(claim.job), tempfile.tempdir
    folder = home / str(claim.token)
    shutil.rmtree(home, ignore_errors=True)
    folder.mkdir(parents=True)
    tempfile.tempdir = str(folder)
    try:
        yield
    finally:
        tempfile.tempdir = before
        shutil.rmtree(folder, ignore_errors=True)
        with suppress(OSError):
            home.rmdir()


class _Heartbeat:
    """Tells the job row every few seconds that its worker lives; goes on once a database that was away is back."""

    def __init__(self, settings: Settings, claim: Claim):
        self._done = threading.Event()
        self._thread = threading.Thread(target=self._beat, args=(settings, claim), daemon=True)
        self._thread.start()

    def _beat(self, settings: Settings, claim: Claim) -> None:
        while not self._done.wait(HEARTBEAT_S):
            try:
                with session(settings.database) as opened:
                    job = opened.get(Job, claim.job)
                    if job is not None and job.tries == claim.token:
                        job.heartbeat = database_now()
            except Exception:
                # Whatever it is: a worker without a heartbeat counts as lost, and its work would be done twice.
                LOG.warning("A heartbeat could not be written", exc_info=True)

    def stop(self) -> None:
        self._done.set()
        self._thread.join()


def recover(settings: Settings) -> list[int]:
    """Queue again what a lost worker left running, and wake the workers where something has waited for long; return
    what waits.
    """
    with session(settings.database) as opened:
        lost(opened)
        opened.flush()
        late = database_now() - LOST_AFTER
        waiting = list(opened.scalars(select(Job.id).where(Job.state == "queued", Job.heartbeat < late)))
    if waiting:
        wake()
    return waiting


@worker_ready.connect
def _watch(**_kwargs) -> None:
    """Look for lost jobs at the start and every few seconds, and for what is kept no longer."""
    threading.Thread(target=watch_over, args=(from_environment(), threading.Event()), daemon=True).start()


def watch_over(settings: Settings, stop: threading.Event) -> None:
    """Look after jobs until told to stop, whatever goes wrong: what does is said in the log and on the page of jobs."""
    due = dict.fromkeys(CHORES, float("-inf"))
    while not stop.is_set():
        failed = []
        for chore, (every, act) in CHORES.items():
            if time.monotonic() - due[chore] < every:
                continue
            due[chore] = time.monotonic()
            try:
                act(settings)
            except Exception as error:
                failed.append(f"{chore} failed ({type(error).__name__}); see the worker's log.")
                LOG.exception("%s failed", chore)
        try:
            with session(settings.database) as opened:
                beat(opened, WATCHER, " ".join(failed))
        except Exception:
            LOG.warning("The watcher's pulse could not be written", exc_info=True)
        stop.wait(LOST_AFTER.total_seconds() / 2)


CHORES: dict[str, tuple[float, Callable[[Settings], object]]] = {
    "Taking up lost jobs": (0.0, lambda settings: recover(settings)),
    "Removing what was deleted long ago": (PURGE_EVERY_S, lambda settings: purge(settings.database)),
}
"""What the watcher does, each with the seconds between two times."""


@worker_process_init.connect
def _warm(**_kwargs) -> None:
    """Compile the inner loops in the worker before its first job; Ctrl-C is the parent's business."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    leave_connections()
    from amberkeel.core.warm import warm_up

    warm_up()
