"""Which measurements and tracks are outliers: judged by their residuals in sigmas."""

import numpy as np

from amberkeel.core.solve.problem import Problem
from amberkeel.core.tracks import TrackSet

FINAL_SCALE = 2.5
"""Cauchy scale of the last adjustment, in sigmas of the residuals themselves."""

OUTLIER = 4.0
"""Whitened residual, in robust scales, beyond which a measurement is an outlier."""

TRACK_SHARE = 0.5
"""Share of a track's measurements that must agree, or all of it is an outlier."""

LEAST_AGREEING = 3
"""Measurements of a track that must agree, however short it is."""

RAYLEIGH_MEDIAN = 1.1774
"""Median length of a vector of two independent standard normal values."""

MOST_BEHIND = -1e-3
"""Inverse depth below which a point lies behind its camera for good."""

NEAREST = 200.0
"""By how much nearer than the usual point one may be."""

BEYOND_SHARE = 0.05
"""Share of the tracks that may agree and yet lie behind: where more do, the shot does not tell how far away all of them
are (a camera that swings), and they lie beyond infinity by that error, not behind.
"""


def find_outliers(problem: Problem, tracks: np.ndarray, limit: float = OUTLIER) -> tuple[Problem, np.ndarray]:
    """Judge measurements by their residuals, and tracks by the share of theirs that agrees.

    Parameters
    ----------
    problem : adjusted; it is left as it is. tracks : (P,) bool, those judged. limit : whitened
        residual, in robust scales, beyond which a measurement is an outlier.

    Returns
    -------
    The problem with its inliers judged anew and the points of those tracks triangulated anew from all measurements, and
    (P,) bool, tracks that are outliers as a whole.
    """
    judged = problem.copied()
    judged.inlier[:] = True
    judged.triangulate(tracks, FINAL_SCALE)
    error, rows = judged.whitened(tracks)
    active = judged.active[judged.track[rows]]
    bad = error > limit * _robust_scale(error[active])
    judged.inlier[rows[bad]] = False
    count = np.bincount(judged.track[rows], minlength=len(tracks))
    agree = np.bincount(judged.track[rows[~bad]], minlength=len(tracks))
    few = agree < np.maximum(TRACK_SHARE * count, np.where(judged.surveyed, 1, LEAST_AGREEING))
    bad = few | ~judged.triangulated
    behind = judged.rhos < MOST_BEHIND
    if (tracks & behind & ~bad).sum() > BEYOND_SHARE * tracks.sum():
        behind[:] = False
    return judged, tracks & (bad | behind | at_the_lens(judged, tracks & ~bad))


def at_the_lens(problem: Problem, tracks: np.ndarray) -> np.ndarray:
    """Return which points (P,) lie so near, before the camera or behind it, that only the noise of a camera that hardly
    moves can have put them there; they would make its lens and path look surer than they are.

    Parameters
    ----------
    problem : adjusted. tracks : (P,) bool, those that the usual distance is taken from.
    """
    moves = np.ptp(problem.centres[problem.solved], axis=0).any() if problem.solved.any() else False
    usual = float(np.median(problem.rhos[tracks])) if tracks.any() else 0.0
    return np.abs(problem.rhos) > NEAREST * usual if moves and usual > 0.0 else np.zeros(len(problem.rhos), bool)


def _robust_scale(error: np.ndarray) -> float:
    """Return the scale of whitened distances (N,) by their median; 1 at the least."""
    return max(1.0, float(np.median(error)) / RAYLEIGH_MEDIAN) if len(error) else 1.0


def judge_by_rule(
    tracks: TrackSet, residuals: np.ndarray, sigma: np.ndarray, used: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Judge all tracks by the rule of `find_outliers`, the scale taken from the measurements in use.

    Parameters
    ----------
    residuals : (N, 2) pixels, NaN for none, which counts as an outlier. sigma : (N,) pixels.
    used : (N,) bool, measurements that the camera was adjusted to.

    Returns
    -------
    (N,) bool, measurements that agree, and (T,) the share of each track's that do; 0 where too few of them agree for a
    track to count at all.
    """
    error = np.nan_to_num(np.linalg.norm(residuals, axis=1) / sigma, nan=np.inf)
    agree = error <= OUTLIER * (_robust_scale(error[used]) if used.any() else 1.0)
    count = np.bincount(tracks.track_of_sample, agree, len(tracks))
    share = count / np.maximum(tracks.lengths, 1)
    return agree, np.where(count < LEAST_AGREEING, 0.0, share)
