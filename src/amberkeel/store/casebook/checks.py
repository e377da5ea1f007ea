"""Whether withheld tracks agree with the attempt in use."""

from sqlalchemy.orm import Session

from amberkeel.core.diagnose.finding import SERIOUS, Finding, surety
from amberkeel.core.handoff.wording import folds_alike, folds_sentence
from amberkeel.store.casebook.finding import calm
from amberkeel.store.models import Attempt, Shot

OVERFIT, AGREE = "overfit", "checks-agree"

WORSE, SLACK_PX = 2.0, 0.05
"""The check residual is suspect above so many times the used one and so many pixels more."""


def disagree(figures: dict) -> bool:
    """Return whether withheld tracks disagree with an attempt of these figures."""
    if figures.get("folds") and not folds_alike(figures["folds"]):
        return True
    return (figures["check_rms_px"] or 0.0) > WORSE * figures["rms_px"] + SLACK_PX


def findings(_session: Session, _shot: Shot, attempt: Attempt | None) -> list[Finding]:
    """Return what the check residual says beside the used one."""
    if attempt is None:
        return []
    f = attempt.figures
    folds = f.get("folds")
    if folds:
        text = folds_sentence(folds)
        return [calm(AGREE, text) if folds_alike(folds) else Finding(OVERFIT, SERIOUS, 0.8, text)]
    check, used = f["check_rms_px"], f["rms_px"]
    if disagree(f):
        text = f"The check residual is {check / used:.1f} times the used one: the fit looks better than the camera is."
        return [Finding(OVERFIT, SERIOUS, surety(check / used, WORSE), text)]
    if check:
        return [calm(AGREE, f"Withheld tracks agree: {check:.2f} px over {f['tracks_check']} check tracks.")]
    return []
