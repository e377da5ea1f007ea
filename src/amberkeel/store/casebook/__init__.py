"""The casebook: what is weak about a shot, with the tracks that show it.

A finding is a file here and a line in `FINDINGS`.
"""

from dataclasses import asdict

from sqlalchemy.orm import Session

from amberkeel.store.casebook import camera, changed, checks, evidence, lens, outliers, reach, thin
from amberkeel.store.models import Attempt, Shot

FINDINGS = (reach, camera, thin, changed, evidence, outliers, lens, checks)
"""The kinds of findings, in the order in which they are shown."""


def findings(session: Session, shot: Shot, attempt: Attempt | None) -> list[dict]:
    """Return the findings on a shot's tracks and its pinned attempt as plain dictionaries."""
    return [asdict(found) for kind in FINDINGS for found in kind.findings(session, shot, attempt)]
