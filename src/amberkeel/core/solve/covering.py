"""Some of the tracks that cover a shot as well as all of them do, for work that only has to come near.

Hundreds of tracks a frame fix a camera hardly better than a hundred do, while time grows with their number. Frames with
few tracks keep all of theirs.
"""

import numpy as np
from numba import njit

from amberkeel.core.solve.problem import Problem

COVERING = 100
"""Tracks of a frame with which a camera is found before all of them serve."""

COLUMNS, ROWS = 4, 3
"""Cells of the picture that tracks are spread over."""

OPEN_SHARE = 0.25
"""Share of a track's measurements in cells that are not yet full for which the track is taken."""


def covering(problem: Problem, per_frame: int, frames: np.ndarray | None = None) -> np.ndarray:
    """Return active tracks that cover a shot, long ones first, by their rows (K,), rising.

    Parameters
    ----------
    problem : with its measurements. per_frame : tracks that a frame should have; it gets more where long ones overlap.
    frames : (F,) bool, the frames that count, or None for all.
    """
    counts = np.ones(len(problem.frames), bool) if frames is None else frames
    live = counts[problem.camera] & problem.active[problem.track]
    seen = np.bincount(problem.track[live], minlength=len(problem.rhos))
    order = np.argsort(-seen, kind="stable")
    order = order[seen[order] >= 2]
    size = 2.0 * np.array([problem.lens.cx, problem.lens.cy])
    at = np.clip((problem.xy / size * [COLUMNS, ROWS]).astype(np.int64), 0, [COLUMNS - 1, ROWS - 1])
    cell = at[:, 0] * ROWS + at[:, 1]
    taken = np.zeros(len(problem.rhos), bool)
    _take(order, problem.first, problem.camera, cell, live, len(problem.frames), per_frame, taken)
    return np.nonzero(taken)[0]


@njit(cache=True)
def _take(order, first, camera, cell, live, frames, per_frame, taken):
    """Mark in `taken` (P,) the tracks that are needed, in `order` (K,)."""
    total, own = np.zeros(frames, np.int64), np.zeros((frames, COLUMNS * ROWS), np.int64)
    full = per_frame / (COLUMNS * ROWS)
    for p in order:
        count, room, sparse = 0, 0, False
        for n in range(first[p], first[p + 1]):
            if live[n]:
                count += 1
                room += own[camera[n], cell[n]] < full
                sparse = sparse or total[camera[n]] < per_frame / 2
        if not sparse and room < OPEN_SHARE * count:
            continue
        taken[p] = True
        for n in range(first[p], first[p + 1]):
            if live[n]:
                total[camera[n]] += 1
                own[camera[n], cell[n]] += 1
