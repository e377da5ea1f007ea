"""What all jobs are asked, and the job that follows from one."""

from amberkeel.settings import Settings
from amberkeel.store.jobs import add_job
from amberkeel.store.session import session
from amberkeel.store.typed import Typed


class Arguments(Typed):
    """What a job is asked. `then` names the kinds of the jobs that follow, in their order."""

    then: list[str] = []


def following(settings: Settings, shot_id: int, arguments: Arguments) -> list[int]:
    """Add the job that `then` names, if any, and return its number."""
    if not arguments.then:
        return []
    with session(settings.database) as opened:
        return [add_job(opened, arguments.then[0], shot_id, {"then": arguments.then[1:]}).id]
