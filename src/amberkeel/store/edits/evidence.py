"""Edits of what is known of the set and of the camera's path."""

from typing import Any

from sqlalchemy.orm import Session

from amberkeel.core.solve.evidence.statement import read_constraints
from amberkeel.store.models import Shot
from amberkeel.store.typed import Typed


class Constraints(Typed):
    """All constraints of a shot, and what changed of them."""

    constraints: list[dict[str, Any]]
    label: str = ""


def constraints(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Payload: {"constraints": all of them, "label": what changed}."""
    read_constraints(payload["constraints"])
    inverse = {"constraints": shot.constraints, "label": payload.get("label", "")}
    shot.constraints = payload["constraints"]
    return inverse, payload.get("label") or "Change the constraints"
