"""Frames on which the camera itself sweeps the picture while the shutter is open, and turns back or is struck.

What is followed there is where the streak is darkest, not where its point is at mid-shutter; the two part with the
acceleration (`core.repair.exposure`). All tracks are off alike, so no residual shows it.
"""

import numpy as np

from amberkeel.core.diagnose.evidence import Evidence
from amberkeel.core.diagnose.path import TOLD_SIGMAS, spikes
from amberkeel.core.diagnose.pose_noise import pose_sigmas
from amberkeel.core.repair.exposure import Motion

USUAL_SHUTTER = 0.5
"""Open share of the frame interval that is taken where none is known."""

LEAST_SHIFT_PX = 0.15
"""How far the mean over such an exposure must lie from mid-shutter, pixels."""

LEAST_STREAK_PX = 3.0
"""Length of the streaks on the frame or beside it, pixels."""

POINTS = 12
"""Points by which a frame is judged."""

LEAST_FRAMES = 12
"""Frames below which a motion says too little of itself."""


def swept(evidence: Evidence) -> tuple[np.ndarray, float]:
    """Return the rows (K,) of frames that the camera sweeps, and by how much their means lie off mid-shutter at the
    most, pixels; single frames on which the path only jumps are left to it.
    """
    path = evidence.solution.path
    if len(path.frames) < LEAST_FRAMES or np.ptp(np.diff(path.frames)) > 0:
        return np.zeros(0, int), 0.0
    motion, xyz = Motion(path), evidence.solution.points.positions(path.positions[0])
    order = np.argsort(evidence.row[evidence.still], kind="stable")
    rows, own = evidence.row[evidence.still][order], evidence.own[evidence.still][order]
    first = np.searchsorted(rows, np.arange(len(path.frames) + 1))
    length, shift = np.zeros((2, len(path.frames)))
    for k in range(len(path.frames)):
        tracks = own[first[k] : first[k + 1]]
        tracks = tracks[:: max(1, len(tracks) // POINTS)][:POINTS]
        if not len(tracks):
            continue
        length[k], shift[k] = motion.extent(xyz[tracks], k, USUAL_SHUTTER)
    near = np.maximum(length, np.maximum(np.roll(length, 1), np.roll(length, -1)))
    hit = (shift > LEAST_SHIFT_PX) & (near > LEAST_STREAK_PX)
    for spike in spikes(path, pose_sigmas(evidence)):
        if spike.sigmas > TOLD_SIGMAS:
            hit[max(0, spike.row - 2) : spike.row + 3] = False
    return np.flatnonzero(hit), float(shift[hit].max(initial=0.0))
