"""Groups of tracks that move otherwise than the set: an unmasked mover, a reflection, a branch in the wind."""

import numpy as np
from sklearn.cluster import DBSCAN

from amberkeel.core.diagnose.evidence import Evidence
from amberkeel.core.diagnose.finding import MINOR, NOTABLE, Finding, Remedy, surety
from amberkeel.core.tracks import EXCLUDED

GROUP = "group-moves"

APART_UNITS = 3.0
"""Middle length of a track's residuals, in units of expected noise, from which it moves otherwise."""

NEAR = 0.14
"""Distance in widths of the picture within which two such tracks belong together."""

LEAST_TRACKS = 5
"""Tracks that make a group."""

COHERENT = 0.45
"""Agreement of the residuals' changes within a group: 1 where all go the same way, near 0 for chance."""


def findings(evidence: Evidence) -> list[Finding]:
    """Return a finding for each group that moves together, largest first."""
    tracks = [t for t in range(len(evidence.solution.tracks)) if _goes_otherwise(evidence, t)]
    if len(tracks) < LEAST_TRACKS:
        return []
    middle = np.array([evidence.solution.tracks.xy[evidence.samples(t)].mean(0) for t in tracks])
    labels = DBSCAN(eps=NEAR * evidence.size[0], min_samples=3).fit_predict(middle)
    groups = [np.array(tracks)[labels == k] for k in range(labels.max() + 1)]
    found = [(group, agreement) for group in groups if (agreement := _agreement(evidence, group)) > COHERENT]
    return [_told(evidence, *one) for one in sorted(found, key=lambda one: -len(one[0])) if len(one[0]) >= LEAST_TRACKS]


def _goes_otherwise(evidence: Evidence, track: int) -> bool:
    at = evidence.samples(track)
    return len(at) >= 4 and float(np.median(evidence.length[at])) > APART_UNITS


def _agreement(evidence: Evidence, group: np.ndarray) -> float:
    """Return how well the changes of the group's residuals from frame to frame go the same way, 0 to 1."""
    by_frame: dict[int, list[np.ndarray]] = {}
    for track in group.tolist():
        at = evidence.samples(track)
        rows, w = evidence.row[at], evidence.whitened[at]
        for k in np.flatnonzero(np.diff(rows) == 1):
            by_frame.setdefault(int(rows[k + 1]), []).append(w[k + 1] - w[k])
    steps = [np.array(many) for many in by_frame.values() if len(many) >= 3]
    lengths = sum(float(np.linalg.norm(many, axis=1).sum()) for many in steps)
    together = sum(float(np.linalg.norm(many.mean(0)) * len(many)) for many in steps)
    return together / lengths if lengths else 0.0


def _told(evidence: Evidence, group: np.ndarray, agreement: float) -> Finding:
    ids = evidence.ids_of(group)
    rows = np.unique(np.concatenate([evidence.row[evidence.samples(t)] for t in group.tolist()]))
    width, height = evidence.size
    x, y = np.median([evidence.solution.tracks.xy[evidence.samples(t)].mean(0) for t in group.tolist()], axis=0)
    across = "left" if x < width / 3 else "right" if x > 2 * width / 3 else "middle"
    down = "upper" if y < height / 3 else "lower" if y > 2 * height / 3 else "middle"
    place = across if down == "middle" else down if across == "middle" else f"{down} {across}"
    text = (
        f"{len(group)} tracks in the {place} of the picture move together and otherwise than the set: a mover that is "
        "not masked, a reflection, or something that swings."
    )
    remedies = (Remedy("mask", ids, evidence.frames_of(rows)), Remedy("exclude", ids))
    figures = {"tracks": float(len(group)), "agreement": agreement}
    states = evidence.solution.tracks.states
    # A group that the solve has set aside does no harm; it may yet be larger than its tracks.
    severity = NOTABLE if any(states[t] != EXCLUDED for t in group.tolist()) else MINOR
    return Finding(
        GROUP, severity, surety(agreement, COHERENT), text, evidence.frames_of(rows), ids, remedies, figures
    )  # fmt: skip
