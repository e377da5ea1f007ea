"""Depth reversal: with little parallax a solve has a twin in which near and far are exchanged.

Where the camera moves little against its distance, image motion is nearly that of a scaled orthographic view, which a
scene and its mirror image in depth give alike, the camera turning and moving the other way round (Necker's reversal;
Koenderink and van Doorn 1991; for structure from motion Szeliski and Kang 1997). The twin is a minimum of its own, so
no adjustment leads from one to the other: both are tried, and the lower one is kept.
"""

import numpy as np

from amberkeel.core.solve.grow import GROW_SCALE, adjust_all, settle
from amberkeel.core.solve.lens_plan import Freedom
from amberkeel.core.solve.problem import Problem
from amberkeel.core.solve.start import resect_frame

REACH = 0.25
"""Travel of the camera over the usual distance of the points, from which perspective tells near from far by itself."""

STEPS, LOOK, ROUND = 25, 9, 4
"""Steps of adjusting each of the two at the most, those after which a twin is first looked at, and between looks."""

HOPELESS, SLOWLY = 3.0, 0.8
"""A twin that costs so many times the other, and a round leaves more than this share of that, is given up: those that
matter come down to the other's cost within ten steps, others stay at ten times that.
"""

SAME_DEPTHS = 0.9
"""Correlation of inverse depths from which two solves are one; that of true twins is below 0."""

MOST_WHITENED = 10.0
"""Whitened residual to which each measurement counts, so that outliers do not choose between the twins."""

ALIKE = 12.0
"""By how much the twin's whitened sum of squares must be higher for near and far to count as determined."""


def twin_of(problem: Problem) -> Problem | None:
    """Return a start for a solved problem's twin with depth reversed; None where perspective tells near from far."""
    first = problem.centres[problem.first_solved]
    placed = problem.active & problem.triangulated & (problem.rhos > 0.0)
    travel = float(np.linalg.norm(problem.centres[problem.solved] - first, axis=1).max())
    if placed.sum() < 8 or travel * float(np.median(problem.rhos[placed])) > REACH:
        return None
    twin = _reversed(problem, first, placed)
    for row in np.nonzero(twin.solved)[0]:
        resect_frame(twin, int(row), twin.active, 4.0 * GROW_SCALE)
    return twin


def adjusted_cost(problem: Problem, freedom: Freedom, rival: float = np.inf) -> float:
    """Return the bounded whitened sum of squares, over the measurements in use, to which a problem can be adjusted; no
    more than a bound of it from above where it is clear that it stays well over that of a rival.

    Parameters
    ----------
    problem : adjusted in place. freedom : what of the lens may change. rival : sum of squares to compare with.
    """
    if np.isinf(rival):
        settle(problem, freedom, STEPS)
        return _cost(problem)
    settle(problem, freedom, LOOK)
    cost = _cost(problem)
    for _ in range(LOOK, STEPS, ROUND):
        before = cost
        adjust_all(problem, freedom, ROUND, 1e-4, GROW_SCALE)
        cost = _cost(problem)
        if cost > HOPELESS * rival and cost > SLOWLY * before:
            break
    return cost


def came_back(problem: Problem, twin: Problem) -> bool:
    """Return whether an adjusted twin has near and far as the problem has them: reversed, it found no minimum.

    Parameters
    ----------
    problem, twin : both adjusted.
    """
    both = problem.active & problem.triangulated & twin.triangulated
    return bool(both.sum() > 2 and np.corrcoef(problem.rhos[both], twin.rhos[both])[0, 1] > SAME_DEPTHS)


def _reversed(problem: Problem, first: np.ndarray, placed: np.ndarray) -> Problem:
    """Return a start for the twin: inverse depths about their middle and the camera's path about its beginning."""
    twin = problem.copied()
    low, high = np.percentile(problem.rhos[placed], [2, 98])
    twin.rhos = np.clip(low + high - problem.rhos, 0.2 * low, None)
    twin.centres, twin.anchors = 2.0 * first - problem.centres, 2.0 * first - problem.anchors
    return twin


def _cost(problem: Problem) -> float:
    """Return the bounded whitened sum of squares over what is in use."""
    return float((np.minimum(problem.whitened(problem.active)[0], MOST_WHITENED) ** 2).sum())
