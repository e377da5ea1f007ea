"""What constraints say after the solve: which of them fights the tracks or another one."""

from sqlalchemy.orm import Session

from amberkeel.core.handoff.evidence_wording import evidence_sentence, fights
from amberkeel.core.solve.terms import COST, Figure
from amberkeel.store.casebook.finding import Finding
from amberkeel.store.models import Attempt, Shot


def findings(_session: Session, _shot: Shot, attempt: Attempt | None) -> list[Finding]:
    """Return the pieces that disagree, and one line for those that agree."""
    figures = [Figure(**figure) for figure in (attempt.figures.get("terms", []) if attempt else [])]
    loud = [Finding(evidence_sentence(figure)) for figure in figures if fights(figure)]
    cost = [Finding(evidence_sentence(figure), True) for figure in figures if figure.kind == COST]
    return loud + cost
