"""Edits of the datum."""

from sqlalchemy.orm import Session

from amberkeel.store.models import Shot


def datum(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"datum": the whole datum, "label": what changed}."""
    inverse = {"datum": shot.datum, "label": payload.get("label", "")}
    shot.datum = payload["datum"]
    return inverse, payload.get("label") or "Change the datum"
