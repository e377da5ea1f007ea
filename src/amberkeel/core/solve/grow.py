"""Grow a start over the whole shot: resect outwards, triangulate, adjust."""

from collections.abc import Iterable
from dataclasses import replace

import numpy as np

from amberkeel.core.errors import SolveError
from amberkeel.core.progress import Progress
from amberkeel.core.solve.adjust import Adjusted, adjust
from amberkeel.core.solve.lens_plan import Freedom
from amberkeel.core.solve.outliers import find_outliers
from amberkeel.core.solve.problem import Problem
from amberkeel.core.solve.start import resect_frame

GROW_SCALE = 4.0
"""Cauchy scale while growing, in sigmas."""

ROUGH_OUTLIER = 10.0
"""Whitened residual, in robust scales, beyond which a measurement does not count while the camera grows."""

CHUNK = 10
"""Frames added between two adjustments."""

WINDOW = 40
"""Frames adjusted after a chunk; frames further back that share tracks are held."""

HELD_REACH = 20
"""Frames beyond the adjusted ones that take part, held."""

CARRY = 5
"""Tracks that a stretch of frames shares with the rest at the least."""

LEAST_AGREEING = 0.25
"""Share of a frame's tracks that must agree with its camera for the frame to count as solved."""


class Broken(SolveError):
    """A solve that does not reach all frames; `problem` is what holds together."""

    def __init__(self, problem: Problem, message: str, help: str):
        super().__init__(message, help)
        self.problem = problem


def fill_between(problem: Problem, a: int, b: int) -> None:
    """Resect the unsolved frames between two rows from the poses around them.

    Parameters
    ----------
    problem : changed in place. a, b : rows of the first and the last frame.
    """
    known = np.nonzero(problem.solved)[0]
    for row in range(a, b + 1):
        if problem.solved[row]:
            continue
        near = known[np.argmin(np.abs(known - row))]
        _start_from(problem, row, int(near))
        if resect_frame(problem, row, problem.active, GROW_SCALE) > LEAST_AGREEING:
            problem.solved[row] = True
            known = np.nonzero(problem.solved)[0]


def _start_from(problem: Problem, row: int, near: int) -> None:
    problem.rotations[row], problem.centres[row] = problem.rotations[near], problem.centres[near]


def settle(problem: Problem, freedom: Freedom, iterations: int, scale: float = GROW_SCALE) -> float:
    """Triangulate all tracks anew from the solved cameras, adjust all of the problem, and return the cost.

    Parameters
    ----------
    problem : changed in place. freedom : what of the lens may change. iterations : at the most.
    scale : Cauchy scale in sigmas.
    """
    problem.triangulate(problem.active, scale)
    adjusted = adjust_all(problem, freedom, iterations, 1e-4, scale)
    if len(adjusted.bundle.rhos) and np.median(adjusted.bundle.rhos) < 0.0:
        problem.mirror_depths()
    return adjusted.cost


def adjust_all(problem: Problem, freedom: Freedom, iterations: int, tolerance: float, scale: float) -> Adjusted:
    """Adjust the solved cameras and the points of all active tracks as they stand, the first camera held; return what
    came of it.

    Parameters
    ----------
    problem : changed in place. freedom : what of the lens may change. iterations, tolerance : as for `adjust`.
    scale : Cauchy scale in sigmas.
    """
    bundle, rows = problem.bundle(problem.solved, problem.active, problem.all_but_first, freedom, scale)
    adjusted = adjust(bundle, iterations, tolerance)
    problem.update(adjusted.bundle, rows)
    return adjusted


def grow(problem: Problem, freedom: Freedom, progress: Progress) -> None:
    """Extend a start to all frames, in chunks alternately later and earlier, in place.

    Parameters
    ----------
    problem : some of its frames solved. freedom : what of the lens may change.

    Raises
    ------
    SolveError : the shot breaks, at frames that cannot be tied to their neighbours.
    """
    total = len(problem.frames)
    solved = np.nonzero(problem.solved)[0]
    fill_between(problem, int(solved[0]), int(solved[-1]))
    set_outliers_apart(problem)
    settle(problem, freedom, 12)
    while not problem.solved.all():
        solved = np.nonzero(problem.solved)[0]
        low, high = int(solved[0]), int(solved[-1])
        grown = _extend(problem, high, range(high + 1, min(high + 1 + CHUNK, total)))
        grown += _extend(problem, low, range(low - 1, max(low - 1 - CHUNK, -1), -1))
        if not grown:
            break
        near = None
        if len(problem.zoom):
            settle(problem, freedom, 8)
        else:
            near = _near_edges(problem)
            _adjust_edges(problem, near, freedom)
        set_outliers_apart(problem, near)
        progress(problem.solved.mean(), f"Solved {int(problem.solved.sum())} of {total} frames")
    if not problem.solved.all():
        raise Broken(problem, *_lacking(problem))


