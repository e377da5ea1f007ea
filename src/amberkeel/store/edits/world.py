"""Edits of the datum."""

from typing import Any

from sqlalchemy.orm import Session

from amberkeel.store.models import Shot
from amberkeel.store.typed import Typed


class Datum(Typed):
    """The whole datum, and what changed of it; what stands in the scene goes along with it."""

    datum: dict[str, Any]
    scene: dict[str, Any] = {}
    label: str = ""


def datum(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"datum": the whole datum, "scene": the whole scene where it goes along, "label": what changed}."""
    inverse = {"datum": shot.datum, "label": payload.get("label", "")}
    shot.datum = payload["datum"]
    if "scene" in payload:
        inverse["scene"], shot.scene = shot.scene, payload["scene"]
    return inverse, payload.get("label") or "Change the datum"
