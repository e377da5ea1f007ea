"""A job that is killed where its last transaction is about to be committed, and all its files are in place."""

import os
import signal
import tempfile
from multiprocessing import get_context

import pytest
import sqlalchemy as sa
from sqlalchemy.orm import Session

from amberkeel.jobs import claims, queue
from amberkeel.settings import from_environment
from amberkeel.store.session import leave_connections

LIMIT_S = 240
"""Seconds that one job may take."""

BEGUN = get_context("forkserver")
BEGUN.set_forkserver_preload(["amberkeel.jobs.queue", "killed"])


class Died(BaseException):
    """What follows a job's death in this process instead of the rest of it."""


def _die_at_the_commit(opened: Session) -> None:
    @sa.event.listens_for(opened, "before_commit")
    def _killed(opened):
        opened.flush()
        os.kill(os.getpid(), signal.SIGKILL)


def work_and_die(environment: dict[str, str], claim: claims.Claim, places: str) -> None:
    """Do a claimed job in this process, with temporary files in a folder, and be killed at its end."""
    signal.alarm(LIMIT_S)
    os.environ.update(environment)
    tempfile.tempdir = places
    hold = claims.hold_shots

    def last(opened, shots):
        _die_at_the_commit(opened)
        hold(opened, shots)

    claims.hold_shots = last
    queue.run(from_environment(), claim)


def killed(claim: claims.Claim, places) -> int:
    """Return how a process ended that does a claimed job and is killed at its end."""
    environment = {name: value for name, value in os.environ.items() if name.startswith("AMBERKEEL_")}
    process = BEGUN.Process(target=work_and_die, args=(environment, claim, str(places)))
    process.start()
    process.join()
    return process.exitcode


def killed_late(claim: claims.Claim) -> int:
    """Return how a process ended that does only the last transaction of a job, and is killed at its end: this one does
    what comes before, with loops that are loaded already.
    """
    ended, hold = [], claims.hold_shots

    def last(opened, shots):
        child = os.fork()
        if child:
            ended.append(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]))
            raise Died
        signal.alarm(60)
        leave_connections()
        _die_at_the_commit(opened)
        hold(opened, shots)

    here = os.getpid()
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(claims, "hold_shots", last)
        try:
            queue.run(from_environment(), claim)
        except BaseException as error:
            if os.getpid() != here:
                os._exit(1)
            if not isinstance(error, Died):
                raise
        if os.getpid() != here:
            os._exit(0)
    return ended[0] if ended else 0
