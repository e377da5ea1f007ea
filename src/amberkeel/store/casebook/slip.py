"""Whether measured slip agrees with what the solve expects."""

from sqlalchemy.orm import Session

from amberkeel.core.diagnose.finding import Finding, read_finding
from amberkeel.store.models import Attempt, Shot


def findings(_session: Session, _shot: Shot, attempt: Attempt | None) -> list[Finding]:
    """Return what was found when slip was measured on the attempt."""
    kept = attempt.slip_said if attempt else {}
    return [read_finding(kept)] if kept else []
