"""What the stages of a shot are judged by: their states, and what changed after an attempt."""

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from amberkeel.store.models import Attempt, Job, Package, Shot

UNTOUCHED, WORKING, SETTLED, LOOK = "untouched", "working", "settled", "look"

STATE_WORDS = {UNTOUCHED: "untouched", WORKING: "in progress", SETTLED: "settled", LOOK: "needs another look"}


@dataclass(frozen=True)
class Stage:
    """One stop of the course: key, name, state, fact, and whether its tools exist yet."""

    key: str
    name: str
    state: str
    fact: str
    built: bool = True

    @property
    def words(self) -> str:
        """The state in words."""
        return STATE_WORDS[self.state]


@dataclass(frozen=True)
class Facts:
    """What is known of a shot when its stages are judged.

    `running` are the kinds of its jobs under way, `tracks` counts its tracks, `masks` and `proposals` those that are
    live; `look` says that tracks or masks changed after the pinned attempt; `package` is the last one made.
    """

    session: Session
    shot: Shot
    attempt: Attempt | None
    running: set[str]
    tracks: int
    masks: int
    proposals: int
    look: bool
    package: Package | None = None

    def state(self, kind: str, done: bool, look: bool = False) -> str:
        """Return the state of a stage whose job is of a kind."""
        return WORKING if kind in self.running else LOOK if look else SETTLED if done else UNTOUCHED


def pinned(session: Session, shot: Shot) -> Attempt | None:
    """Return the attempt in use, if any."""
    return session.get(Attempt, shot.pinned_id) if shot.pinned_id else None


def is_stale(shot: Shot, attempt: Attempt | None) -> bool:
    """Tell whether tracks changed after an attempt was made."""
    return attempt is not None and attempt.snapshot.get("tracks_stamp") != shot.tracks_stamp


def masks_changed(shot: Shot, attempt: Attempt | None) -> bool:
    """Tell whether masks changed after an attempt was made."""
    return attempt is not None and attempt.snapshot.get("masks_stamp", 0) != shot.masks_stamp


def lens_changed(shot: Shot, attempt: Attempt | None) -> bool:
    """Tell whether the lens profile or the camera's facts changed after an attempt was made."""
    return attempt is not None and attempt.snapshot.get("lens_stamp", 0) != shot.lens_stamp


def attentions(session: Session, shots: Sequence[Shot]) -> dict[int, str]:
    """Return what needs attention on shots in one short sentence each, or "", by the shot's number."""
    newest = select(func.max(Job.id)).where(Job.shot_id.in_([shot.id for shot in shots])).group_by(Job.shot_id)
    last = {job.shot_id: job for job in session.scalars(select(Job).where(Job.id.in_(newest)))}
    return {shot.id: _attention(shot, pinned(session, shot), last.get(shot.id)) for shot in shots}


def _attention(shot: Shot, attempt: Attempt | None, job: Job | None) -> str:
    if job is not None and job.state in ("failed", "interrupted"):
        return job.error
    if is_stale(shot, attempt):
        return "Tracks changed after the last attempt."
    if masks_changed(shot, attempt):
        return "Masks changed after the last attempt."
    if lens_changed(shot, attempt):
        return "The lens changed after the last attempt."
    return _worst(attempt)


def _worst(attempt: Attempt | None) -> str:
    """Return what is serious about an attempt, "" where nothing is."""
    found = attempt.figures.get("findings") or [] if attempt else []
    return next((one["text"] for one in found if one["severity"] == "serious"), "")
