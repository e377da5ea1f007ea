"""A solution taken up again as a problem: what tries and tests its model further."""

from dataclasses import replace

import numpy as np

from amberkeel.core.solve.again import take_cameras, take_freedom, take_lens, take_motion
from amberkeel.core.solve.lens_plan import Freedom
from amberkeel.core.solve.outliers import FINAL_SCALE
from amberkeel.core.solve.problem import Problem
from amberkeel.core.solve.radial_lens import READOUT_NAME
from amberkeel.core.solve.rows import row_drift
from amberkeel.core.solve.solution import Solution
from amberkeel.core.solve.solve import ask


def resumed(
    solution: Solution, most_tracks: int = 0, seed: int = 0, rows: np.ndarray | None = None
) -> tuple[Problem, Freedom]:
    """Return a solution's problem, its cameras, lens and inliers as they are and its points triangulated, and what of
    the lens was free.

    Parameters
    ----------
    solution : solved from tracks, with no lens held as a map. most_tracks : that serve, taken at random among those in
        use; 0 for all. seed : of that choice. rows : (K,) of the path that are taken, rising; None for all.
    """
    path, lens = solution.path if rows is None else solution.path.taken(rows), solution.path.lens
    recipe = replace(solution.recipe, begin=path, within=None, motion=solution.motion, evidence=())
    kept = np.isin(solution.tracks.frames, path.frames)
    asked = ask(solution.tracks, path.frames, lens.width, lens.height, recipe)
    problem = asked.problem()
    take_cameras(problem, path)
    motion = take_motion(recipe.motion, problem)
    take_lens(problem, path, asked)
    freedom = take_freedom(asked, problem, motion)
    problem.inlier = ~solution.outlier[kept]
    used = np.nonzero(problem.active)[0]
    if most_tracks and len(used) > most_tracks:
        problem.active[np.random.default_rng(seed).permutation(used)[most_tracks:]] = False
    if problem.lens.readout or READOUT_NAME in freedom.lens:
        problem.drift = row_drift(problem, problem.lens.readout)
    problem.triangulate(problem.active, FINAL_SCALE)
    return problem, freedom
