"""Asking the running application for packages of shots, by their names, as the handoff page does."""

import shutil
import time
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from amberkeel.core.errors import Cancelled, HandoffError
from amberkeel.core.progress import Progress, silent, span
from amberkeel.jobs.queue import wake
from amberkeel.settings import Settings
from amberkeel.store.handoff import folder_of, leaving, packages_of, recipient_named
from amberkeel.store.jobs import ask_to_stop, submit
from amberkeel.store.media import Media
from amberkeel.store.models import Job, Production, Shot
from amberkeel.store.session import session
from amberkeel.store.world import pinned_of

LOOK_SECONDS = 0.3
"""Between two looks at how a job goes."""


@dataclass(frozen=True)
class ShotsOrder:
    """Shots by name, the recipient's name, where copies of the packages go, of which production (or any), whether the
    shots of each one's set go along, and why they may leave although a check does not hold.
    """

    names: tuple[str, ...]
    recipient: str
    out: Path
    production: str = ""
    whole_set: bool = False
    reason: str = ""
    who: str = "command line"


@dataclass(frozen=True)
class Made:
    """A package that was made: its copy's folder, and its manifest."""

    folder: Path
    manifest: dict


def packages_of_shots(settings: Settings, order: ShotsOrder, progress: Progress = silent) -> list[Made]:
    """Have packages made by the application's workers, as the next versions of their shots, and copy them out.

    Parameters
    ----------
    settings : of the application. order : what is wished. progress : called with the share done; one that raises
        cancels the job at hand.

    Raises
    ------
    KeelError : there is no such shot or recipient, nothing is pinned, or a job failed.
    """
    with session(settings.database) as opened:
        shots = [shot_named(opened, name, order.production) for name in order.names]
        for shot in shots:
            recipient_named(opened, shot.production_id, order.recipient)
            pinned_of(opened, shot, "what leaves is the pinned attempt")
            leaving(opened, shot, order.whole_set)
        numbers = [shot.id for shot in shots]
    order.out.mkdir(parents=True, exist_ok=True)
    made = []
    for n, number in enumerate(numbers):
        _work(settings, _submitted(settings, number, order), span(progress, n / len(numbers), (n + 1) / len(numbers)))
        made.append(_copied(settings, number, order.out))
    return made


def shot_named(opened: Session, name: str, production: str = "") -> Shot:
    """Return the shot of a name, or whose name begins with that word.

    Parameters
    ----------
    name : as SKL_060. production : its production's name, or any.

    Raises
    ------
    HandoffError : there is none, or more than one.
    """
    asked = select(Shot, Production.name).join(Production, Production.id == Shot.production_id)
    rows = list(opened.execute(asked.where(Shot.deleted.is_(None), Production.deleted.is_(None)).order_by(Shot.name)))
    rows = [(shot, of) for shot, of in rows if production.lower() in ("", of.lower())]
    fits = [(shot, of) for shot, of in rows if name.lower() in (shot.name.lower(), *shot.name.lower().split()[:1])]
    if not fits:
        there = ", ".join(shot.name.split()[0] for shot, _ in rows[:12]) or "none"
        raise HandoffError(f"There is no folder and no shot {name[:60]}.", f"Shots: {there}.")
    if len(fits) > 1:
        where = ", ".join(f"{shot.name} of {of}" for shot, of in fits[:6])
        raise HandoffError(
            f"{name[:60]} is more than one shot: {where}.",
            "Write its whole name, or name the production with --production.",
        )
    return fits[0][0]


def _submitted(settings: Settings, number: int, order: ShotsOrder) -> int:
    """Ask for a package of a shot; return the job's number."""
    arguments = {
        "recipient": order.recipient, "whole_set": order.whole_set, "reason": order.reason, "who": order.who,
    }  # fmt: skip
    with session(settings.database) as opened:
        job = submit(opened, "package", number, arguments).id
    wake()
    return job


def _work(settings: Settings, number: int, progress: Progress) -> None:
    """Wait until a job is done; raises what it says where it failed, and cancels it where the caller stops."""
    while True:
        with session(settings.database) as opened:
            job = opened.get_one(Job, number)
            state, share, doing, error = job.state, job.progress, job.doing, job.error
        if state == "done":
            return
        if state not in ("queued", "running"):
            raise HandoffError(error or "The package was cancelled.")
        try:
            progress(share, doing or "Waiting for a worker")
        except Cancelled:
            with session(settings.database) as opened:
                ask_to_stop(opened, number)
            raise
        time.sleep(LOOK_SECONDS)


def _copied(settings: Settings, number: int, out: Path) -> Made:
    """Copy a shot's latest package to a folder; what is there is never overwritten."""
    with session(settings.database) as opened:
        shot = opened.get_one(Shot, number)
        latest = packages_of(opened, shot)[0]
        home, manifest = folder_of(Media(settings.media), shot) / latest.folder, latest.manifest
    if (out / home.name).exists():
        raise HandoffError(f"{out / home.name} is there already.", "Choose another folder, or move it away.")
    shutil.copytree(home, out / home.name)
    return Made(out / home.name, manifest)