def _lacking(problem: Problem) -> tuple[str, str]:
    """Return which frames have no camera since too few tracks carry over to them, and what helps."""
    lost = np.nonzero(~problem.solved)[0]
    edge = int(lost[0] if lost[0] > 0 else lost[-1])
    run = np.cumsum(np.diff(lost, prepend=lost[0]) > 1)
    stretch = lost[run == run[np.searchsorted(lost, edge)]]
    serves = problem.active[problem.track]
    there = problem.track[serves & np.isin(problem.camera, stretch)]
    here = problem.track[serves & problem.solved[problem.camera]]
    shared, at = len(np.intersect1d(there, here)), int(problem.frames[edge])
    first, last = problem.frames[stretch[[0, -1]]]
    said = f"The solve breaks at frame {at}: too few tracks carry across it."
    if shared >= CARRY:
        return said, "Place a few long tracks across that frame by hand, or solve a shorter range."
    frames = f"Frame {first} shares" if first == last else f"Frames {first}–{last} share"
    tracks = "1 track" if shared == 1 else f"{shared} tracks" if shared else "no track"
    return (
        f"{said} {frames} {tracks} with the rest.",
        f"Place {CARRY - shared} or more by hand that cross frame {at}, or solve a shorter range.",
    )


def set_outliers_apart(problem: Problem, tracks: np.ndarray | None = None) -> None:
    """Judge the measurements of the solved frames anew, in place: what rides on something that moves must not bend the
    camera while it grows.

    Parameters
    ----------
    problem : grown so far. tracks : (P,) bool, those that are judged, or None for all active ones.
    """
    judged, dropped = find_outliers(problem, problem.active if tracks is None else tracks, ROUGH_OUTLIER)
    inlier = judged.inlier & ~dropped[problem.track]
    problem.inlier = inlier if tracks is None else np.where(tracks[problem.track], inlier, problem.inlier)


def _near_edges(problem: Problem) -> np.ndarray:
    """Return the active tracks (P,) bool that are seen near either end of what is solved."""
    solved = np.nonzero(problem.solved)[0]
    near = np.zeros(len(problem.frames), bool)
    near[solved[: WINDOW + HELD_REACH]] = near[solved[-WINDOW - HELD_REACH :]] = True
    seen = np.zeros(len(problem.rhos), bool)
    seen[problem.track[near[problem.camera]]] = True
    return problem.active & seen


def _extend(problem: Problem, last: int, rows: Iterable[int]) -> int:
    """Resect frames one after the other, each from the one before, until one fails; return how many were added."""
    grown, loose = 0, problem.depth_variances()
    for row in rows:
        _start_from(problem, row, last)
        if resect_frame(problem, row, problem.active, GROW_SCALE, loose) < LEAST_AGREEING:
            break
        problem.solved[row] = True
        last, grown = row, grown + 1
    return grown


def _adjust_edges(problem: Problem, tracks: np.ndarray, freedom: Freedom) -> None:
    """Triangulate tracks (P,) bool again and adjust the frames near both ends of what is solved, all others and the
    lens held.
    """
    problem.triangulate(tracks, GROW_SCALE)
    solved = np.nonzero(problem.solved)[0]
    free = problem.solved.copy()
    if len(solved) > 2 * WINDOW + 10:
        free[solved[WINDOW:-WINDOW]] = False
    else:
        free[solved[len(solved) // 2]] = False
    movable, held = np.nonzero(free)[0], np.nonzero(problem.solved & ~free)[0]
    near = free.copy()
    near[held[np.abs(held[:, None] - movable[None]).min(1) <= HELD_REACH]] = True
    bundle, rows = problem.bundle(near, tracks, free, replace(freedom, lens=()), GROW_SCALE)
    problem.update(adjust(bundle, 6, 1e-3).bundle, rows)
