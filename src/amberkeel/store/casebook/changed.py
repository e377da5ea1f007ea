"""What changed after the attempt in use."""

from sqlalchemy.orm import Session

from amberkeel.core.diagnose.finding import NOTABLE, Finding
from amberkeel.store.models import Attempt, Shot
from amberkeel.store.stages import is_stale, lens_changed, masks_changed

CHANGED = "changed-since"


def findings(_session: Session, shot: Shot, attempt: Attempt | None) -> list[Finding]:
    """Return what an attempt does not know of."""
    found = []
    if is_stale(shot, attempt):
        found.append(
            Finding(CHANGED, NOTABLE, 1.0, "Tracks changed after this attempt. Solve again to see what it did.")
        )
    if masks_changed(shot, attempt):
        text = "Masks changed after this attempt. Cut the covered frames or follow again, then solve again."
        found.append(Finding(CHANGED, NOTABLE, 1.0, text))
    if lens_changed(shot, attempt):
        found.append(Finding(CHANGED, NOTABLE, 1.0, "The lens changed after this attempt. Solve again to hold it."))
    return found
