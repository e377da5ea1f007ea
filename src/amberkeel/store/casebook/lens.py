"""What the attempt in use says of its lens."""

from sqlalchemy.orm import Session

from amberkeel.core.diagnose.finding import MINOR, NOTABLE, Finding, surety
from amberkeel.core.handoff.wording import sentence
from amberkeel.core.solve.reasons import FOCAL_UNDETERMINED, read_reason
from amberkeel.store.casebook.finding import calm
from amberkeel.store.models import Attempt, Shot

LOOSE_FOCAL, NOTE = "loose-focal", "lens-note"

LOOSE = 0.01
"""Relative sigma of the focal length from which it is called loose."""


def findings(_session: Session, _shot: Shot, attempt: Attempt | None) -> list[Finding]:
    """Return how well the focal length is determined, and what the solve notes."""
    if attempt is None:
        return []
    figures, found = attempt.figures, []
    if figures.get("measuring"):
        return [calm("measuring", "How sure this attempt is, is being worked out.")]
    share = figures["focal_sigma_px"] / figures["focal_px"]
    notes = figures.get("lens_notes", [])
    said = any(not isinstance(note, str) and note["code"] == FOCAL_UNDETERMINED for note in notes)
    if share > LOOSE and not said:
        text = (
            f"Focal length is loose: one sigma is {100 * share:.1f} % of it. A known length, straight lines or more "
            "parallax would settle it."
        )
        found.append(Finding(LOOSE_FOCAL, NOTABLE, surety(share, LOOSE), text))
    elif 0.0 < share <= LOOSE:
        found.append(calm("focal", f"Focal length is well determined: one sigma is {100 * share:.2f} % of it."))
    return found + [
        Finding(NOTE, MINOR, 0.6, note if isinstance(note, str) else sentence(read_reason(note))) for note in notes
    ]
