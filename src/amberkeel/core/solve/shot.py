"""A shot as it is to be solved, and as it is solved, before it is judged."""

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from amberkeel.core.errors import Cancelled
from amberkeel.core.solve.bundle import Bundle
from amberkeel.core.solve.lens_plan import Freedom, LensPlan, zooming
from amberkeel.core.solve.motions import FREE, LOCKED, PLANE, Rival
from amberkeel.core.solve.outliers import FINAL_SCALE
from amberkeel.core.solve.problem import Problem, Rows, make_problem
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.refusals import LEAST_ON_A_PLANE
from amberkeel.core.solve.start import FEW, Begun
from amberkeel.core.solve.uncertainty import Uncertainty, stated_uncertainty, uncertainty
from amberkeel.core.tracks import ACTIVE, TrackSet

if TYPE_CHECKING:
    from amberkeel.core.solve.evidence.statement import PlaneThrough

LEAST_PART = 10
"""Frames that must hold together for a solve that breaks to be kept, and for a camera to begin from."""


class Stopped(Cancelled):
    """A solve that was cancelled when something stood already: `best` is that."""

    def __init__(self, best: "Solved"):
        super().__init__()
        self.best = best


@contextmanager
def keeping(best: "Solved") -> Iterator[None]:
    """Keep what stands when what follows is cancelled: it is raised as `Stopped`."""
    try:
        yield
    except Stopped:
        raise
    except Cancelled:
        raise Stopped(best) from None


@dataclass(frozen=True)
class Asked:
    """A shot to solve.

    Attributes
    ----------
    measured : tracks as given, in the states the solve uses. tracks : the same, straightened where a lens is held.
    frames : (F,) frame numbers. recipe : what is asked. plan : what the solve may do with the lens. size : of the
    picture, pixels.
    """

    measured: TrackSet
    tracks: TrackSet
    frames: np.ndarray
    recipe: Recipe
    plan: LensPlan
    size: tuple[int, int]

    @property
    def freedom(self) -> Freedom:
        """What of the lens may change from the start, the zoom in it."""
        return zooming(self.plan) if self.recipe.zoom else self.plan.free

    def problem(self) -> Problem:
        """Return the problem with nothing solved yet."""
        active = self.tracks.in_state(ACTIVE)
        out = make_problem(self.tracks, self.frames, self.plan.start, active, self.size[1])
        out.least = LEAST_ON_A_PLANE if self.recipe.motion == PLANE else None
        out.gain = np.array([self.recipe.weights.get(kind, 1.0) for kind in self.tracks.kinds])
        return out


@dataclass(frozen=True)
class Solved:
    """A shot with its camera adjusted, before it is judged.

    Attributes
    ----------
    problem : all of it solved; only the tracks that agree are active. freedom : what of the lens was free in the end.
    dropped : (T,) bool, tracks that are outliers as a whole. twin : by how much the solve with depth reversed is worse.
    motion : how the camera moves. rivals : the explanations that were compared.
    rms_before_px : RMS residual before evidence was added, None without any. standing : stretches in which the camera
    stands still and is held, first and last frame number of each. plane : the constraint that all points lie on one
    plane, where that explains them best. begun : the frames from which a moving camera was found.
    """

    problem: Problem
    freedom: Freedom
    dropped: np.ndarray
    twin: float = np.inf
    motion: str = FREE
    rivals: tuple[Rival, ...] = ()
    rms_before_px: float | None = None
    standing: tuple[tuple[int, int], ...] = ()
    plane: "PlaneThrough | None" = None
    begun: Begun | None = None

    def final_bundle(self) -> tuple[Bundle, Rows]:
        """Return the bundle of all that counts, all cameras free, and its rows."""
        problem = self.problem
        return problem.bundle(problem.solved, problem.active, problem.solved, self.freedom, FINAL_SCALE)

    def stated_weights(self) -> np.ndarray:
        """Return one over the stated sigma (N,) of each measurement of the final bundle."""
        return 1.0 / self.problem.sigma[self.final_bundle()[1].observations]

    def uncertainty(self, clustered: bool = True) -> Uncertainty:
        """Return how sure the camera, its lens and the points are; see `uncertainties`."""
        bundle, rows = self.final_bundle()
        weights = 1.0 / self.problem.sigma[rows.observations]
        if self.motion == LOCKED:
            return stated_uncertainty(bundle, weights, self.freedom)
        # Without one of a few known points the camera is another one: what they share says nothing.
        alone = self.problem.surveyed.any() and len(rows.points) < FEW
        return uncertainty(bundle, weights, clustered and not alone)
