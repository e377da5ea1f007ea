"""A job done in a process of its own that is killed where its last transaction is about to be committed."""

import os
import signal
import tempfile
from multiprocessing import get_context

import sqlalchemy as sa
from sqlalchemy.orm import Session

from amberkeel.jobs import claims, queue
from amberkeel.settings import from_environment

LIMIT_S = 240
"""Seconds that one job may take."""

BEGUN = get_context("forkserver")
BEGUN.set_forkserver_preload(["amberkeel.jobs.queue", "killed"])


def work_and_die(environment: dict[str, str], claim: claims.Claim, places: str) -> None:
    """Do a claimed job in this process, with temporary files in a folder, and be killed at its end."""
    signal.alarm(LIMIT_S)
    os.environ.update(environment)
    tempfile.tempdir = places
    hold, last = claims.hold_shots, []

    def holding(opened, shots):
        last.append(opened)
        hold(opened, shots)

    claims.hold_shots = holding

    @sa.event.listens_for(Session, "before_commit")
    def _killed(opened):
        if opened in last:
            opened.flush()
            os.kill(os.getpid(), signal.SIGKILL)

    queue.run(from_environment(), claim)


def killed(claim, places) -> int:
    """Return how a process ended that does a claimed job and is killed at its end."""
    environment = {name: value for name, value in os.environ.items() if name.startswith("AMBERKEEL_")}
    process = BEGUN.Process(target=work_and_die, args=(environment, claim, str(places)))
    process.start()
    process.join()
    return process.exitcode
