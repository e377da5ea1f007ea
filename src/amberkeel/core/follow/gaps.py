"""Gaps in tracks: whether what was found again behind an obstacle is what was lost."""

import numpy as np

from amberkeel.core.geometry.background import fit_background
from amberkeel.core.tracks import TrackSet, from_pieces

WRONG_PX, WRONG_SIGMAS = 0.5, 4.0
"""Distance to the epipolar line across a gap from which a track was not found again, but something like it."""


def part_wrong_resumes(tracks: TrackSet, min_length: int) -> TrackSet:
    """Cut tracks in two at a gap that the background's motion across it does not explain.

    A patch found again behind an obstacle may be a look-alike; the epipolar constraint of all other tracks tells.
    """
    gaps = np.nonzero((np.diff(tracks.frames) > 1) & (np.diff(tracks.track_of_sample) == 0))[0]
    if not len(gaps):
        return tracks
    by_frame = {
        f: np.nonzero(tracks.frames == f)[0] for f in np.unique(tracks.frames[np.concatenate([gaps, gaps + 1])])
    }
    owner, wrong = tracks.track_of_sample, []
    for a, b in np.unique(np.stack([tracks.frames[gaps], tracks.frames[gaps + 1]], 1), axis=0):
        _, i, j = np.intersect1d(owner[by_frame[a]], owner[by_frame[b]], return_indices=True)
        x, y = tracks.xy[by_frame[a][i]], tracks.xy[by_frame[b][j]]
        motion = fit_background(x, y)
        mine = gaps[(tracks.frames[gaps] == a) & (tracks.frames[gaps + 1] == b)]
        if motion is None:
            wrong.extend(mine)
            continue
        miss = motion.residuals(tracks.xy[mine], tracks.xy[mine + 1])
        wrong.extend(mine[miss > max(WRONG_PX, WRONG_SIGMAS * motion.noise)])
    return _parted(tracks, np.array(sorted(wrong), np.int64), min_length)


def _parted(tracks: TrackSet, after: np.ndarray, min_length: int) -> TrackSet:
    """Return tracks cut in two after some samples; pieces that are too short are dropped, later ones get a letter."""
    first = np.unique(np.concatenate([tracks.first, after + 1]))
    pieces, names = [], []
    for a, z in zip(first[:-1], first[1:]):
        if z - a < min_length:
            continue
        track = int(tracks.track_of_sample[a])
        later = int(np.count_nonzero((after >= tracks.first[track]) & (after < a)))
        names.append(tracks.names[track] + ("bcdefghijklmnopqrstuvwxyz"[later - 1] if later else ""))
        pieces.append((tracks.frames[a:z], tracks.xy[a:z], tracks.sigma[a:z], tracks.score[a:z]))
    return from_pieces(names, pieces)
