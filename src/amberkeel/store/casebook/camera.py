"""Which camera the attempt in use found, and what else would explain the tracks."""

from sqlalchemy.orm import Session

from amberkeel.core.diagnose.finding import Finding
from amberkeel.core.handoff.camera_wording import camera_sentence, standing_sentence
from amberkeel.core.solve.motions import Rival
from amberkeel.store.casebook.finding import calm
from amberkeel.store.models import Attempt, Shot


def findings(_session: Session, _shot: Shot, attempt: Attempt | None) -> list[Finding]:
    """Return the comparison of cameras, where there was one, and a rolling shutter."""
    if attempt is None:
        return []
    rivals = [Rival(**rival) for rival in attempt.figures.get("rivals", [])]
    text = camera_sentence(attempt.figures.get("camera_motion", "free"), rivals)
    found = [calm("camera", text)] if text else []
    still = standing_sentence(attempt.figures.get("standing", []))
    found += [calm("standing", still)] if still else []
    readout = attempt.figures.get("readout", 0.0)
    if readout:
        rolling = f"The shutter rolls: rows are read over {100 * readout:.0f} % of the time from frame to frame."
        found.append(calm("readout", rolling))
    return found
