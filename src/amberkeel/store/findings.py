"""The casebook's first findings: what an attempt's own figures say is weak, with the tracks that show it."""

from dataclasses import asdict, dataclass, field

from sqlalchemy import text
from sqlalchemy.orm import Session

from amberkeel.core.handoff.wording import sentence
from amberkeel.core.plate.sequence import spans
from amberkeel.core.solve.reasons import CHECK_MOVES, DISAGREES, read_reason
from amberkeel.store.models import Attempt, Shot
from amberkeel.store.solves import reasons_of
from amberkeel.store.stages import is_stale, lens_changed, masks_changed


@dataclass(frozen=True)
class Finding:
    """A sentence, whether it is fine, and the tracks that show it."""

    text: str
    fine: bool = False
    tracks: list[int] = field(default_factory=list)


FLOOR = 8
"""Live tracks on a frame below which a camera hangs by a thread."""

LIVE = "select f, count(*) from track, unnest(frames) f where shot_id = :shot and not removed and state = 'active' group by f"


def findings(session: Session, shot: Shot, attempt: Attempt | None) -> list[dict]:
    """Return the findings on a shot's tracks and its pinned attempt as plain dictionaries."""
    return [asdict(x) for x in _thin(session, shot) + (_on_attempt(shot, attempt) if attempt else [])]


def _thin(session: Session, shot: Shot) -> list[Finding]:
    """Return a finding on frames with too few live tracks, with what could help there."""
    plate, counts = shot.plate, dict(session.execute(text(LIVE), {"shot": shot.id}).all())
    thin = [f for f in range(plate.first, plate.last + 1) if counts.get(f, 0) < FLOOR]
    if not counts or not thin:
        return []
    lengths = plate.blur.get("length", [])
    blurred = [f for f in thin if f - plate.first < len(lengths) and lengths[f - plate.first] > 0]
    if len(blurred) > len(thin) / 2:
        help = "They are blurred: bridge more frames of blur when following, or place tracks by hand on both sides of them."
    else:
        help = "Place tracks by hand there, follow a surface, choose from sightings, or prepare a tracking copy with more contrast."
    return [Finding(f"Fewer than {FLOOR} tracks live on {spans(thin)}. {help}")]


def _on_attempt(shot: Shot, attempt: Attempt) -> list[Finding]:
    f, found = attempt.figures, []
    if is_stale(shot, attempt):
        found.append(Finding("Tracks changed after this attempt. Solve again to see what it did."))
    if masks_changed(shot, attempt):
        found.append(Finding("Masks changed after this attempt. Cut the covered frames or follow again, then solve again."))
    if lens_changed(shot, attempt):
        found.append(Finding("The lens changed after this attempt. Solve again to hold it."))
    reasons = reasons_of(attempt)
    outliers = [track for track, reason in reasons.items() if reason.code == DISAGREES]
    if outliers:
        found.append(Finding(f"{len(outliers)} tracks disagree with the camera and were set aside: often people, or corners where a near edge crosses a far one.", False, outliers))
    moving = [track for track, reason in reasons.items() if reason.code == CHECK_MOVES]
    if moving:
        found.append(Finding(f"{len(moving)} check tracks move on their own and do not count in the check residual.", False, moving))
    share = f["focal_sigma_px"] / f["focal_px"]
    if share > 0.01:
        found.append(Finding(f"Focal length is loose: one sigma is {100 * share:.1f} % of it. A known length, straight lines or more parallax would settle it."))
    elif f["focal_sigma_px"] > 0.0:
        found.append(Finding(f"Focal length is well determined: one sigma is {100 * share:.2f} % of it.", True))
    found += [Finding(note if isinstance(note, str) else sentence(read_reason(note))) for note in f.get("lens_notes", [])]
    if f["check_rms_px"] > 3.0 * f["rms_px"] + 0.05:
        found.append(Finding(f"The check residual is {f['check_rms_px'] / f['rms_px']:.1f} times the used one: the fit looks better than the camera is."))
    elif f["check_rms_px"] > 0.0:
        found.append(Finding(f"Withheld tracks agree: {f['check_rms_px']:.2f} px over {f['tracks_check']} check tracks.", True))
    return found
