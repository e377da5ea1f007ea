"""What constraints say after the solve: which of them fights the tracks or another one."""

from sqlalchemy.orm import Session

from amberkeel.core.diagnose.finding import NOTABLE, Finding, Remedy, surety
from amberkeel.core.handoff.evidence_wording import FIGHTS, evidence_sentence, fights
from amberkeel.core.solve.terms import COST, Figure
from amberkeel.store.casebook.finding import calm
from amberkeel.store.models import Attempt, Shot


def findings(_session: Session, _shot: Shot, attempt: Attempt | None) -> list[Finding]:
    """Return the pieces that disagree, and one line for those that agree."""
    figures = [Figure(**figure) for figure in (attempt.figures.get("terms", []) if attempt else [])]
    loud = [_fight(figure) for figure in figures if fights(figure)]
    cost = [calm("evidence", evidence_sentence(figure)) for figure in figures if figure.kind == COST]
    return loud + cost


def _fight(figure: Figure) -> Finding:
    """Return the finding on a piece that disagrees; leaving it out shows what it did."""
    remedy = Remedy("release", f"Solve without “{figure.name}”", word=figure.name)
    sure = surety(abs(figure.sigmas), FIGHTS)
    return Finding("evidence-fights", NOTABLE, sure, evidence_sentence(figure), (), (), (remedy,))
