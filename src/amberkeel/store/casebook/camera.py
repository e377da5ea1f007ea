"""Which camera the attempt in use found, and what else would explain the tracks."""

from sqlalchemy.orm import Session

from amberkeel.core.handoff.camera_wording import camera_sentence
from amberkeel.core.solve.motions import Rival
from amberkeel.store.casebook.finding import Finding
from amberkeel.store.models import Attempt, Shot


def findings(_session: Session, _shot: Shot, attempt: Attempt | None) -> list[Finding]:
    """Return the comparison of cameras, where there was one."""
    if attempt is None:
        return []
    rivals = [Rival(**rival) for rival in attempt.figures.get("rivals", [])]
    text = camera_sentence(attempt.figures.get("camera_motion", "free"), rivals)
    return [Finding(text, True)] if text else []
