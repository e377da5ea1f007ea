"""A locked-off camera: nothing moves, so all that is left to find is where each track lies in the picture."""

from amberkeel.core.errors import SolveError
from amberkeel.core.solve.lens_plan import Freedom
from amberkeel.core.solve.motions import LOCKED
from amberkeel.core.solve.outliers import FINAL_SCALE, find_outliers
from amberkeel.core.solve.refusals import LEAST_TRACKS
from amberkeel.core.solve.shot import Asked, Solved
from amberkeel.core.solve.start import stands_still


def locked(asked: Asked) -> Solved:
    """Return a shot solved as a camera that neither moves nor turns, through the lens that is known.

    Raises
    ------
    SolveError : no focal length is known, which a still picture cannot tell, or the tracks move.
    """
    if asked.plan.search:
        raise SolveError(
            "A locked-off camera does not tell its focal length.",
            "Give it: type it, hold a lens profile, or draw axis lines in the Lens stage.",
        )
    problem = asked.problem()
    if not stands_still(problem):
        raise SolveError("The tracks move, so this camera is not locked off.", "Ask for an automatic one.")
    everyone = problem.active.copy()
    problem.solved[:] = True
    problem.movable[:] = False
    problem.triangulate(everyone, FINAL_SCALE)
    problem, dropped = find_outliers(problem, everyone)
    if (everyone & ~dropped).sum() < LEAST_TRACKS:
        raise SolveError("Fewer than eight tracks stand still.", "Mask what moves, or let the camera move.")
    problem.active = everyone & ~dropped
    return Solved(problem, Freedom((), asked.plan.free.terms), dropped, motion=LOCKED)
