"""Edits of the ledger."""

from sqlalchemy.orm import Session

from amberkeel.core.errors import KeelError
from amberkeel.store.models import Attempt, Shot
from amberkeel.store.typed import Typed


class Pin(Typed):
    """The attempt to pin, or None."""

    attempt: int | None


def pin(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"attempt": id or None}."""
    attempt = session.get(Attempt, payload["attempt"]) if payload["attempt"] else None
    if payload["attempt"] and (attempt is None or attempt.shot_id != shot.id):
        raise KeelError("That attempt is not in this shot's ledger.")
    inverse = {"attempt": shot.pinned_id}
    shot.pinned_id = payload["attempt"]
    return inverse, f"Pin attempt {attempt.number}" if attempt else "Unpin"
