"""The job that follows from one."""

from amberkeel.settings import Settings
from amberkeel.store.jobs import add_job
from amberkeel.store.session import session


def following(settings: Settings, shot_id: int, arguments: dict) -> list[int]:
    """Add the job that `then` names, if any, and return its number."""
    chain = arguments.get("then", [])
    if not chain:
        return []
    with session(settings.database) as opened:
        return [add_job(opened, chain[0], shot_id, {"then": chain[1:]}).id]
