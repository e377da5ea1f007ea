"""Tracks that stand apart from the others of a handful: left out, the camera that the others find is far from them.

Of few tracks a wrong one bends the camera to itself, and then its own residuals say little; only the camera without it
tells (the deleted residual of linear regression; Cook and Weisberg 1982, chapter 2).
"""

import numpy as np

from amberkeel.core.diagnose.evidence import Evidence
from amberkeel.core.diagnose.finding import NOTABLE, Finding, Remedy, named, surety
from amberkeel.core.tracks import ACTIVE

APART = "stands-apart"

OVER = 2.5
"""Residual of a track that is left out, over that of the usual one, from which it stands apart."""

LEAST_LEFT = 11
"""Tracks that are left out in turn from which one that stands apart is told: of fewer any may be the wrong one."""

ASIDE = 0.2
"""Share of a track's measurements that the solve set aside, from which it stands apart as well."""


def findings(evidence: Evidence) -> list[Finding]:
    """Return the tracks that stand apart when they are left out, the furthest first."""
    solution, folds = evidence.solution, evidence.solution.folds
    if folds is None or len(folds.each) < LEAST_LEFT:
        return []
    tracks = solution.tracks
    alone = np.full(len(tracks), np.nan)
    of = dict(folds.each)
    for row, track in enumerate(tracks.ids.tolist()):
        alone[row] = of.get(track, np.nan)
    usual = float(np.nanmedian(alone))
    active = tracks.in_state(ACTIVE)
    aside = np.bincount(tracks.track_of_sample, solution.outlier, len(tracks)) / np.maximum(tracks.lengths, 1)
    apart = active & np.isfinite(alone) & ((alone > OVER * usual) | (aside > ASIDE))
    if not apart.any():
        return []
    order = sorted(np.nonzero(apart)[0].tolist(), key=lambda t: -alone[t])
    ids = evidence.ids_of(order)
    worst = order[0]
    text = f"Track {tracks.names[worst]} stands apart: the camera of the others is {alone[worst]:.1f} px off it"
    others = ", ".join(tracks.names[t] for t in order[1:4])
    text += f"; so do {others}." if len(order) > 2 else f"; so does {others}." if others else "."
    text += f" The usual track is {usual:.1f} px off."
    remedies = (Remedy("exclude", named("Exclude", ids, tracks), ids),)
    figures = {"worst_px": float(alone[worst]), "usual_px": usual, "tracks": float(len(order))}
    return [Finding(APART, NOTABLE, surety(alone[worst] / usual, OVER), text, (), ids, remedies, figures)]
