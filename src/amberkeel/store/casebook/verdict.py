"""Whether the camera of an attempt is good, in one sentence: what stands first on the solve stage."""

from amberkeel.core.handoff.evidence_wording import fights
from amberkeel.core.solve.terms import Figure
from amberkeel.store.casebook.checks import disagree
from amberkeel.store.casebook.lens import LOOSE
from amberkeel.store.models import Attempt

ROUGH_PX = 0.6
"""RMS residual from which tracks do not fit well, pixels."""


def verdict(attempt: Attempt | None) -> dict | None:
    """Return {"good": bool, "words": one sentence} of an attempt, or None without one."""
    if attempt is None:
        return None
    f = attempt.figures
    doubts = ["the solve was stopped early"] if f.get("stopped") else []
    if f.get("missing"):
        doubts.append("some frames have no camera")
    if f["rms_px"] > ROUGH_PX:
        doubts.append(f"tracks miss by {f['rms_px']:.2f} px")
    if disagree(f):
        doubts.append("withheld tracks disagree")
    if not f.get("measuring") and f["focal_sigma_px"] > LOOSE * f["focal_px"]:
        doubts.append(f"the focal length is known to {100 * f['focal_sigma_px'] / f['focal_px']:.1f} % only")
    loud = [term["name"] for term in f.get("terms", []) if fights(Figure(**term))]
    if loud:
        doubts.append(f"“{loud[0]}” disagrees")
    if doubts:
        return {"good": False, "words": f"Not yet: {', '.join(doubts)}."}
    if not f["check_rms_px"]:
        return {"good": False, "words": f"Not checked: tracks fit to {f['rms_px']:.2f} px, and none was left out."}
    check = f", withheld ones to {f['check_rms_px']:.2f} px"
    return {"good": True, "words": f"The camera holds: tracks fit to {f['rms_px']:.2f} px{check}."}
