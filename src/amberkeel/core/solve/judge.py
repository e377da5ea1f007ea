"""Which measurements and tracks belong to the still set: judged by their residuals in sigmas."""

import numpy as np

from amberkeel.core.solve.problem import Problem
from amberkeel.core.tracks import TrackSet

FINAL_SCALE = 2.5
"""Cauchy scale of the last adjustment, in sigmas of the residuals themselves."""

OUTLIER = 4.0
"""Whitened residual, in robust scales, beyond which a measurement is set aside."""

TRACK_SHARE = 0.5
"""Share of a track's measurements that must agree, or the track is set aside whole."""


def set_aside(problem: Problem, everyone: np.ndarray) -> np.ndarray:
    """Judge each measurement by its residual and each track by the share that agrees; return dropped tracks."""
    problem.usable[:] = True
    problem.place(everyone, FINAL_SCALE)
    bundle, rows = problem.whole(everyone)
    error = np.linalg.norm(bundle.residuals(), axis=1) * bundle.weight
    live = problem.used[problem.track[rows]]
    scale = max(1.0, np.median(error[live]) / 1.1774)
    bad = error > OUTLIER * scale
    problem.usable[rows[bad]] = False
    count = np.bincount(problem.track, minlength=len(everyone))
    agree = np.bincount(problem.track[rows[~bad]], minlength=len(everyone))
    return everyone & ((agree < np.maximum(TRACK_SHARE * count, 3)) | ~problem.placed | (problem.rhos < -1e-3))


def astray_checks(tracks: TrackSet, residuals: np.ndarray, checks: np.ndarray, sigma: np.ndarray, factor: float) -> np.ndarray:
    """Return check tracks (T,) bool judged not to belong to the still set, by the rule used for all tracks."""
    error = np.linalg.norm(residuals, axis=1) / sigma
    agree = np.nan_to_num(error, nan=1e9) <= OUTLIER * max(1.0, factor)
    share = np.bincount(tracks.track_of_sample, agree, len(tracks)) / np.maximum(tracks.lengths, 1)
    return checks & (share < TRACK_SHARE)
