"""A camera that turns and zooms: the course of its focal length from how the picture grows, then as without a zoom.

Two frames of a camera that turns by a few degrees differ by a similarity about the optical centre, whose scale is the
ratio of their focal lengths, but for terms of the second order in the turn that are alike on both sides of the centre
(Hartley and Zisserman 2004, 8.4). Pixels scaled back by it are those of a camera that only turns.
"""

import cv2
import numpy as np

from amberkeel.core.geometry.pixels import to_opencv
from amberkeel.core.progress import Progress
from amberkeel.core.solve.grow import GROW_SCALE, settle
from amberkeel.core.solve.lens_plan import Freedom, LensPlan, zoom_along
from amberkeel.core.solve.problem import Problem
from amberkeel.core.solve.start import START_SCALE
from amberkeel.core.solve.turn import misfit, neighbours, turning

AGREE_PX = 3.0
"""Distance within which a track follows the similarity of two neighbouring frames, pixels."""

ROUNDS = ((20, START_SCALE), (20, START_SCALE), (20, GROW_SCALE))
"""Iterations and Cauchy scale of the rounds in which the focal length is let go."""


def zooming_turn(
    problem: Problem, plan: LensPlan, freedom: Freedom, width: int, progress: Progress, most: float = np.inf
) -> Problem | None:
    """Return a problem with all frames solved as a camera that turns and zooms, adjusted.

    Parameters
    ----------
    problem : with nothing solved; it is left as it is. plan : what the solve may do with the lens. freedom : the same
        with the zoom. width : of the picture, pixels. most : median whitened residual above which that does not explain
        the tracks.

    Returns
    -------
    The problem, or None where it does not explain the tracks.

    Raises
    ------
    SolveError : neighbouring frames without common tracks.
    """
    course = log_focal_course(problem)
    centre = np.array([plan.start.cx, plan.start.cy])
    even = problem.copied()
    even.xy = centre + (problem.xy - centre) * np.exp(-course[problem.camera])[:, None]
    even.sigma = problem.sigma * np.exp(-course[problem.camera])
    turned = turning(even, plan, width, progress)
    if turned is None:
        return None
    turned.xy, turned.sigma = problem.xy, problem.sigma
    turned.zoom_basis, turned.zoom = zoom_along(course)
    for iterations, scale in ROUNDS:
        settle(turned, freedom, iterations, scale)
    return turned if misfit(turned) <= most else None


def log_focal_course(problem: Problem) -> np.ndarray:
    """Return the logarithm of each frame's focal length over their mean (F,), from how neighbouring frames grow."""
    grown = np.zeros(len(problem.frames))
    for pair in neighbours(problem, np.arange(len(problem.frames))):
        matrix, _ = cv2.estimateAffinePartial2D(
            to_opencv(pair.xa), to_opencv(pair.xb),
            method=cv2.RANSAC, ransacReprojThreshold=AGREE_PX,
        )  # fmt: skip
        grown[pair.b] = 0.0 if matrix is None else np.log(np.hypot(matrix[0, 0], matrix[1, 0]))
    course = np.cumsum(grown)
    return course - course.mean()
