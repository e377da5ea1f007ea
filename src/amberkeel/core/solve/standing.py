"""Stretches of a moving shot in which the camera stands still and only turns: found, tested, and held.

A camera that stands still jitters in a free solve: its position there is noise. Where its steps are a small share of
the usual ones for a while, it is held at one spot, exactly, and the hold is kept where it costs the tracks less than
the unknowns that it saves are worth (Bayesian information criterion, Schwarz 1978).
"""

import numpy as np

from amberkeel.core.solve.evidence.statement import CameraOn
from amberkeel.core.solve.outliers import OUTLIER
from amberkeel.core.solve.problem import Problem

SLOW = 0.1
"""Share of the usual step up to which a camera may stand still."""

USUAL_PERCENT = 75.0
"""Percentile of the steps that counts as the usual one."""

LEAST_FRAMES = 6
"""Frames of a stretch."""


def standing(problem: Problem) -> list[tuple[int, int]]:
    """Return the stretches, first and last frame number of each, in which the camera of a solved problem may stand
    still; none where it never goes.
    """
    rows = np.nonzero(problem.solved)[0]
    if len(rows) < 2 * LEAST_FRAMES:
        return []
    steps = np.linalg.norm(np.diff(problem.centres[rows], axis=0), axis=1)
    usual = float(np.percentile(steps, USUAL_PERCENT))
    slow = np.concatenate([[False], (steps < SLOW * usual) & (np.diff(rows) == 1), [False]])
    begins, ends = (np.nonzero(np.diff(slow.astype(int)) == way)[0] for way in (1, -1))
    return [
        (int(problem.frames[rows[a]]), int(problem.frames[rows[b]]))
        for a, b in zip(begins, ends)
        if b - a + 1 >= LEAST_FRAMES
    ]


def hold(frames: tuple[int, int]) -> CameraOn:
    """Return the constraint that holds the camera at one spot over a stretch."""
    return CameraOn(name=f"stands still {frames[0]}–{frames[1]}", shape="spot", exact=True, frames=frames)


def worth_it(before: Problem, after: Problem, everyone: np.ndarray, noise: float, saved: int) -> bool:
    """Return whether holding stretches costs less than the unknowns that it saves are worth.

    Parameters
    ----------
    before, after : without and with the hold. everyone : (P,) bool, tracks that count. noise : noise factor of the
        stated noise. saved : unknowns.
    """
    errors = [np.minimum(one.whitened(everyone)[0] / noise, OUTLIER) for one in (before, after)]
    rise = float((errors[1] ** 2).sum() - (errors[0] ** 2).sum())
    return rise < saved * np.log(max(2 * len(errors[0]), 2))
