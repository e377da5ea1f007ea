"""Measurements that give no camera, refused before anything is solved."""

import numpy as np

from amberkeel.core.errors import SolveError
from amberkeel.core.tracks import ACTIVE, TrackSet

LEAST_TRACKS = 8
"""Active tracks below which there is no solve."""

ON_A_LINE = 0.01
"""Spread of the tracks across a line through them, over that along it, up to which they lie on it."""

MOST_ON_A_LINE = 0.9
"""Share of the frames on which they may."""


def check_tracks(tracks: TrackSet) -> None:
    """Refuse measurements from which no camera can come.

    Raises
    ------
    SolveError : a position or sigma that is no number, no measurement at all, fewer than eight active tracks, or all
        of them on one line.
    """
    broken = np.nonzero(~np.isfinite(tracks.xy).all(1) | ~np.isfinite(tracks.sigma) | (tracks.sigma < 0.0))[0]
    if len(broken):
        row = int(broken[0])
        raise SolveError(
            f"Track {tracks.names[int(tracks.track_of_sample[row])]} has no position on frame {tracks.frames[row]}: "
            "what is written there is no number.",
            "Cut that frame from the track, or bring the table in again.",
        )
    if not len(tracks.frames):
        raise SolveError("No track has a measurement on these frames.", "Choose the frames that were followed.")
    active = tracks.in_state(ACTIVE)
    if active.sum() < LEAST_TRACKS:
        raise SolveError(f"Only {active.sum()} tracks are active.", "A solve needs eight at the least, better fifty.")
    if _on_a_line(tracks, active):
        raise SolveError(
            "All tracks lie on one line, about which the camera could turn.", "Follow features off that line too."
        )


def _on_a_line(tracks: TrackSet, active: np.ndarray) -> bool:
    """Return whether the active tracks lie on a line of the picture on nearly all frames."""
    own = active[tracks.track_of_sample]
    frames, number = np.unique(tracks.frames[own], return_inverse=True)
    xy = tracks.xy[own]
    count = np.bincount(number)
    mean = np.stack([np.bincount(number, xy[:, k]) / count for k in (0, 1)], 1)
    d = xy - mean[number]
    xx, yy, cross = (np.bincount(number, d[:, a] * d[:, b]) for a, b in ((0, 0), (1, 1), (0, 1)))
    half, root = 0.5 * (xx + yy), np.hypot(0.5 * (xx - yy), cross)
    thin = np.sqrt(np.maximum(half - root, 0.0)) < ON_A_LINE * np.sqrt(half + root)
    enough = count >= LEAST_TRACKS
    return bool(enough.any() and thin[enough].mean() > MOST_ON_A_LINE)
