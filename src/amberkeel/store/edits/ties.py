"""Edits of a shot's ties, and of what follows from them."""

from typing import Any

from sqlalchemy.orm import Session

from amberkeel.core.errors import KeelError
from amberkeel.store.edits.rows import stamped, turn
from amberkeel.store.models import Attempt, Shot, Track
from amberkeel.store.typed import Typed

MOST = 500
"""Ties of a shot at the most."""


class Ties(Typed):
    """The whole of a shot's ties; with an alignment also the constraints, the datum, the scene and the attempt that it
    pins; with spots found in pictures the tracks that are brought or taken away.
    """

    ties: dict[str, Any]
    constraints: list[dict[str, Any]] = []
    datum: dict[str, Any] = {}
    scene: dict[str, Any] = {}
    attempt: int | None = None
    bring: list[int] = []
    remove: list[int] = []
    stamp: int = 0
    label: str = ""


def ties(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"ties": the whole, and of "constraints", "datum", "scene", "attempt", "bring", "remove" what changes
    with them, "label": what was done}.
    """
    if len(payload["ties"].get("ties", {})) > MOST:
        raise KeelError(f"A shot has {MOST} ties at the most.", "Choose the best of them.")
    inverse: dict = {"ties": shot.ties, "label": payload.get("label", "")}
    shot.ties = payload["ties"]
    for name in ("constraints", "datum", "scene"):
        if name in payload:
            inverse[name] = getattr(shot, name)
            setattr(shot, name, payload[name])
    if "attempt" in payload:
        made = payload["attempt"]
        if made is not None and session.get(Attempt, made) is None:
            raise KeelError("That attempt is gone.")
        inverse["attempt"], shot.pinned_id = shot.pinned_id, made
    if payload.get("bring") or payload.get("remove"):
        inverse["remove"], inverse["bring"] = _turned(session, shot, payload)
        inverse |= stamped(shot, payload)
    return inverse, payload.get("label") or "Change the ties"


def _turned(session: Session, shot: Shot, payload: dict) -> tuple[list[int], list[int]]:
    """Bring tracks and take others away; return which were brought, and which taken away."""
    gone, back = turn(session, shot, Track.removed, payload.get("remove", []), payload.get("bring", []))
    return back, gone
