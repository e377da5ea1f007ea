"""Edits of the tracking copy."""

from typing import Any

from sqlalchemy.orm import Session

from amberkeel.store.models import Shot
from amberkeel.store.typed import Typed


class Copy(Typed):
    """The tracking copy's operations ("stack") or replaced images ("replaced")."""

    values: dict[str, Any]
    label: str


def copy(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"values": {"stack" or "replaced": value}, "label": what is done}."""
    before = {name: getattr(shot.plate, name) for name in payload["values"] if name in ("stack", "replaced")}
    for name in before:
        setattr(shot.plate, name, payload["values"][name])
    return {"values": before, "label": payload["label"]}, payload["label"]
