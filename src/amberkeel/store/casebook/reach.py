"""Frames that the attempt in use does not reach."""

from sqlalchemy.orm import Session

from amberkeel.store.casebook.finding import Finding
from amberkeel.store.models import Attempt, Shot


def findings(_session: Session, _shot: Shot, attempt: Attempt | None) -> list[Finding]:
    """Return the frames without a camera and what would join them."""
    said = attempt.figures.get("missing", "") if attempt else ""
    return [Finding(said)] if said else []
