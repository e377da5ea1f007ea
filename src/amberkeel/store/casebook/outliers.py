"""Tracks that do not belong to the still set."""

from sqlalchemy.orm import Session

from amberkeel.core.diagnose.finding import Finding
from amberkeel.core.solve.reasons import CHECK_MOVES, DISAGREES
from amberkeel.store.casebook.finding import calm
from amberkeel.store.models import Attempt, Shot
from amberkeel.store.solve import reasons_of


def findings(_session: Session, _shot: Shot, attempt: Attempt | None) -> list[Finding]:
    """Return used and check tracks that are outliers as a whole."""
    if attempt is None:
        return []
    reasons, found = reasons_of(attempt), []
    outliers = [track for track, reason in reasons.items() if reason.code == DISAGREES]
    if outliers:
        text = (
            f"{len(outliers)} tracks disagree with the camera and were set aside: often people, or corners where a "
            "near edge crosses a far one."
        )
        found.append(calm("set-aside", text, tuple(outliers)))
    moving = [track for track, reason in reasons.items() if reason.code == CHECK_MOVES]
    if moving:
        text = f"{len(moving)} check tracks move on their own and do not count in the check residual."
        found.append(calm("check-moves", text, tuple(moving)))
    return found
