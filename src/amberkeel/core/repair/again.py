"""Frames on which tracks were led astray, measured anew from where the camera expects their points.

Following leads a track from frame to frame, and what happens on one, a flash, somebody crossing, a blow, it carries on.
Here nothing is carried: each point is sought where the solved camera has it, against what it looks like on frames that
are not in question. Where the camera itself is in doubt there, it is asked twice, as it was solved and as the frames
beside it tell, and what the pictures bear out better is taken.
"""

import numpy as np

from amberkeel.core.errors import SolveError
from amberkeel.core.plate.plate import Plate
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.repair.led import NOT_OPEN, Led, Masked, with_measured
from amberkeel.core.repair.smooth import carried_over
from amberkeel.core.solve.solution import Solution
from amberkeel.core.tracks import TrackSet


def measured_again(
    plate: Plate, solution: Solution, frames: tuple[int, ...], masked: Masked = None, progress: Progress = silent
) -> TrackSet:
    """Measure tracks anew on some frames, led by the solved camera.

    Parameters
    ----------
    plate : the pictures. solution : solved from them. frames : numbers, from the first frame with a camera to the last
        one with it.
    masked : from a frame number to (H, W) bool, True where nothing may be followed. progress : the share done.

    Returns
    -------
    The tracks, their positions on those frames measured anew, and found where they had none.

    Raises
    ------
    SolveError : none of the frames lies between solved ones, or nothing is found on any of them.
    """
    chosen, own = np.unique(frames), solution.path.frames
    chosen = chosen[(chosen >= own[0]) & (chosen <= own[-1])]
    if not len(chosen):
        raise SolveError("No camera was solved about these frames.", "Brush frames between those that are solved.")
    found = [
        _found(plate, one, chosen, masked, span(progress, k / 2, (k + 1) / 2))
        for k, one in enumerate(_led_by(solution, chosen))
    ]
    counts = np.array([[int((tracks.frames == f).sum()) for f in chosen] for tracks in found])
    best = counts.argmax(0)
    if not counts.max(initial=0):
        raise SolveError("None of the tracks is found on these frames.", "Let their tracks count less, or bridge them.")
    tracks = found[0]
    for k, other in enumerate(found[1:], 1):
        if (best == k).any():
            tracks = _taken(tracks, other, chosen[best == k])
    return tracks


def _led_by(solution: Solution, frames: np.ndarray) -> list[Solution]:
    """Return the solution with its camera as solved, and, as the frames beside it tell, where each can be."""
    own = [solution] if np.isin(frames, solution.path.frames).all() else []
    try:
        return [*own, solution.judged(carried_over(solution.path, frames))]
    except SolveError:
        if not own:
            raise
        return own


def _found(plate: Plate, solution: Solution, frames: np.ndarray, masked: Masked, progress: Progress) -> TrackSet:
    led = Led(plate, solution, np.isin(solution.path.frames, frames))
    try:
        return led.measured(frames, NOT_OPEN, masked, progress)
    finally:
        led.grays.close()


def _taken(tracks: TrackSet, other: TrackSet, frames: np.ndarray) -> TrackSet:
    """Return tracks with what another set of the same tracks has on some frames."""
    found = []
    for frame in frames:
        on = other.frames == frame
        found.append((frame, other.track_of_sample[on], other.xy[on], other.sigma[on], other.score[on]))
    return with_measured(tracks, found)
