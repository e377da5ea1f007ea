"""The casebook: what is weak about a shot, worst first, with what shows it and what could help.

What a solve itself betrays is found when it is done and kept with the attempt (`core.diagnose`); what only the database
knows is a file here and a line in `FINDINGS`.
"""

from dataclasses import asdict

from sqlalchemy.orm import Session

from amberkeel.core.diagnose import depth
from amberkeel.core.diagnose import thin as few
from amberkeel.core.diagnose.finding import Finding, read_finding
from amberkeel.store.casebook import camera, changed, checks, evidence, lens, outliers, reach, slip, thin
from amberkeel.store.models import Attempt, Shot

FINDINGS = (reach, camera, thin, changed, evidence, outliers, lens, checks, slip)
"""The kinds of findings beside those of the solve itself, in no order: they are ranked by how serious they are."""

ONE_CAUSE = {
    depth.NO_PARALLAX: (lens.LOOSE_FOCAL, lens.NOTE),
    few.FEW: (thin.THIN,),
}
"""Findings that speak of the same cause as another one, and are left out beside it."""


def casebook(session: Session, shot: Shot, attempt: Attempt | None) -> list[Finding]:
    """Return the findings on a shot's tracks and its pinned attempt, worst first; one cause gives one finding."""
    found = [read_finding(one) for one in (attempt.figures.get("findings") or [] if attempt else [])]
    found += [one for kind in FINDINGS for one in kind.findings(session, shot, attempt)]
    silent = {kind for one in found for kind in ONE_CAUSE.get(one.kind, ())}
    return sorted((one for one in found if one.kind not in silent), key=lambda one: one.rank)


def findings(session: Session, shot: Shot, attempt: Attempt | None) -> list[dict]:
    """Return the findings on a shot's tracks and its pinned attempt as plain dictionaries, worst first."""
    return [asdict(one) for one in casebook(session, shot, attempt)]
