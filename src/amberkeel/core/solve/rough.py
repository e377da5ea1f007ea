"""A camera found quickly, to a fraction of a pixel: good enough to tell what in the picture does not stand still."""

from dataclasses import dataclass, replace

import numpy as np

from amberkeel.core.camera import CameraPath, poses_at
from amberkeel.core.errors import SolveError
from amberkeel.core.lens import Lens
from amberkeel.core.progress import Progress, silent
from amberkeel.core.solve.explain import explained
from amberkeel.core.solve.finish import camera_of
from amberkeel.core.solve.free_camera import explained_share
from amberkeel.core.solve.grow import GROW_SCALE, fill_between, settle
from amberkeel.core.solve.motions import FREE, PLANE
from amberkeel.core.solve.outliers import find_outliers
from amberkeel.core.solve.problem import Problem
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.refusals import check_tracks
from amberkeel.core.solve.shot import Asked, Solved
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

KEY_FRAMES, LEAST_SEEN = 18, 6
"""Frames that the camera is found on first, at least, and on how many of them the usual track must be seen."""

MOST_APART = 3
"""Frames from one of them to the next, at the most."""

BETWEEN_SCALES = (8.0 * GROW_SCALE, GROW_SCALE)
"""Cauchy scales, in sigmas, of the rounds in which the cameras between them are adjusted: interpolated ones are off by
what the camera shakes.
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
    tracks on some of its frames; on all frames, and by all tracks, where that explains too little.

    Parameters
    ----------
    tracks : on the plate. frames : (F,) numbers, rising. width, height : of the picture, pixels. progress : share done.

    Raises
    ------
    SolveError : too few tracks, or a shot that breaks in the middle.
    """
    frames, size = np.asarray(frames), (width, height)
    some = _spread(tracks, width, height)
    keys = _key_frames(some, frames)
    attempts = [(some, keys)] if len(keys) < len(frames) else []
    attempts += [(own, frames) for own in ([some] if some is tracks else [some, tracks])]
    found: list[RoughCamera] = []
    failure = SolveError("No camera explains the tracks.")
    for own, on in attempts:
        try:
            found.append(_found(own, on, frames, size, progress))
        except SolveError as error:
            failure = error
        if found and found[-1].explained >= TRUSTED:
            break
    if not found:
        raise failure
    return max(found, key=lambda one: one.explained)


def _key_frames(tracks: TrackSet, frames: np.ndarray) -> np.ndarray:
    """Return the frames (K,) on which the camera is found first: some of a longer shot whose tracks last, or all."""
    lengths = tracks.lengths[tracks.in_state(ACTIVE) & (tracks.lengths > 1)]
    usual = int(np.median(lengths)) if len(lengths) else 0
    step = min(len(frames) // KEY_FRAMES, usual // LEAST_SEEN, MOST_APART)
    return frames if step < 2 else np.union1d(frames[::step], frames[-1:])


def _found(
    tracks: TrackSet, on: np.ndarray, frames: np.ndarray, size: tuple[int, int], progress: Progress
) -> RoughCamera:
    """Return the camera that all of the active tracks tell, found on some frames (K,) of all (F,)."""
    asked = _asked(tracks, on, size)
    check_tracks(asked.tracks)
    if stands_still(asked.problem()):
        count, still = len(frames), Lens.centred(*size, USUAL_FIELD * size[0])
        path = CameraPath(frames, np.zeros((count, 3)), np.tile(np.eye(3), (count, 1, 1)), still)
        return RoughCamera(path, "locked", 0.0)
    solved = explained(asked, progress)
    if len(on) < len(frames):
        solved = _on_all(_asked(tracks, frames, size), solved)
    problem = solved.problem
    serving = problem.active & problem.triangulated
    path = camera_of(problem, problem.lens.as_lens(*size))
    near = float(np.median(problem.rhos[serving])) if serving.any() else 0.0
    return RoughCamera(path, solved.motion, near, explained_share(solved))


def _asked(tracks: TrackSet, frames: np.ndarray, size: tuple[int, int]) -> Asked:
    tracks, recipe = tracks.on_frames(frames), Recipe(check_share=0.0, rows="off")
    return Asked(tracks, tracks, frames, recipe, recipe.plan(*size), size)


def _on_all(asked: Asked, some: Solved) -> Solved:
    """Return a camera found on some frames on all of those that are asked, its points and its lens as they are.

    Raises
    ------
    SolveError : it was not found on all of those frames, or does not hold on those between.
    """
    if not some.problem.solved.all():
        raise SolveError("The camera was not found on all frames that it was looked for on.")
    problem, everyone = _between(asked.problem(), some), some.problem.active | some.dropped
    if some.motion in (FREE, PLANE):
        problem.solved = np.isin(problem.frames, some.problem.frames)
        fill_between(problem, 0, len(problem.frames) - 1)
        if not problem.solved.all():
            raise SolveError(f"The camera does not hold on frame {problem.frames[~problem.solved][0]}.")
    else:
        for scale in BETWEEN_SCALES:
            settle(problem, some.freedom, 10, scale)
    problem, dropped = find_outliers(problem, everyone)
    problem.active = everyone & ~dropped
    return replace(some, problem=problem, dropped=dropped)


def _between(problem: Problem, some: Solved) -> Problem:
    """Return a problem with what was solved on some of its frames, the cameras between them interpolated."""
    found = some.problem
    problem.lens, problem.solved[:], problem.movable[:] = found.lens, True, found.movable[0]
    rows = np.searchsorted(found.frames, problem.frames, side="right") - 1
    share = (problem.frames - found.frames[rows]) / np.diff(found.frames, append=found.frames[-1] + 1)[rows]
    problem.rotations, problem.centres = poses_at(found.rotations, found.centres, rows, share)
    for name in ("anchors", "directions", "rhos", "triangulated", "active"):
        setattr(problem, name, getattr(found, name).copy())
    return problem


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
