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

LIMIT_S = 240
"""Seconds that one job may take."""

BEGUN = get_context("forkserver")
BEGUN.set_forkserver_preload(["amberkeel.jobs.queue", "killed"])


class Died(BaseException):
    """What a job meets in this process instead of its commit."""


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


def died(claim: claims.Claim) -> bool:
    """Return whether a claimed job comes as far as its last commit, which it never sees: for jobs that load much and
    keep nothing but rows and files by their content, a death in this process is as good as another one's.
    """
    hold = claims.hold_shots

    def last(opened, shots):
        @sa.event.listens_for(opened, "before_commit")
        def _dies(opened):
            opened.flush()
            raise Died

        hold(opened, shots)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(claims, "hold_shots", last)
        try:
            queue.run(from_environment(), claim)
        except Died:
            return True
    return False
