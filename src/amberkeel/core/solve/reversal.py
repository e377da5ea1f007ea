"""Depth reversal: with little parallax a solve has a twin in which near and far are exchanged.

Where the camera moves little against its distance, image motion is nearly that of a scaled orthographic view, which a
scene and its mirror image in depth give alike, the camera turning and moving the other way round (Necker's reversal;
Koenderink and van Doorn 1991; for structure from motion Szeliski and Kang 1997). The twin is a minimum of its own, so
no adjustment leads from one to the other: both are tried, and the lower one is kept.
"""

import numpy as np

from amberkeel.core.solve.grow import GROW_SCALE, settle
from amberkeel.core.solve.lens_plan import Freedom
from amberkeel.core.solve.problem import Problem
from amberkeel.core.solve.side_by_side import side_by_side
from amberkeel.core.solve.start import resect_frame

REACH = 0.25
"""Travel of the camera over the usual distance of the points, from which perspective tells near from far by itself."""

STEPS = 25

MOST_WHITENED = 10.0
"""Whitened residual to which each measurement counts, so that outliers do not choose between the twins."""

ALIKE = 12.0
"""By how much the twin's whitened sum of squares must be higher for near and far to count as determined."""


def better_of_twins(problem: Problem, freedom: Freedom) -> tuple[Problem, float]:
    """Return the better of a solved problem and its twin with depth reversed, and by how much the other is worse.

    That is a difference of whitened sums of squares of the measurements in use; infinite where no twin was tried.
    """
    first = problem.centres[problem.first_solved]
    placed = problem.active & problem.triangulated & (problem.rhos > 0.0)
    travel = float(np.linalg.norm(problem.centres[problem.solved] - first, axis=1).max())
    if placed.sum() < 8 or travel * float(np.median(problem.rhos[placed])) > REACH:
        return problem, np.inf
    own, twin = problem.copied(), _reversed(problem, first, placed)
    for row in np.nonzero(twin.solved)[0]:
        resect_frame(twin, int(row), twin.active, 4.0 * GROW_SCALE)

    def cost(trial: Problem) -> float:
        settle(trial, freedom, STEPS)
        return _cost(trial)

    costs = side_by_side(cost, (own, twin), len(problem.track))
    better = int(costs[1] < costs[0])
    return (own, twin)[better], costs[1 - better] - costs[better]


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
