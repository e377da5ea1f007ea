"""Edits of the tracking copy."""

from sqlalchemy.orm import Session

from amberkeel.store.models import Shot


def copy(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"values": {"stack" or "replaced": value}, "label": what is done}."""
    before = {name: getattr(shot.plate, name) for name in payload["values"] if name in ("stack", "replaced")}
    for name in before:
        setattr(shot.plate, name, payload["values"][name])
    return {"values": before, "label": payload["label"]}, payload["label"]
