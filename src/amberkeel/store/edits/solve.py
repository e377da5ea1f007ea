"""Edits of the ledger."""

from typing import Any

from pydantic import Field
from sqlalchemy.orm import Session

from amberkeel.core.errors import KeelError
from amberkeel.store.models import Attempt, Shot
from amberkeel.store.typed import Typed


class Pin(Typed):
    """The attempt to pin, or None."""

    attempt: int | None


class Called(Typed):
    """What an attempt is called, the note on it, and whether it is taken out of the ledger; only what changes."""

    attempt: int
    name: str = Field("", max_length=80)
    note: str = Field("", max_length=400)
    removed: bool = False


class Back(Typed):
    """An attempt to go back to, and what goes there: edits with their payloads, in order."""

    attempt: int
    steps: list[tuple[str, dict[str, Any]]]


def pin(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"attempt": id or None}."""
    attempt = _attempt(session, shot, payload["attempt"]) if payload["attempt"] else None
    inverse = {"attempt": shot.pinned_id}
    shot.pinned_id = payload["attempt"]
    return inverse, f"Pin attempt {attempt.number}" if attempt else "Unpin"


def called(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"attempt": id} and any of "name", "note", "removed"."""
    attempt = _attempt(session, shot, payload["attempt"])
    if payload.get("removed") and attempt.id == shot.pinned_id:
        raise KeelError(f"Attempt {attempt.number} is pinned.", "Pin another one first, then delete it.")
    changed = [key for key in ("name", "note", "removed") if key in payload]
    inverse = {"attempt": attempt.id, **{key: getattr(attempt, key) for key in changed}}
    for key in changed:
        setattr(attempt, key, payload[key])
    if "removed" in changed:
        return inverse, f"{'Delete' if payload['removed'] else 'Bring back'} attempt {attempt.number}"
    return inverse, f"{'Name' if 'name' in changed else 'Note on'} attempt {attempt.number}"


def _attempt(session: Session, shot: Shot, number: int) -> Attempt:
    attempt = session.get(Attempt, number)
    if attempt is None or attempt.shot_id != shot.id:
        raise KeelError("That attempt is not in this shot's ledger.")
    return attempt
