"""Edits of a shot's bodies."""

from typing import Any

from sqlalchemy.orm import Session

from amberkeel.core.errors import KeelError
from amberkeel.store.bodies import MOST
from amberkeel.store.models import Shot
from amberkeel.store.typed import Typed


class Bodies(Typed):
    """Bodies by key, nothing for those that are taken away; only what changes."""

    bodies: dict[str, dict[str, Any] | None]
    label: str = ""


def bodies(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"bodies": by key what it is, or None, "label": what was done}."""
    before = shot.bodies or {}
    whole = {**before, **payload["bodies"]}
    shot.bodies = {key: one for key, one in whole.items() if one is not None}
    if len(shot.bodies) > MOST:
        raise KeelError(f"A shot has {MOST} bodies at the most.")
    inverse = {key: before.get(key) for key in payload["bodies"]}
    return {"bodies": inverse, "label": payload.get("label", "")}, payload.get("label") or "Change the bodies"
