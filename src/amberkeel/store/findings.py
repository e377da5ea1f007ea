"""The casebook's first findings: what an attempt's own figures say is weak, with the tracks that show it."""

from dataclasses import asdict, dataclass, field

from amberkeel.store.models import Attempt, Shot
from amberkeel.store.stages import is_stale, masks_changed


@dataclass(frozen=True)
class Finding:
    """A sentence, whether it is fine, and the tracks that show it."""

    text: str
    fine: bool = False
    tracks: list[int] = field(default_factory=list)


def findings(shot: Shot, attempt: Attempt | None) -> list[dict]:
    """Return the findings on the pinned attempt as plain dictionaries."""
    if attempt is None:
        return []
    f, found = attempt.figures, []
    if is_stale(shot, attempt):
        found.append(Finding("Tracks changed after this attempt. Solve again to see what it did."))
    if masks_changed(shot, attempt):
        found.append(Finding("Masks changed after this attempt. Cut the covered frames or follow again, then solve again."))
    reasons = attempt.snapshot["reasons"]
    aside = [int(i) for i, why in reasons.items() if "check" not in why]
    if aside:
        found.append(Finding(f"{len(aside)} tracks disagree with the camera and were set aside: often people, or corners where a near edge crosses a far one.", False, aside))
    astray = [int(i) for i, why in reasons.items() if "check" in why]
    if astray:
        found.append(Finding(f"{len(astray)} check tracks move on their own and do not count in the check residual.", False, astray))
    share = f["focal_sigma_px"] / f["focal_px"]
    if share > 0.01:
        found.append(Finding(f"Focal length is loose: one sigma is {100 * share:.1f} % of it. A known length, straight lines or more parallax would settle it."))
    elif f["focal_sigma_px"] > 0.0:
        found.append(Finding(f"Focal length is well determined: one sigma is {100 * share:.2f} % of it.", True))
    if f["check_rms_px"] > 3.0 * f["rms_px"] + 0.05:
        found.append(Finding(f"The check residual is {f['check_rms_px'] / f['rms_px']:.1f} times the used one: the fit looks better than the camera is."))
    elif f["check_rms_px"] > 0.0:
        found.append(Finding(f"Withheld tracks agree: {f['check_rms_px']:.2f} px over {f['tracks_check']} check tracks.", True))
    return [asdict(x) for x in found]
