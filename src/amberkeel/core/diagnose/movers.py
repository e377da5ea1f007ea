"""Groups of tracks that move otherwise than the set: an unmasked mover, a reflection, a branch in the wind."""

import numpy as np

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
    count = np.diff(evidence.judged_samples[1])
    tracks = np.nonzero((count >= 4) & (evidence.middle_length > APART_UNITS) & evidence.judged)[0]
    if len(tracks) < LEAST_TRACKS:
        return []
    from sklearn.cluster import DBSCAN  # takes a second to come in, and few shots need it

    labels = DBSCAN(eps=NEAR * evidence.size[0], min_samples=3).fit_predict(evidence.middle_place[tracks])
    groups = [tracks[labels == k] for k in range(labels.max() + 1)]
    found = [(group, _agreement(evidence, group)) for group in groups if len(group) >= LEAST_TRACKS]
    return [_told(evidence, *one) for one in sorted(found, key=lambda one: -len(one[0])) if one[1] > COHERENT]


def _agreement(evidence: Evidence, group: np.ndarray) -> float:
    """Return how well the changes of the group's residuals from frame to frame go the same way, 0 to 1."""
    at, first = evidence.judged_samples
    own = np.isin(evidence.own[at], group)
    later = at[own][np.concatenate([[False], np.diff(evidence.own[at[own]]) == 0])]
    follows = evidence.row[later] - evidence.row[later - 1] == 1
    later = later[follows]
    step, row = evidence.whitened[later] - evidence.whitened[later - 1], evidence.row[later]
    many = np.bincount(row, minlength=len(evidence.live_counts))
    enough = many[row] >= 3
    if not enough.any():
        return 0.0
    total = np.stack([np.bincount(row[enough], step[enough, k], len(many)) for k in (0, 1)], 1)
    return float(np.linalg.norm(total, axis=1).sum() / max(np.linalg.norm(step[enough], axis=1).sum(), 1e-12))


def _told(evidence: Evidence, group: np.ndarray, agreement: float) -> Finding:
    ids = evidence.ids_of(group)
    rows = np.unique(np.concatenate([evidence.row[evidence.samples(t)] for t in group.tolist()]))
    width, height = evidence.size
    x, y = np.median(evidence.middle_place[group], axis=0)
    across = "left" if x < width / 3 else "right" if x > 2 * width / 3 else "middle"
    down = "upper" if y < height / 3 else "lower" if y > 2 * height / 3 else "middle"
    place = across if down == "middle" else down if across == "middle" else f"{down} {across}"
    text = (
        f"{len(group)} tracks in the {place} of the picture move together and otherwise than the set: a mover that is "
        "not masked, a reflection, or something that swings."
    )
    remedies = (
        Remedy("exclude", f"Exclude the {len(group)} tracks", ids),
        Remedy("advice", "Mask it, and follow again", ids, evidence.frames_of(rows)),
    )
    figures = {"tracks": float(len(group)), "agreement": agreement}
    states = evidence.solution.tracks.states
    # A group that the solve has set aside does no harm; it may yet be larger than its tracks.
    severity = NOTABLE if any(states[t] != EXCLUDED for t in group.tolist()) else MINOR
    return Finding(
        GROUP, severity, surety(agreement, COHERENT), text, evidence.frames_of(rows), ids, remedies, figures
    )  # fmt: skip
