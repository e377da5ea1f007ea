"""Whether withheld tracks agree with the attempt in use."""

from sqlalchemy.orm import Session

from amberkeel.core.handoff.wording import folds_alike, folds_sentence
from amberkeel.store.casebook.finding import Finding
from amberkeel.store.models import Attempt, Shot

WORSE, SLACK_PX = 2.0, 0.05
"""The check residual is suspect above so many times the used one and so many pixels more."""


def disagree(figures: dict) -> bool:
    """Return whether withheld tracks disagree with an attempt of these figures."""
    if figures.get("folds") and not folds_alike(figures["folds"]):
        return True
    return figures["check_rms_px"] > WORSE * figures["rms_px"] + SLACK_PX


def findings(_session: Session, _shot: Shot, attempt: Attempt | None) -> list[Finding]:
    """Return what the check residual says beside the used one."""
    if attempt is None:
        return []
    f = attempt.figures
    folds = f.get("folds")
    if folds:
        return [Finding(folds_sentence(folds), folds_alike(folds))]
    check, used = f["check_rms_px"], f["rms_px"]
    if disagree(f):
        text = f"The check residual is {check / used:.1f} times the used one: the fit looks better than the camera is."
        return [Finding(text)]
    if check > 0.0:
        return [Finding(f"Withheld tracks agree: {check:.2f} px over {f['tracks_check']} check tracks.", True)]
    return []
