"""A solved shot adjusted to the end: outliers judged by their residuals, further coefficients tried, tracks weighed."""

from dataclasses import replace

import numpy as np

from amberkeel.core.errors import SolveError
from amberkeel.core.progress import Progress
from amberkeel.core.solve.grow import adjust_all, settle
from amberkeel.core.solve.lens_plan import Freedom
from amberkeel.core.solve.outliers import FINAL_SCALE, at_the_lens, find_outliers
from amberkeel.core.solve.problem import Problem
from amberkeel.core.solve.refusals import least_tracks
from amberkeel.core.solve.shot import Solved
from amberkeel.core.solve.track_noise import track_scales

CLEARLY = 4.0
"""Sigmas by which a further coefficient must differ from 0 to be estimated."""

CYCLE_SCALES = (4.0, 3.0, FINAL_SCALE, FINAL_SCALE)
"""Cauchy scales of the rounds of adjusting and judging outliers, in sigmas."""

MOST_PASSES = 5
"""Passes of leaving out points that have run up to the lens: others may follow them."""

ROUGHLY = (12, 1e-5, FINAL_SCALE)
"""Iterations, tolerance and Cauchy scale of an adjustment that another one follows."""

NEARLY = (25, 1e-6, FINAL_SCALE)
"""The same where explanations are compared after it."""

TO_THE_END = (40, 1e-8, FINAL_SCALE)
"""Iterations, tolerance and Cauchy scale of the last adjustment."""


def finished(
    problem: Problem,
    freedom: Freedom,
    later: tuple[str, ...],
    progress: Progress,
    scales: tuple[float, ...] = CYCLE_SCALES,
    last: tuple[int, float, float] | None = None,
) -> Solved:
    """Return a shot adjusted, outliers judged by their residuals after each round.

    Parameters
    ----------
    problem : solved; it is left as it is. freedom : what of the lens may change. later : coefficients that are tried
        on the way. scales : Cauchy scale of each round, in sigmas. last : iterations, tolerance and Cauchy scale of the
        adjustment after them, `NEARLY` by default.

    Raises
    ------
    SolveError : too few tracks agree.
    """
    problem = problem.copied()
    everyone = problem.active.copy()
    dropped = np.zeros(len(problem.rhos), bool)
    for cycle, scale in enumerate(scales):
        progress(cycle / len(scales), "Adjusting cameras, points and lens")
        problem.active = everyone & ~dropped
        settle(problem, freedom, 30 if cycle else 20, scale)
        if cycle == 1:
            problem, freedom = _more_lens(problem, freedom, later, scale)
        problem, dropped = find_outliers(problem, everyone)
        held = not freedom.lens and not later
        turns = not problem.movable[problem.solved][:, 3:].any()
        needed = problem.least or least_tracks(turns, "focal" in freedom.lens, held)
        if (everyone & ~dropped).sum() < needed:
            raise SolveError(
                f"Fewer than {needed} tracks agree with any one camera.",
                "Mask what moves, or follow more features.",
            )
    problem.active = everyone & ~dropped
    problem.triangulate(problem.active, FINAL_SCALE)
    adjust_all(problem, freedom, *(last or NEARLY))
    return Solved(problem, freedom, dropped)


def _more_lens(problem: Problem, freedom: Freedom, later: tuple[str, ...], scale: float) -> tuple[Problem, Freedom]:
    """Free further coefficients while the shot determines them clearly; return the problem and what is free then."""
    for name in later:
        trial, wider = problem.copied(), freedom.with_value(name)
        settle(trial, wider, 20, scale)
        sure = Solved(trial, wider, ~trial.active).uncertainty(clustered=False)
        if abs(trial.lens.value(name)) < CLEARLY * sure.sigma(name):
            break
        problem, freedom = trial, wider
    return problem, freedom


def without_near(solved: Solved) -> Solved:
    """Return a shot adjusted without points that have run up to the lens, if there are any; see `at_the_lens`."""
    problem, dropped = solved.problem.copied(), solved.dropped.copy()
    for _ in range(MOST_PASSES):
        near = at_the_lens(problem, problem.active) & problem.active
        if not near.any():
            break
        problem.active, dropped = problem.active & ~near, dropped | near
        adjust_all(problem, solved.freedom, *NEARLY)
    return replace(solved, problem=problem, dropped=dropped)


def weigh(problem: Problem, freedom: Freedom) -> None:
    """Estimate each track's noise anew from its residuals, in place; see `track_noise`.

    Parameters
    ----------
    problem : adjusted. freedom : what of the lens was free.
    """
    bundle, rows = problem.bundle(problem.solved, problem.active, problem.solved, freedom)
    problem.scale[rows.points] = track_scales(bundle, 1.0 / problem.sigma[rows.observations])
