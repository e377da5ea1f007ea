"""Frames that the attempt in use does not reach."""

from sqlalchemy.orm import Session

from amberkeel.core.diagnose.finding import SERIOUS, Finding
from amberkeel.store.models import Attempt, Shot


def findings(_session: Session, _shot: Shot, attempt: Attempt | None) -> list[Finding]:
    """Return the frames without a camera and what would join them."""
    said = attempt.figures.get("missing", "") if attempt else ""
    return [Finding("missing-frames", SERIOUS, 1.0, said)] if said else []
