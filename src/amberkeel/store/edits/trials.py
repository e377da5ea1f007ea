"""Edits that decide trials of remedies."""

from collections.abc import Callable
from typing import Any

from sqlalchemy.orm import Session

from amberkeel.core.errors import KeelError
from amberkeel.store.models import Attempt, Shot
from amberkeel.store.trials import own_trial
from amberkeel.store.typed import Typed

Steps = Callable[[Session, Shot, list], list]
"""Makes edits, kinds with their payloads; returns those that take them back, in their order."""


class Keep(Typed):
    """A trial with what keeping it does: the attempt to pin, edits in their order, and what is decided then."""

    trial: int
    attempt: int
    steps: list[tuple[str, dict[str, Any]]]
    decided: str = "kept"


class Drop(Typed):
    """A trial, what is decided of it, and whether its attempt is taken out of the ledger."""

    trial: int
    decided: str = "dropped"
    removed: bool = True


def keep(session: Session, shot: Shot, payload: dict, steps: Steps) -> tuple[dict, str]:
    """Payload: as `Keep` has it. The kept attempt is that of the tracks as the edits leave them."""
    trial = own_trial(session, shot, payload["trial"])
    before, decided = shot.pinned_id, trial.decided
    back = steps(session, shot, payload["steps"])
    attempt = session.get(Attempt, payload["attempt"])
    if attempt is None:
        raise KeelError("The trial's attempt is gone.", "Try it again.")
    trial.decided, shot.pinned_id = payload.get("decided", "kept"), attempt.id
    if trial.decided == "kept":
        attempt.snapshot = {**attempt.snapshot, "tracks_stamp": shot.tracks_stamp}
        attempt.removed = False
    words = trial.remedy["words"]
    label = f"Keep: {words}" if trial.decided == "kept" else f"Take back: {words}"
    return {"trial": trial.id, "attempt": before, "steps": back, "decided": decided}, label


def drop(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"trial": id}; a dropped trial's attempt leaves the ledger and stays in reach."""
    trial = own_trial(session, shot, payload["trial"])
    if trial.attempt_id and trial.attempt_id == shot.pinned_id:
        raise KeelError("What came of this trial is pinned.", "Pin another attempt first.")
    attempt = session.get(Attempt, trial.attempt_id) if trial.attempt_id else None
    inverse = {"trial": trial.id, "decided": trial.decided, "removed": bool(attempt and attempt.removed)}
    trial.decided = payload.get("decided", "dropped")
    if attempt is not None:
        attempt.removed = payload.get("removed", True)
    return inverse, f"Drop: {trial.remedy['words']}"
