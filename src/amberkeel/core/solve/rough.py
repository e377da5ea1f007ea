"""A camera found quickly, to a fraction of a pixel: good enough to tell what in the picture does not stand still."""

from dataclasses import dataclass, replace

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import SolveError
from amberkeel.core.lens import Lens
from amberkeel.core.progress import Progress, silent
from amberkeel.core.solve.explain import explained
from amberkeel.core.solve.finish import camera_of
from amberkeel.core.solve.free_camera import explained_share
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.refusals import check_tracks
from amberkeel.core.solve.shot import Asked
from amberkeel.core.solve.start import stands_still
from amberkeel.core.tracks import ACTIVE, EXCLUDED, TrackSet

MOST_TRACKS = 140
"""Tracks that serve."""

CELLS = (6, 4)
"""Parts of the picture, across and down, that they are spread over."""

TRUSTED = 0.7
"""Share of the measurements that a camera must explain to be believed; wrong ones explain a half, right ones four
fifths, since what moves by itself has tracks too.
"""

USUAL_FIELD = 1.2
"""Focal length that is taken for a camera that neither moves nor turns, in widths of the picture."""


@dataclass(frozen=True)
class RoughCamera:
    """A camera found quickly.

    Attributes
    ----------
    path : its poses, in a scale of their own. motion : how it moves, one of `motions`. inverse_distance : the middle
        one of the points', 0 where all are far. explained : share of the measurements that it explains.
    """

    path: CameraPath
    motion: str
    inverse_distance: float
    explained: float = 1.0


def rough_camera(
    tracks: TrackSet, frames: np.ndarray, width: int, height: int, progress: Progress = silent
) -> RoughCamera:
    """Find the camera of a shot without weighing its tracks, withholding any, or saying how sure it is: by some of its
    tracks, and by all of them where that explains too little.

    Parameters
    ----------
    tracks : on the plate. frames : (F,) numbers, rising. width, height : of the picture, pixels. progress : share done.

    Raises
    ------
    SolveError : too few tracks, or a shot that breaks in the middle.
    """
    some = _spread(tracks, width, height)
    found: list[RoughCamera] = []
    for own in [some] if some is tracks else [some, tracks]:
        try:
            found.append(_found(own, frames, width, height, progress))
        except SolveError:
            if own is tracks and not found:
                raise
        if found and found[-1].explained >= TRUSTED:
            break
    return max(found, key=lambda one: one.explained)


def _found(tracks: TrackSet, frames: np.ndarray, width: int, height: int, progress: Progress) -> RoughCamera:
    """Return the camera that all of the active tracks tell."""
    tracks, recipe = tracks.on_frames(frames), Recipe(check_share=0.0, rows="off")
    check_tracks(tracks)
    asked = Asked(tracks, tracks, frames, recipe, recipe.plan(width, height), (width, height))
    if stands_still(asked.problem()):
        count, still = len(frames), Lens.centred(width, height, USUAL_FIELD * width)
        path = CameraPath(np.asarray(frames), np.zeros((count, 3)), np.tile(np.eye(3), (count, 1, 1)), still)
        return RoughCamera(path, "locked", 0.0)
    solved = explained(asked, progress)
    problem = solved.problem
    serving = problem.active & problem.triangulated
    path = camera_of(problem, problem.lens.as_lens(width, height))
    near = float(np.median(problem.rhos[serving])) if serving.any() else 0.0
    return RoughCamera(path, solved.motion, near, explained_share(solved))


def _spread(tracks: TrackSet, width: int, height: int) -> TrackSet:
    """Return tracks of which `MOST_TRACKS` serve: the longest of each part of the picture in turn."""
    free = np.isin(tracks.states, (ACTIVE,)) & (tracks.lengths > 1)
    if free.sum() <= MOST_TRACKS:
        return tracks
    middle = tracks.xy[tracks.first[:-1] + tracks.lengths // 2]
    across, down = CELLS
    x = np.clip(middle[:, 0] / width * across, 0, across - 1).astype(int)
    y = np.clip(middle[:, 1] / height * down, 0, down - 1).astype(int)
    cell, own = x * down + y, np.nonzero(free)[0]
    own = own[np.lexsort((-tracks.lengths[own], cell[own]))]
    _, begins, counts = np.unique(cell[own], return_index=True, return_counts=True)
    turn = np.arange(len(own)) - np.repeat(begins, counts)
    chosen = own[np.lexsort((-tracks.lengths[own], turn))[:MOST_TRACKS]]
    serves = np.zeros(len(tracks), bool)
    serves[chosen] = True
    return replace(tracks, states=[s if c else EXCLUDED for s, c in zip(tracks.states, serves)])
