"""Every track withheld once: the check residual over all tracks instead of a few (k-fold cross-validation; Stone 1974).

The tracks are parted at random; each part is left out in turn, the camera adjusted to the others from the solution, and
the part triangulated and judged by the finished camera, as check tracks are.
"""

from dataclasses import dataclass

import numpy as np

from amberkeel.core.errors import SolveError
from amberkeel.core.progress import Progress
from amberkeel.core.solve.adjust_shot import NEARLY
from amberkeel.core.solve.check_tracks import LEAST_ACTIVE
from amberkeel.core.solve.grow import adjust_all
from amberkeel.core.solve.motions import LOCKED
from amberkeel.core.solve.outliers import FINAL_SCALE, OUTLIER, RAYLEIGH_MEDIAN
from amberkeel.core.solve.problem import Problem
from amberkeel.core.solve.refusals import LEAST_TRACKS
from amberkeel.core.solve.residuals import rms
from amberkeel.core.solve.shot import Solved
from amberkeel.core.solve.surveyed import least_known, put_back

MOST_FOLDS = 20

MOST_ALONE = LEAST_ACTIVE - 1
"""Tracks up to which each is left out by itself in turn where none is withheld."""

ALONE = (6, 1e-4, FINAL_SCALE)
"""Iterations, tolerance and Cauchy scale of the adjustment without a single track: it begins near its end."""

MOST_SIGMAS = 100.0
"""Sigmas at which a measurement of a track that is left out is cut off."""

WIDER = 3.0
"""By how much more a measurement may then disagree before it is in no figure."""

GAUGE, MOST_LEVERAGE = 7, 0.8
"""Degrees of freedom that no camera path has of its own, and the most that cameras are taken to bend to tracks."""

LEFT = 7
"""Tracks that must be left when each is left out by itself."""


@dataclass(frozen=True)
class Folds:
    """What cross-validation found.

    Attributes
    ----------
    count : parts. rms_px : RMS residual of all tracks when they were withheld. used_rms_px : of the same measurements
    when they were used. outlier_share : share of the measurements that disagree only when they are withheld; they are
    in neither figure. part_rms_px : `rms_px` of each part. expected : `rms_px` over `used_rms_px` where all is well:
    few tracks are bent to by the cameras that they find, so that each fits better when it is used; None for known
    points, some of which carry far more than others. each : where every part is one track, its row (once the solve
    is concluded, its id) and its RMS residual, pixels, each measurement cut off at `MOST_SIGMAS`.
    """

    count: int
    rms_px: float
    used_rms_px: float
    outlier_share: float
    part_rms_px: tuple[float, ...]
    expected: float | None = 1.0
    each: tuple[tuple[int, float], ...] = ()


def check_folds(count: int) -> None:
    """Raise SolveError for a number of parts that cannot be; 0 is for none."""
    if count != 0 and not 2 <= count <= MOST_FOLDS:
        raise SolveError(f"{count} folds are impossible.", f"Choose 2 to {MOST_FOLDS}, such as 5, or none.")


def each_in_turn(solved: Solved) -> int:
    """Return in how many parts a shot's tracks are left out where none is withheld: each by itself, or none where they
    are too few or so many that some should have been withheld.
    """
    used = int((solved.problem.active & solved.problem.triangulated).sum())
    return used if solved.motion != LOCKED and _least_left(solved) < used <= MOST_ALONE else 0


def _least_left(solved: Solved) -> int:
    """Return how many tracks must be left when each is left out by itself."""
    return least_known("focal" in solved.freedom.lens) if solved.problem.surveyed.any() else LEFT


def cross_validated(solved: Solved, count: int, seed: int, progress: Progress) -> Folds:
    """Return the residuals of every track when the camera was adjusted without it.

    Parameters
    ----------
    solved : adjusted; it is left as it is. count : parts of the tracks, at least 2. seed : of the parting. progress :
        called with the share done.

    Raises
    ------
    SolveError : too few tracks to leave any out.
    """
    problem = solved.problem
    used = np.nonzero(problem.active & problem.triangulated)[0]
    if len(used) - len(used) // count < (_least_left(solved) if count == len(used) else LEAST_TRACKS + 1):
        raise SolveError(f"{len(used)} tracks are too few to leave some out.", "Follow more features.")
    part = np.full(len(problem.rhos), -1)
    part[np.random.default_rng(seed).permutation(used)] = np.arange(len(used)) % count
    counted = problem.weights() > 0.0
    as_known = problem.copied()
    put_back(as_known, problem.surveyed, solved.freedom.terms)
    before, after = as_known.residuals(problem.active), np.full((len(problem.camera), 2), np.nan)
    for k in range(count):
        progress(k / count, f"Leaving out part {k + 1} of {count}")
        trial, out = problem.copied(), part == k
        trial.active &= ~out
        adjust_all(trial, solved.freedom, *(ALONE if count == len(used) else NEARLY))
        trial.triangulate(out, FINAL_SCALE)
        put_back(trial, out & trial.surveyed, solved.freedom.terms)
        own = out[problem.track]
        after[own] = trial.residuals(out)[own]
    sigma = (problem.sigma * problem.scale[problem.track])[:, None]
    error = np.linalg.norm(np.nan_to_num(after / sigma, nan=np.inf), axis=1)
    scale = max(1.0, float(np.median(error[counted])) / RAYLEIGH_MEDIAN) if counted.any() else 1.0
    # Of few tracks each one left out says much, and what serves was judged when it was used.
    agree = counted & (error <= OUTLIER * scale * (WIDER if count == len(used) else 1.0))
    parts = [rms(after[agree & (part[problem.track] == k)]) for k in range(count)]
    share = 1.0 - agree.sum() / max(counted.sum(), 1)
    each = _each(problem, after, error, used) if count == len(used) else ()
    return Folds(
        count, rms(after[agree]), rms(before[agree]), float(share), tuple(parts), _expected(problem, counted), each
    )


def _each(problem: Problem, after: np.ndarray, error: np.ndarray, used: np.ndarray) -> tuple[tuple[int, float], ...]:
    """Return the row of each track and its RMS residual when it was left out, pixels.

    Parameters
    ----------
    after : (N, 2) residuals then. error : (N,) their lengths in sigmas. used : rows of the tracks.
    """
    kept = problem.inlier & np.isfinite(after).all(1)
    length = np.linalg.norm(np.nan_to_num(after), axis=1)
    length *= np.minimum(1.0, MOST_SIGMAS / np.maximum(np.where(kept, error, MOST_SIGMAS), 1e-9))
    seen = kept & problem.solved[problem.camera]
    count = np.bincount(problem.track[seen], minlength=len(problem.rhos))
    squares = np.bincount(problem.track[seen], length[seen] ** 2, len(problem.rhos))
    return tuple((int(t), float(np.sqrt(squares[t] / max(count[t], 1)))) for t in used)


def _expected(problem: Problem, counted: np.ndarray) -> float | None:
    """Return by how much residuals grow when they are left out, in the mean: one over what the cameras leave of them
    (the leverage of linear least squares; Cook and Weisberg 1982, chapter 2). The points are found anew in both cases.
    """
    if problem.surveyed.any():
        return None
    tracks = np.unique(problem.track[counted])
    left = 2 * int(counted.sum()) - 3 * len(tracks)
    cameras = int(problem.movable[problem.solved].sum()) - GAUGE
    return float(1.0 / (1.0 - min(max(cameras, 0) / max(left, 1), MOST_LEVERAGE)))
