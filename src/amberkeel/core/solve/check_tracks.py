"""Check tracks: whole tracks withheld from the solve, spread over picture and time."""

import numpy as np

from amberkeel.core.tracks import ACTIVE, TrackSet


def choose_checks(
    tracks: TrackSet, width: int, height: int, share: float, rng: np.random.Generator, needed: np.ndarray | None = None
) -> np.ndarray:
    """Return which active tracks to withhold, (T,) bool: about `share` of them, none of fewer than 40.

    The picture is cut into 4 x 3 regions and the shot into 3 parts; one after the other gives a long track at random.

    Parameters
    ----------
    tracks : all of them. width, height : of the picture, pixels. share : of the active tracks. rng : of the choice.
    needed : (T,) bool, tracks that the solve cannot do without, or None.
    """
    chosen = np.zeros(len(tracks), bool)
    active = tracks.in_state(ACTIVE)
    long_enough = tracks.lengths >= max(8, np.median(tracks.lengths[active]) * 0.6 if active.any() else 8)
    candidates = np.nonzero(active & long_enough & ~(np.zeros_like(active) if needed is None else needed))[0]
    wanted = int(round(share * active.sum()))
    if active.sum() < 40 or not wanted:
        return chosen
    mean = np.array([tracks.xy[tracks.rows(t)].mean(0) for t in candidates.tolist()])
    middle = np.array([tracks.frames[tracks.rows(t)].mean() for t in candidates.tolist()])
    span = max(np.ptp(tracks.frames), 1)
    cell = (
        np.clip((4 * mean[:, 0] / width).astype(int), 0, 3)
        + 4 * np.clip((3 * mean[:, 1] / height).astype(int), 0, 2)
        + 12 * np.clip((3 * (middle - tracks.frames.min()) / span).astype(int), 0, 2)
    )
    groups = [list(rng.permutation(candidates[cell == c])) for c in rng.permutation(np.unique(cell))]
    while wanted and any(groups):
        for group in groups:
            if group and wanted:
                chosen[group.pop()] = True
                wanted -= 1
    return chosen
