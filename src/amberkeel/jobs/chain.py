"""What all jobs are asked, and how they end: with the job that follows."""

from collections.abc import Iterable, Iterator
from contextlib import contextmanager

from sqlalchemy.orm import Session

from amberkeel.jobs.claims import current, ending
from amberkeel.settings import Settings
from amberkeel.store.jobs import add_job
from amberkeel.store.models import Job
from amberkeel.store.typed import Typed


class Arguments(Typed):
    """What a job is asked. `then` names the kinds of the jobs that follow, in their order."""

    then: list[str] = []


@contextmanager
def effect(
    settings: Settings, shot_id: int, arguments: Arguments, said: str = "", also: Iterable[int] = ()
) -> Iterator[Session]:
    """Open the transaction in which a job takes effect, ends, and is followed by the job that `then` names, if any. Its
    shot is held from the beginning: what is read in it is as it stands now, and not as it was when the job began.

    Parameters
    ----------
    settings : of the installation. shot_id, arguments : of the job. said : the last words on what it did. also : other
        shots that are held.
    """
    with ending(settings, said=said, shots=(shot_id, *also)) as opened:
        yield opened
        if arguments.then:
            add_job(opened, arguments.then[0], shot_id, {"then": arguments.then[1:]}, *turn(opened))


def turn(opened: Session) -> tuple[bool, int | None]:
    """Return whether the job at work is in the background, and its turn: what follows from it has the same."""
    claim = current.get()
    job = opened.get(Job, claim.job) if claim else None
    return (job.background, job.turn or job.id) if job else (False, None)
